"""From a bucket's listing to its version table: listed to a spool, sorted, looked at, written in order.

A table that is whole is not made again when a survey resumes; of one that was under way, every answer is journalled.
"""

from __future__ import annotations

import asyncio
import hashlib
import random
from collections import deque
from collections.abc import AsyncGenerator, Callable, Iterable, Iterator
from contextlib import aclosing
from dataclasses import dataclass, field
from itertools import groupby
from pathlib import Path

import msgspec

from rusty_lantern.archive.journal import Journal
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.config.object_scan import Sample
from rusty_lantern.core.model.acl import ObjectAcls, ObjectGrant, object_acls_of
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Table, Usage, Versions
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.objects.duckdb_engine import table_path
from rusty_lantern.objects.inventory import InventoryResult, files_of, read_inventory_files
from rusty_lantern.objects.tables import Spool, read_table, read_versions, table_writer
from rusty_lantern.stores.reader import StoreReader, WantedDetails
from rusty_lantern.survey.inspection import Inspection, InspectionOf, Subject, inspect_here


@dataclass
class TableMaker:
    """Makes the tables of one store in a survey's folder."""

    store: StoreConfig
    workspace: Path
    folder: Path
    journals: Path
    wanted: WantedDetails = field(default_factory=WantedDetails)
    earlier: Path | None = None
    """An earlier survey's folder: what was looked at there and is listed unchanged is taken over."""
    on_looked_at: Callable[[int], None] = lambda versions: None
    """Called with how many versions have been looked at."""
    looked_at: int = 0
    inspection: InspectionOf = inspect_here
    """Where versions are looked at."""

    def table_of(self, reader: StoreReader, bucket: str) -> TableInMaking | None:
        """Begin with a bucket, if the estate file asks for its objects."""
        inventory = self.store.inventory
        files = files_of(inventory, self.workspace, bucket) if inventory else []
        if not files and self.store.looks_at(bucket) == "none":
            return None
        return TableInMaking(self, reader, bucket, files)


@dataclass
class _AclsRead:
    """How much is known of the ACLs of a bucket's objects, batch by batch."""

    complete: bool = True
    """Whether there is no public grant but those that were kept."""
    names_complete: bool = True
    """The same of grants to named users."""

    def note(self, versions: Iterable[ObjectVersion], reused: int) -> None:
        """Take in some versions. Of a table that took over earlier ones, `reused` of them, grants were not kept."""
        for version in versions:
            kept = version.marker or (version.public is not None and not reused)
            self.complete = self.complete and (kept or version.public == "none")
            self.names_complete = self.names_complete and kept

    def with_grants(self, granted: list[ObjectGrant]) -> ObjectAcls:
        """What all of them grant together."""
        return object_acls_of(granted, complete=self.complete, names_complete=self.names_complete)


