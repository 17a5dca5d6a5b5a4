"""How much a bucket holds: by listing it, or by the store's own counters."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, TypeVar

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import Quota
from rusty_lantern.core.model.bucket_contents import Uploads, Usage, Versions
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, read_status
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import children, is_on, name, parse, switch, text
from rusty_lantern.stores.reader import LIST_LIMIT
from rusty_lantern.stores.s3.listing import OBJECTS, PAGE, UPLOADS, VERSIONS, Entry, Lister, Listing, Span

T = TypeVar("T")

MOST_UPLOADS = 200
"""Unfinished uploads of a bucket whose parts are asked for."""
MOST_PART_PAGES = 100
"""Pages of one upload's parts: an upload has at most 10,000, and a page has mostly 1,000."""

Take = Callable[[list[ObjectVersion]], None]
"""Given each page of a listing."""


def read_size(entry: Entry) -> int:
    """The size of an entry in bytes. Raises `RequestFailed`."""
    size = entry.get("Size", "")
    if not re.fullmatch("[0-9]{1,18}", size):
        what = f'a listing gives a size that is no number of bytes: "{size[:40]}"'
        raise RequestFailed("failed", what, "unreadable answer")
    return int(size)


def listed(entry: Entry) -> ObjectVersion:
    """A version as a listing shows it. Raises `RequestFailed`."""
    marker = entry["kind"] == "DeleteMarker"
    return ObjectVersion(
        key=entry["Key"],
        version=entry.get("VersionId") or "null",
        current=is_on(entry.get("IsLatest", "true"), "IsLatest"),
        marker=marker,
        size=0 if marker else read_size(entry),
        etag=entry.get("ETag", "").strip('"'),
        written=read_time(entry.get("LastModified", "")),
        tier=entry.get("StorageClass", ""),
    )


@dataclass(frozen=True)
class Counting:
    """Counting in one bucket, at most `limit` pages a listing."""

    client: Client
    bucket: str
    moment: datetime
    limit: int = LIST_LIMIT
    page: int = PAGE

    async def objects(self, also: Take = lambda versions: None) -> Answer[Usage]:
        """Objects and bytes; `also` is given each page."""
        sums = [0, 0]

        def add(_: Span, entries: list[Entry]) -> None:
            versions = [listed(entry) for entry in entries]
            also(versions)
            sums[0] += len(versions)
            sums[1] += sum(version.size for version in versions)

        return await self._listed(OBJECTS, add, lambda whole: Usage(sums[0], sums[1], whole))

    async def versions(self, also: Take = lambda versions: None) -> tuple[Answer[Usage], Answer[Versions]]:
        """Objects and bytes, and what is beneath them, from one listing of versions; `also` is given each page."""
        current, old, markers, undated = [0, 0], [0, 0], [0], [0]
        newest: list[datetime] = []

        def add(_: Span, entries: list[Entry]) -> None:
            versions = [listed(entry) for entry in entries]
            also(versions)
            for version in versions:
                if version.marker:
                    markers[0] += 1
                    continue
                sums = current if version.current else old
                sums[0] += 1
                sums[1] += version.size
                stored = version.written
                undated[0] += stored is None
                newest[:] = [max(one for one in (*newest, stored) if one is not None)] if stored else newest

        whole = await self._listed(VERSIONS, add, lambda whole: whole)
        return (
            whole.map(lambda all_: Usage(current[0], current[1], all_)),
            whole.map(lambda all_: Versions(old[0], old[1], markers[0], all_, next(iter(newest), None), undated[0])),
        )

    async def uploads(self) -> Answer[Uploads]:
        """Unfinished uploads, when the oldest was begun, and how much of them was uploaded."""
        begun: list[datetime | None] = []
        some: list[Entry] = []

        def add(_: Span, entries: list[Entry]) -> None:
            begun.extend(read_time(entry.get("Initiated", "")) for entry in entries)
            some.extend(entries[: MOST_UPLOADS - len(some)])

        def total(whole: bool) -> Uploads:
            undated = sum(moment is None for moment in begun)
            return Uploads(len(begun), min((moment for moment in begun if moment), default=None), whole, undated)

        listed = await self._listed(UPLOADS, add, total)
        if listed.value is None:
            return listed
        size, unread = await self._uploaded(some, listed.value)
        return listed.map(lambda counted: msgspec.structs.replace(counted, bytes=size, bytes_unread=unread))

    async def _uploaded(self, uploads: list[Entry], counted: Uploads) -> tuple[int | None, str]:
        """The bytes of all parts; or None, and why. One question an upload, so only of a few."""
        if not counted.complete or counted.count > len(uploads):
            return None, f"parts are asked of at most {MOST_UPLOADS} uploads"
        try:
            return sum(await asyncio.gather(*(self._parts(one) for one in uploads))), ""
        except RequestFailed as error:
            return None, error.note

    async def _parts(self, upload: Entry) -> int:
        """The bytes of one upload's parts. One that is gone by now holds nothing. Raises `RequestFailed`."""
        size, after = 0, ""
        for _ in range(MOST_PART_PAGES):
            query = (("uploadId", upload.get("UploadId", "")), *((("part-number-marker", after),) if after else ()))
            reply = await self.client.ask(self.bucket, query, key=upload["Key"])
            if reply.status == 404 and error_code(reply.body)[0] == "NoSuchUpload":
                return 0
            read_status(reply)
            root = parse(reply.body)
            if name(root) != "ListPartsResult":
                raise RequestFailed("failed", f'parts came as "{name(root)[:60]}"', "unexpected answer")
            size += sum(read_size({"Size": text(part, "Size")}) for part in children(root, "Part"))
            if not switch(root, "IsTruncated"):
                return size
            after = text(root, "NextPartNumberMarker")
        raise RequestFailed("failed", "the list of an upload's parts never ends", "endless list")

    async def given(self, listing: Listing) -> Answer[bool]:
        """Whether a listing is given at all, by its first page."""
        return await replace(self, limit=1)._listed(listing, lambda *_: None, lambda _: True)

    async def _listed(
        self, listing: Listing, add: Callable[[Span, list[Entry]], None], total: Callable[[bool], T]
    ) -> Answer[T]:
        """Go through a listing; past the limit, what was counted so far is a lower bound."""
        question = f"GET /{self.bucket}?{listing.title}"
        try:
            whole = await Lister(self.client, self.bucket, listing, self.page).walk(add, self.limit)
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))
        return Answer("known", total(whole), "", Evidence(question, "200", self.moment))


