"""Whether an S3-compatible store accepts signatures of the first generation (HMAC-SHA1 over the date)."""

from __future__ import annotations

import base64
import hmac
from datetime import UTC, datetime
from email.utils import format_datetime
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import TRIES, Client
from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.tls_check import apart, at_any

QUESTION = "GET / with a signature of the first generation"
TRIES_ELSEWHERE = 2
"""A node that is away is not waited for."""


async def takes_legacy_signatures(client: Client, moment: datetime) -> Answer[bool]:
    """Whether a list of buckets is given to such a signature, at any of the store's addresses."""
    if not isinstance(client.auth, Signed) or client.auth.key.session:
        return Answer("failed", None, "not tried with a session's credential")
    key, now = client.auth.key, client.clock() + client.skew

    async def at(address: str, tries: int, mark: str = "legacy") -> Answer[bool]:
        store, memory = msgspec.structs.replace(client.store, at=address), apart(client.memory, mark)
        try:
            async with Client(store, None, client.folder, memory=memory, log=client.log, tries=tries) as other:
                reply = await other.ask(headers=_signed(key, urlsplit(address).path, now))
        except RequestFailed as error:
            return Answer("failed", None, error.note, Evidence(QUESTION, error.answer, moment))
        evidence = Evidence(QUESTION, str(reply.status), moment)
        if reply.status in (200, 400, 401, 403):
            return Answer("known", reply.status == 200, "", evidence)
        return Answer("failed", None, f"answered {reply.status}", evidence)

    others = [address for address in client.store.other_addresses if address != client.store.at]
    shown = [(address, await at(address, TRIES_ELSEWHERE, f"legacy {address}")) for address in others]
    return at_any(await at(client.store.at, TRIES), shown)


def _signed(key: AccessKey, path: str, now: datetime) -> dict[str, str]:
    """The headers of a request for the list of buckets."""
    date = format_datetime(now.astimezone(UTC), usegmt=True)
    to_sign = f"GET\n\n\n{date}\n{path.rstrip('/')}/"
    signature = base64.b64encode(hmac.digest(key.secret.encode(), to_sign.encode(), "sha1")).decode()
    return {"authorization": f"AWS {key.key_id}:{signature}", "date": date}
