"""Answers in JSON, decoded into types that say what is looked for; all else in them is dropped while decoding."""

from __future__ import annotations

from typing import TypeVar

import msgspec

from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.reply import Reply

T = TypeVar("T")


def read_json(reply: Reply, wanted: type[T]) -> T:
    """The answer as a `wanted`. Raises `RequestFailed` for another status, and for what is no such document."""
    read_status(reply)
    try:
        return msgspec.json.decode(reply.body, type=wanted)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RequestFailed("failed", f"the answer cannot be read: {str(error)[:120]}", "unreadable answer") from None
