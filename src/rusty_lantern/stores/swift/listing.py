"""Listings of the Swift protocol: containers of an account, objects and versions of a container, page by page."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any, TypeVar

import msgspec

from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import refusal_of
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.timestamps import read_time

PAGE = 10_000
"""Entries of a page: the most that the protocol gives by default."""
DELETED = "application/x-deleted;swift_versions_deleted=1"
"""The content type of a delete marker among versions."""
T = TypeVar("T")


class Container(msgspec.Struct, frozen=True):
    """An entry of an account's listing."""

    name: str


class ListedObject(msgspec.Struct, frozen=True):
    """An entry of a container's listing; one of a pseudo-folder (`subdir`) has no name."""

    name: str = ""
    bytes: int = 0
    hash: str = ""
    content_type: str = ""
    last_modified: str = ""
    is_latest: bool = True
    version_id: str | None = None

    @property
    def version(self) -> ObjectVersion:
        """As a row of a version table."""
        return ObjectVersion(
            key=self.name,
            version=self.version_id or "null",
            current=self.is_latest,
            marker=self.content_type == DELETED,
            size=self.bytes,
            etag=self.hash,
            written=read_time(self.last_modified),
        )


OF_ACCOUNT, OF_CONTAINER = "x-account-container-count", "x-container-object-count"
"""A header that every answer about an account, or a container, carries (OpenStack Object Storage API v1; measured on
two servers). What answers without it is in front of the store, and what it leaves out shows nothing."""


def check(reply: Reply, mark: str = "") -> None:
    """Nothing for an answer that is one: 200 to 299, with the header `mark`. Raises `RequestFailed` for any other."""
    if not 200 <= reply.status < 300:
        raise refusal_of(reply)
    if mark and mark not in reply.headers:
        words = f"answered {reply.status} without {mark.title()}: it is not the store that answered"
        raise RequestFailed("failed", words, str(reply.status))


async def pages(
    client: Client, path: str, kind: type[T], *, limit: int, query: tuple[tuple[str, str], ...] = (), size: int = PAGE
) -> AsyncIterator[list[T]]:
    """The pages of one listing, at most `limit`. Raises `RequestFailed`. A page that came twice ends it so."""
    marker, version = "", ""
    for _ in range(limit):
        parameters = [*query, ("format", "json"), ("limit", str(size))]
        parameters += [("marker", marker)] if marker else []
        parameters += [("version_marker", version)] if version else []
        reply = await client.ask(path=path, query=tuple(parameters))
        check(reply, OF_ACCOUNT if kind is Container else OF_CONTAINER)
        entries = _decoded(reply, kind)
        yield entries
        if len(entries) < size:
            return
        last: Any = entries[-1]
        before, (marker, version) = (marker, version), (last.name, getattr(last, "version_id", None) or "")
        if (marker, version) <= before and not version:
            raise RequestFailed("failed", "the listing never ends: a page came twice", "endless list")


def _decoded(reply: Reply, kind: type[T]) -> list[T]:
    if reply.status == 204 or not reply.body:
        return []
    try:
        return msgspec.json.decode(reply.body, type=list[kind])  # type: ignore[valid-type]
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RequestFailed("failed", f"the listing cannot be read: {str(error)[:120]}", "unreadable answer") from None
