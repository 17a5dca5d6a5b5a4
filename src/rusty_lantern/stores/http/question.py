"""One question, as it goes to a store."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Literal, NamedTuple
from urllib.parse import SplitResult, urlsplit

Method = Literal["GET", "HEAD"]


class Question(NamedTuple):
    """A request for one thing. `path` and `query` are encoded, as they are written on the wire."""

    method: Method
    host: str
    path: str
    query: str
    headers: Mapping[str, str]
    scheme: str = "https"
    region: str = ""
    """The region that it is signed for. Empty: the store's own."""


@lru_cache(maxsize=64)
def split_address(address: str) -> SplitResult:
    """A store's address, taken apart."""
    return urlsplit(address)
