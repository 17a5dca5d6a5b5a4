"""How questions to a store are authorized: what a scheme adds to a request, and how it reads a refusal.

The client knows no scheme. One is made from the credential that the estate file names.
"""

from __future__ import annotations

import math
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import ClassVar, Protocol

from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.question import Question
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.sigv4 import sign


class Authorization(Protocol):
    """One way to show a credential."""

    @property
    def added_query(self) -> str:
        """What is added to the query of every request, encoded. It is a secret: no log and no journal sees it."""

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """All headers of an authorized request. `moment` is by the store's clock."""

    def disowned(self, reply: Reply) -> bool:
        """Whether a store says that it does not know the credential, or not any more."""

    def expired(self, reply: Reply) -> bool:
        """Whether a store says that the credential was good once, and is over."""

    async def renewed(self) -> Authorization | None:
        """Another credential in its place; None where there is none."""


_DISOWNED = (b"<Code>InvalidAccessKeyId</Code>", b"<Code>ExpiredToken</Code>", b"<Code>InvalidToken</Code>")


@dataclass(frozen=True)
class Signed:
    """Signature version 4 by an access key."""

    added_query: ClassVar[str] = ""
    key: AccessKey
    region: str
    service: str = "s3"
    find_again: Callable[[], AccessKey] | None = None
    """Reads the credential anew from where it was found."""

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """The request's headers with its signature."""
        method, host, path, query, extra, _, region = question
        return sign(self.key, method, host, path, query, moment, region or self.region, extra, self.service)

    def disowned(self, reply: Reply) -> bool:
        """Whether the store says that it does not know the access key, or that its session is over."""
        return reply.status in (400, 401, 403) and any(code in reply.body[:4096] for code in _DISOWNED)

    def expired(self, reply: Reply) -> bool:
        """Whether the session is over."""
        return reply.status in (400, 401, 403) and b"ExpiredToken" in reply.body[:4096]

    async def renewed(self) -> Signed | None:
        """The credential read anew, where that gives another one."""
        if self.find_again is None:
            return None
        key = self.find_again()
        return Signed(key, self.region, self.service, self.find_again) if key != self.key else None


@dataclass(frozen=True)
class Bearer:
    """A token in a header of its own."""

    added_query: ClassVar[str] = ""
    token: str
    header: str = "authorization"
    prefix: str = "Bearer "

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """The request's headers with the token."""
        return {"host": question.host, **question.headers, self.header: self.prefix + self.token}

    def disowned(self, reply: Reply) -> bool:
        """Whether the store does not take the token."""
        return reply.status == 401

    def expired(self, reply: Reply) -> bool:
        """A store does not say whether it took the token before."""
        return False

    async def renewed(self) -> None:
        """There is no other token."""


@dataclass(frozen=True)
class Token:
    """A token of the Swift protocol or of an identity service, in the header that both have."""

    added_query: ClassVar[str] = ""
    value: str = field(default="", repr=False)
    ends: float = math.inf
    """When it is over, by this machine's monotonic clock."""
    fetch: Callable[[], Awaitable[Token]] | None = None
    """Gets another one."""

    def headers(self, question: Question, moment: datetime) -> dict[str, str]:
        """The request's headers with the token."""
        return {"host": question.host, **question.headers, "x-auth-token": self.value}

    def disowned(self, reply: Reply) -> bool:
        """Whether the store does not take the token: a refusal of what the token may not do is 403."""
        return reply.status == 401

    def expired(self, reply: Reply) -> bool:
        """Whether it is refused, and its time is over."""
        return reply.status == 401 and time.monotonic() >= self.ends - NEARLY

    async def renewed(self) -> Token | None:
        """Another token for the same credential; None where none is given."""
        if self.fetch is None:
            return None
        try:
            return await self.fetch()
        except RequestFailed:
            return None


NEARLY = 5.0
"""Seconds before its end that a token may be refused already: clocks differ."""