_COUNTERS = ("x-rgw-object-count", "x-rgw-bytes-used")
_QUOTA = ("x-rgw-quota-bucket-objects", "x-rgw-quota-bucket-size")
"""Headers in which gateways of one widespread family give a bucket's counters and its own quota (negative: none)."""


async def ask_counters(client: Client, bucket: str, moment: datetime) -> tuple[Answer[Usage], Answer[Quota]]:
    """The store's own counters of a bucket, and its quota, where its answer to HEAD carries them."""
    question = f"HEAD /{bucket}"
    try:
        reply = await client.ask(bucket, method="HEAD")
        read_status(reply)
    except RequestFailed as error:
        lost: Answer[Any] = Answer(error.state, None, error.note, Evidence(question, error.answer, moment))
        return lost, lost
    evidence = Evidence(question, "200", moment)
    counted, limits = _numbers(reply, _COUNTERS), _numbers(reply, _QUOTA)
    silent: Answer[Any] = Answer("unsupported", None, "the answer to HEAD has none", evidence)
    return (
        silent if counted is None else Answer("known", Usage(counted[0], counted[1], by="counters"), "", evidence),
        silent if limits is None else Answer("hidden", None, _of_quota(limits), evidence),
    )


def _of_quota(limits: list[int]) -> str:
    """What these headers leave open. A gateway 16.2 shows a quota that is switched off in the same way as one that is
    in force, and none of those that a bucket has by its owner (tried)."""
    kinds = zip(limits, ("objects", "bytes"), strict=True)
    own = ", ".join(f"{kind}: {limit:,}" for limit, kind in kinds if limit >= 0)
    left_open = f"whether its quota ({own}) is in force, and" if own else "it has none of its own, and"
    return f"{left_open} which quotas its owner has, only the administration door shows"


def _numbers(reply: Reply, names: tuple[str, ...]) -> list[int] | None:
    texts = [reply.headers.get(name, "") for name in names]
    return [int(text) for text in texts] if all(re.fullmatch("-?[0-9]{1,18}", text) for text in texts) else None
