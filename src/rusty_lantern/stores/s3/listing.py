"""Listings of a bucket: objects, versions, unfinished uploads; page by page, and giants in several places at once.

Pages are asked for by the last name of the page before, which every store understands, and not by a store's own
tokens; so a listing can be begun anywhere. A listing of more than `ROUND` pages is cut where its names part: the
keys that follow are grouped by their first characters beyond what they have in common, and each group is a *span*
with a listing of its own. Spans share the pages that are allowed in rounds, whatever order their answers come in,
so that a listing that stops at the limit stops at the same place every time.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from urllib.parse import unquote_plus

import msgspec

from rusty_lantern.core.answer import State
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.xml import Element, name, parse, restored, switch, text

PAGE = 1000
ROUND = 8
"""Pages that a span lists before the rest of it is cut."""
WIDTH = 24
"""No span is cut while this many are being listed."""
GROUPS = 64
"""The most spans that one is cut into; the last takes what is left."""
LAST = "\U0010ffff"
"""Sorts after every character that a key can have."""

Entry = dict[str, str]
"""One entry of a listing: element name → text, with `kind` the entry's own element name, and `Key` decoded."""


class Listing(msgspec.Struct, frozen=True):
    """One kind of listing: its query, its roots, its entries, and the parameters by which a page is begun.

    `after` takes a key; `within` takes the value of the `second` element, where a key has several entries.
    """

    title: str
    query: tuple[tuple[str, str], ...]
    size: str
    roots: frozenset[str]
    entries: frozenset[str]
    after: str
    within: str = ""
    second: str = ""


OBJECTS = Listing(
    "list-type=2",
    (("encoding-type", "url"), ("list-type", "2")),
    "max-keys",
    frozenset({"ListBucketResult"}),
    frozenset({"Contents"}),
    "start-after",
)
VERSIONS = Listing(
    "versions",
    (("encoding-type", "url"), ("versions", "")),
    "max-keys",
    frozenset({"ListVersionsResult", "ListBucketVersionsResult"}),
    frozenset({"Version", "DeleteMarker"}),
    "key-marker",
    "version-id-marker",
    "VersionId",
)
UPLOADS = Listing(
    "uploads",
    (("encoding-type", "url"), ("uploads", "")),
    "max-uploads",
    frozenset({"ListMultipartUploadsResult"}),
    frozenset({"Upload"}),
    "key-marker",
    "upload-id-marker",
    "UploadId",
)


@dataclass(frozen=True, slots=True)
class Span:
    """Entries whose keys are after `after` (or are `after` itself beyond `within`) and not beyond `until`."""

    after: str = ""
    within: str = ""
    until: str = ""
    """Empty: to the end."""
    done: bool = False
    pages: int = 0

    def holds(self, key: str) -> bool:
        """Whether a key is not beyond the end."""
        return not self.until or _order(key) <= _order(self.until)


def _order(key: str) -> bytes:
    return key.encode("utf-8", "surrogatepass")


Take = Callable[[Span, list[Entry]], None]
"""Called with each page's entries and the span they belong to, as it was before the page."""


MEAGRE_PAGES, MEAGRE = 200, 3
"""A listing of so many pages with fewer entries a page than this is made up as it is asked for."""


