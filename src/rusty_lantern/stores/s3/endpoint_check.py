"""The front of an S3-compatible store: its certificate, plain http, and which signatures it accepts."""

from __future__ import annotations

import asyncio
import base64
import hmac
from datetime import UTC, datetime
from email.utils import format_datetime
from typing import Any
from urllib.parse import urlsplit

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.tls_check import answers_plain_http, apart, read_certificate


async def front_door(client: Client, moment: datetime, *, answered: bool = True) -> dict[str, Any]:
    """The dossier's fields about the door itself. Never raises for what the store does.

    Where the store has not `answered` anything else, only its certificate is looked at: it may be the reason.
    """
    if not answered:
        return {"certificate": await read_certificate(client.store, client.folder, moment)}
    certificate, plain, legacy = await asyncio.gather(
        read_certificate(client.store, client.folder, moment),
        answers_plain_http(client, moment),
        _legacy(client, moment),
    )
    return {"certificate": certificate, "plain_http": plain, "legacy_signatures": legacy}


async def _legacy(client: Client, moment: datetime) -> Answer[bool]:
    """Whether a list of buckets is given to a signature of the first generation (HMAC-SHA1 over the date)."""
    if not isinstance(client.auth, Signed) or client.auth.key.session:
        return Answer("failed", None, "not tried with a session's credential")
    key = client.auth.key
    now = datetime.now(UTC) if client.clock is None else client.clock() + client.skew
    date = format_datetime(now, usegmt=True)
    path = urlsplit(client.store.at).path.rstrip("/") + "/"
    to_sign = f"GET\n\n\n{date}\n{path}"
    signed = base64.b64encode(hmac.digest(key.secret.encode(), to_sign.encode(), "sha1")).decode()
    headers = {"authorization": f"AWS {key.key_id}:{signed}", "date": date}
    question = "GET / with a signature of the first generation"
    try:
        async with Client(client.store, None, client.folder, memory=apart(client, "legacy"), log=client.log) as other:
            reply = await other.ask(headers=headers)
    except RequestFailed as error:
        return Answer("failed", None, error.note, Evidence(question, error.answer, moment))
    if reply.status in (200, 400, 401, 403):
        return Answer("known", reply.status == 200, "", Evidence(question, str(reply.status), moment))
    return Answer("failed", None, f"answered {reply.status}", Evidence(question, str(reply.status), moment))
