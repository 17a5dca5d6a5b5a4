"""How requests of the blob protocol are authorized: by the account's own key, or by a signed link.

Source: the protocol's documentation, "Authorize with Shared Key" (2009-09-19 and later), and of shared access
signatures. The version of the protocol is pinned: what an answer holds depends on it.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from email.utils import format_datetime
from urllib.parse import parse_qsl, urlsplit

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import Place, Problem
from rusty_lantern.stores.http.errors import NoCredential
from rusty_lantern.stores.http.question import Method, Question
from rusty_lantern.stores.http.reply import Reply

VERSION = "2021-12-02"
"""The version of the protocol that is used."""
HEADERS = {"x-ms-version": VERSION}
"""What every request carries, authorized or not."""
_SIGNED = (
    "content-encoding", "content-language", "content-length", "content-md5", "content-type", "date",
    "if-modified-since", "if-match", "if-none-match", "if-unmodified-since", "range",
)  # fmt: skip
"""The headers whose values are signed, in this order."""


@dataclass(frozen=True)
class SharedKey:
    """A signature by one of the account's keys, which open everything in it."""

    account: str
    key: bytes = field(repr=False)
    added_query: str = ""

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """The request's headers with its signature."""
        sent = {**question.headers, "x-ms-date": format_datetime(moment, usegmt=True)}
        to_sign = self.to_sign(question.method, question.path, question.query, sent)
        signed = hmac.new(self.key, to_sign.encode(), hashlib.sha256).digest()
        written = f"SharedKey {self.account}:{base64.b64encode(signed).decode()}"
        return {"host": question.host, **sent, "authorization": written}

    def to_sign(self, method: Method, path: str, query: str, sent: Mapping[str, str]) -> str:
        """What is signed: the method, some headers, all of the protocol's own, and the resource with its query."""
        own = "".join(f"{name}:{value}\n" for name, value in sorted(sent.items()) if name.startswith("x-ms-"))
        values_of: dict[str, list[str]] = {}
        for name, value in parse_qsl(query, keep_blank_values=True):
            values_of.setdefault(name.lower(), []).append(value)
        parameters = "".join(f"\n{name}:{','.join(sorted(values))}" for name, values in sorted(values_of.items()))
        lines = [method, *(sent.get(name, "") for name in _SIGNED)]
        return "\n".join(lines) + f"\n{own}/{self.account}{path}{parameters}"

    def disowned(self, reply: Reply) -> bool:
        """Whether the store does not take the signature."""
        return reply.status in (401, 403)

    def expired(self, reply: Reply) -> bool:
        """A key does not end by itself."""
        return False

    async def renewed(self) -> None:
        """There is no other key."""


@dataclass(frozen=True)
class SignedLink:
    """A signed link as a credential: what it says is added to the query of every request, and is kept nowhere."""

    added_query: str = field(repr=False)

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """The request's headers: the link itself is in the query."""
        return {"host": question.host, **question.headers}

    def disowned(self, reply: Reply) -> bool:
        """Whether the store does not take the link."""
        return reply.status in (401, 403)

    def expired(self, reply: Reply) -> bool:
        """A link that is over is refused like one that never was good."""
        return False

    async def renewed(self) -> None:
        """There is no other link."""


def shared_key(store: StoreConfig, secret: str) -> SharedKey:
    """A signature by an account key, which is written in base 64. Raises `NoCredential`."""
    try:
        key = base64.b64decode(secret, validate=True)
    except (binascii.Error, ValueError):
        key = b""
    if not key:
        raise _refused("the account key is not written in base 64", store.credential.place)
    return SharedKey(account_of(store.at), key)


def signed_link(store: StoreConfig, secret: str) -> SignedLink:
    """A signed link, whole or its query alone. Raises `NoCredential`."""
    query = urlsplit(secret).query if "://" in secret else secret.removeprefix("?")
    if not any(name == "sig" for name, _ in parse_qsl(query)):
        raise _refused("the signed link has no signature (sig=)", store.credential.place)
    return SignedLink(query)


def _refused(why: str, place: Place | None) -> NoCredential:
    return NoCredential(Problem(why, place))


def account_of(at: str) -> str:
    """The account that an address is one of: the first part of its path, or of its host.

    >>> account_of("https://blobs.example/keeper"), account_of("https://keeper.blobs.example")
    ('keeper', 'keeper')
    """
    parts = urlsplit(at)
    return parts.path.strip("/").partition("/")[0] or (parts.hostname or "").partition(".")[0]