@dataclass
class TableInMaking:
    """The table of one bucket in the making."""

    gathering: TableMaker
    reader: StoreReader
    bucket: str
    files: list[Path] = field(default_factory=list)
    """The provider's inventory, where there is one: then nothing is listed."""
    taken: InventoryResult | None = None
    path: Path = field(init=False)

    def __post_init__(self) -> None:
        self.path = table_path(self.gathering.folder, self.gathering.store.name, self.bucket)
        self.spool = Spool(self.path.with_suffix(".spool"))

    def instead(self, *, versioned: bool) -> tuple[Answer[Usage], Answer[Versions]] | None:
        """What an inventory counts, instead of a listing."""
        inventory = self.gathering.store.inventory
        if not self.files or inventory is None:
            return None
        moment = self.reader.visit.moment
        self.taken = read_inventory_files(self.files, inventory, self.bucket, self.path, moment, versioned=versioned)
        return self.taken.usage, self.taken.versions

    def take(self, versions: list[ObjectVersion]) -> None:
        """A page of the listing."""
        self.spool.add(versions)

    def restart(self) -> None:
        """Forget what was listed: it is listed again in another way."""
        self.spool.close()
        self.spool = Spool(self.path.with_suffix(".spool"))

    async def finish(self, bucket: Bucket) -> Answer[Table]:
        """Make the table, or say why there is none."""
        usage = bucket.usage
        if self.taken is not None:
            self.spool.close()
            return self.taken.table
        try:
            if usage.value is None or not usage.value.complete:
                why = usage.reason or "the listing did not come to its end"
                return Answer("failed" if usage.state == "known" else usage.state, None, why, usage.evidence)
            made = read_table(self.path) or await self._make(bucket)
            return Answer("known", made, "", usage.evidence)
        finally:
            self.spool.close()

    async def _make(self, bucket: Bucket) -> Table:
        store, visit, wanted = self.gathering.store, self.reader.visit, self.gathering.wanted
        journal = Journal(self.gathering.journals / f"{self.path.stem}.jsonl", self.reader.capabilities.keeps)
        source = self.reader.object_source(bucket, wanted, journal)
        subject = Subject(visit.store, visit.folder, visit.moment, bucket, wanted)
        inspection = self.gathering.inspection(subject, journal, source)
        looked = store.looks_at(self.bucket)
        chosen = self._chosen(looked, self.spool.versions, store.sample)
        known, acls = EarlierTable(self._earlier_table()), _AclsRead()
        try:
            with table_writer(self.path) as writer:
                async with aclosing(self._looked_at(inspection, chosen, known, looked)) as batches:
                    async for rows in batches:
                        writer.add(rows)
                        acls.note(rows, known.reused)
                        self.gathering.looked_at += sum(v.inspected not in ("not asked", "not sampled") for v in rows)
                        self.gathering.on_looked_at(self.gathering.looked_at)
                table = Table(
                    rows=self.spool.rows,
                    versions=self.spool.versions,
                    looked=looked if looked != "none" else "listed",
                    inspected=self.spool.versions if chosen is None else len(chosen),
                    seed=store.sample.seed if looked == "sample" else 0,
                    confidence=store.sample.confidence,
                    reused=known.reused,
                    current_alone=not bucket.versions.settled,
                    tags_asked=wanted.tags,
                    object_acls=acls.with_grants(inspection.granted) if wanted.acl else None,
                )
                writer.describe(table)
        finally:
            journal.close()
        journal.path.unlink(missing_ok=True)
        return table

    async def _looked_at(
        self, inspection: Inspection, chosen: frozenset[int] | None, known: EarlierTable, looked: str
    ) -> AsyncGenerator[list[ObjectVersion]]:
        """Everything that was listed, in order and in batches, with what was seen of it; a few batches are under way at
        once. `chosen`: which versions are looked at, by number; None: all."""
        under_way: deque[asyncio.Task[list[ObjectVersion]]] = deque()
        seen = 0
        try:
            for versions in self.spool.sorted(inspection.size):
                picked = [not v.marker and (chosen is None or seen + n in chosen) for n, v in _numbered(versions)]
                seen += sum(not v.marker for v in versions)
                taken_over = _taken_over(known, versions, picked, looked)
                under_way.append(asyncio.ensure_future(_batch(inspection, versions, taken_over)))
                if len(under_way) >= inspection.ahead:
                    yield await under_way.popleft()
            while under_way:
                yield await under_way.popleft()
        finally:
            for task in under_way:
                task.cancel()
            await asyncio.gather(*under_way, return_exceptions=True)

    def _chosen(self, looked: str, population: int, sample: Sample) -> frozenset[int] | None:
        """Which of the versions, by number, are looked at; None for all."""
        if looked == "all" or (looked == "sample" and population <= sample.size):
            return None
        if looked == "listed":
            return frozenset()
        digest = hashlib.sha256(f"{sample.seed}/{self.gathering.store.name}/{self.bucket}".encode()).digest()
        dice = random.Random(digest)  # noqa: S311  (a stated sample is to be drawn again, not to be secret)
        return frozenset(dice.sample(range(population), sample.size))

    def _earlier_table(self) -> Path | None:
        """The table of an earlier survey, if all was asked then that is wanted now."""
        if self.gathering.earlier is None:
            return None
        path, wanted = table_path(self.gathering.earlier, self.gathering.store.name, self.bucket), self.gathering.wanted
        about = read_table(path)
        if about is None or wanted.tags > about.tags_asked or (wanted.acl and about.object_acls is None):
            return None
        return path


def _taken_over(
    known: EarlierTable, versions: list[ObjectVersion], wanted: list[bool], looked: str
) -> list[ObjectVersion | None]:
    """Each version as it is known without asking; None for those that are to be looked at."""

    def one(version: ObjectVersion, wanted_: bool) -> ObjectVersion | None:
        if version.marker:
            return version
        if not wanted_:
            return msgspec.structs.replace(version, inspected="not asked" if looked == "listed" else "not sampled")
        return known.of(version)

    return [one(v, w) for v, w in zip(versions, wanted, strict=True)]


async def _batch(
    inspection: Inspection, versions: list[ObjectVersion], taken_over: list[ObjectVersion | None]
) -> list[ObjectVersion]:
    """A batch with what had to be asked put in its place."""
    inspected = iter(await inspection.begin([v for v, t in zip(versions, taken_over, strict=True) if t is None]))
    return [next(inspected) if one is None else one for one in taken_over]


def _numbered(versions: list[ObjectVersion]) -> Iterator[tuple[int, ObjectVersion]]:
    """Versions with their number among those that are no delete markers."""
    number = 0
    for version in versions:
        yield number, version
        number += not version.marker


class EarlierTable:
    """What an earlier survey saw, read along in the same order."""

    def __init__(self, path: Path | None) -> None:
        self.reused = 0
        rows = read_versions(path) if path else iter(())
        self._keys = ((key, list(group)) for key, group in groupby(rows, key=lambda v: v.key))
        self._key: tuple[str, list[ObjectVersion]] | None = next(self._keys, None)

    def of(self, version: ObjectVersion) -> ObjectVersion | None:
        """What was seen of a version that is listed as it was."""
        wanted = version.key.encode()
        while self._key is not None and self._key[0].encode() < wanted:
            self._key = next(self._keys, None)
        if self._key is None or self._key[0] != version.key:
            return None
        same = (version.version, version.etag, version.size, version.written)
        for old in self._key[1]:
            if old.inspected == "yes" and (old.version, old.etag, old.size, old.written) == same:
                self.reused += 1
                return msgspec.structs.replace(old, current=version.current, tier=version.tier)
        return None
