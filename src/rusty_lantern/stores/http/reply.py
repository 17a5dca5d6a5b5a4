"""One answer of a store, and what it says besides its body."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Literal, Protocol

Method = Literal["GET", "HEAD"]


DISOWNED = (b"<Code>InvalidAccessKeyId</Code>", b"<Code>ExpiredToken</Code>", b"<Code>InvalidToken</Code>")
"""What a store says of a credential that it does not know, or not any more."""


@dataclass(frozen=True, slots=True)
class Reply:
    """What came back: status, headers (lower-case names), body."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class Memory(Protocol):
    """Answers that are known already, and a place for new ones."""

    def recall(self, question: str) -> tuple[int, dict[str, str], bytes] | None:
        """The answer that a question already got."""

    def note(self, question: str, status: int, headers: dict[str, str], body: bytes) -> None:
        """Keep an answer."""


def disowned(reply: Reply) -> bool:
    """Whether a store says that it does not know the credential, or not any more."""
    return reply.status in (400, 401, 403) and any(code in reply.body[:4096] for code in DISOWNED)


def retry_after(reply: Reply) -> float:
    """For how many seconds a busy store asks to be left alone."""
    text = reply.headers.get("retry-after", "")
    return min(float(text), 30.0) if re.fullmatch("[0-9]{1,6}", text) else 0.0


def faithful(written: str) -> str:
    r"""A header's text as it came: bytes that are no UTF-8 are shown escaped, so that it can be kept and printed.

    >>> faithful(b"caf\xe9".decode("utf-8", "surrogateescape"))
    'caf\\xe9'
    """
    if written.isascii():
        return written
    return written.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def clock_difference(reply: Reply, now: datetime) -> timedelta:
    """How far the store's clock is ahead; zero if it does not say."""
    try:
        said = parsedate_to_datetime(reply.headers.get("date", ""))
        return said.astimezone(UTC) - now.replace(microsecond=0) if said.tzinfo else timedelta()
    except (TypeError, ValueError, OverflowError, IndexError):
        return timedelta()