@dataclass
class Lister:
    """One listing of one bucket."""

    client: Client
    bucket: str
    listing: Listing
    page: int = PAGE
    pages: int = 0
    entries: int = 0

    async def walk(self, take: Take, limit: int) -> bool:
        """List at most `limit` pages; whether that was everything. Raises `RequestFailed`."""
        spans, left = [Span()], limit
        while spans and left > 0:
            now, later = spans[:left], spans[left:]
            share = min(ROUND, max(1, left // len(now)))
            listed = await asyncio.gather(*(self._several(span, share, take) for span in now))
            left -= sum(span.pages for span in listed)
            spans = [span for span in (*listed, *later) if not span.done]
            if left > 0 and len(spans) < WIDTH:
                parts = await asyncio.gather(*(self._cut(span) for span in spans))
                spans = [span for part in parts for span in part]
        return not spans

    async def _several(self, span: Span, pages: int, take: Take) -> Span:
        """List up to so many pages of a span."""
        span = replace(span, pages=0)
        seen: set[tuple[str, str]] = set()
        for _ in range(pages):
            entries, more = await self._page(span)
            if more and not entries:
                raise RequestFailed("failed", "the listing breaks off: an empty page that promises more", "broken list")
            self.pages, self.entries = self.pages + 1, self.entries + len(entries)
            if self.page > MEAGRE_PAGES and self.pages >= MEAGRE_PAGES and self.entries < MEAGRE * self.pages:
                what = f"the listing never ends: {self.pages:,} pages of an entry or two"
                raise RequestFailed("failed", what, "endless list")
            kept = [entry for entry in entries if span.holds(entry["Key"])]
            take(span, kept)
            span = replace(span, pages=span.pages + 1, done=not more or len(kept) < len(entries))
            if span.done:
                break
            after, within = entries[-1]["Key"], entries[-1].get(self.listing.second, "")
            if (
                _order(after) < _order(span.after)
                or (after, within) in seen
                or (after, within) == (span.after, span.within)
            ):
                raise RequestFailed("failed", "the listing never ends: a page came twice", "endless list")
            seen = {*(seen if after == span.after else ()), (after, within)}
            span = replace(span, after=after, within=within)
        return span

    async def _page(self, span: Span, size: int = 0) -> tuple[list[Entry], bool]:
        """One page, and whether more follows."""
        query = [*self.listing.query, (self.listing.size, str(size or self.page))]
        query += [(self.listing.after, span.after)] if span.after else []
        query += [(self.listing.within, span.within)] if span.within and self.listing.within else []
        reply = await self.client.ask(self.bucket, tuple(query))
        read_status(reply)
        root = parse(reply.body)
        if name(root) not in self.listing.roots:
            offered: State = "unsupported" if name(root) == "ListBucketResult" else "failed"
            raise RequestFailed(offered, f'a listing came as "{name(root)[:60]}"', "unexpected answer")
        encoded = text(root, "EncodingType") == "url"
        return list(entries_of(root, self.listing.entries, encoded=encoded)), switch(root, "IsTruncated")

    async def _first_beyond(self, key: str, span: Span) -> str | None:
        """The first key of a span that sorts after `key`."""
        entries, _ = await self._page(Span(key), 1)
        return entries[0]["Key"] if entries and span.holds(entries[0]["Key"]) else None

    async def _cut(self, span: Span) -> list[Span]:
        """The rest of a span in several parts, cut where the keys that follow part from the last one listed."""
        length, following = await self._where_keys_part(span)
        parts: list[Span] = []
        here = span.after
        while following is not None and len(parts) < GROUPS - 1:
            end = here[:length] + LAST
            parts.append(Span(parts[-1].until, until=end) if parts else replace(span, until=end))
            here, following = following, await self._first_beyond(following[:length] + LAST, span)
        return [*parts, Span(parts[-1].until, until=span.until) if parts else span]

    async def _where_keys_part(self, span: Span) -> tuple[int, str | None]:
        """The shortest beginning of the last key listed that a later key does not share, and the first such key."""
        known, short, long = span.after, 1, len(span.after) + 1
        following: str | None = None
        while short < long:
            middle = (short + long) // 2
            following_key = await self._first_beyond(known[:middle] + LAST, span)
            if following_key is None:
                short = middle + 1
            else:
                long, following = middle, following_key
        return short, following


def entries_of(root: Element, wanted: frozenset[str], *, encoded: bool) -> Iterator[Entry]:
    """The entries of a page. Raises `RequestFailed` for one without a key."""
    for element in root:
        kind = name(element)
        if kind not in wanted:
            continue
        entry = {name(part): part.text or "" for part in element}
        entry["kind"] = kind
        written = restored(entry.get("Key", ""))
        entry["Key"] = unquote_plus(written) if encoded else written
        if not entry["Key"]:
            raise RequestFailed("failed", "a listing has an entry without a key", "unreadable answer")
        yield entry
