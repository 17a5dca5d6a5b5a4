"""One answer of a store, and what it says besides its body."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Protocol


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


def content_headers(headers: Mapping[str, str], metadata: str) -> dict[str, object]:
    """What the headers of an object say of its content in every protocol over HTTP; its own metadata begin with
    `metadata`."""
    return {
        "content_type": headers.get("content-type"),
        "cache_control": headers.get("cache-control"),
        "content_encoding": headers.get("content-encoding"),
        "disposition": headers.get("content-disposition"),
        "metadata": {name.removeprefix(metadata): v for name, v in headers.items() if name.startswith(metadata)},
    }


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
