"""Where versions are looked at, one question and more a version: here, or spread over the workers of a Dask cluster.

Versions go in batches, in the order of the table. A batch that was looked at elsewhere is journalled when it comes
back, so that a survey which resumes asks only what is missing; if a worker dies, another asks its batch again.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Awaitable, Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

import msgspec

from rusty_lantern.archive.journal import Journal
from rusty_lantern.core.config.estate import Pace, StoreConfig
from rusty_lantern.core.errors import Place, Problem
from rusty_lantern.core.model.acl import ObjectGrant, first_of_each
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.objects.dask_cluster import Cluster
from rusty_lantern.stores.http.errors import NoCredential
from rusty_lantern.stores.kinds import reader_of
from rusty_lantern.stores.reader import ObjectSource, Visit, WantedDetails

TOGETHER = 256
"""Versions that are looked at together; the store's own limit is kept by its client."""
A_TASK = 2_048
"""Versions of one task on a cluster: enough that opening a connection for it does not count."""


class Batch(msgspec.Struct, frozen=True):
    """Some versions, looked at, and what their own ACLs grant."""

    versions: list[ObjectVersion]
    granted: list[ObjectGrant]


@dataclass(frozen=True)
class Subject:
    """What a worker needs to look at versions of one bucket. No secret: it reads the credential by itself."""

    store: StoreConfig
    folder: Path
    moment: datetime
    bucket: Bucket
    wanted: WantedDetails


class Inspection(Protocol):
    """Looks at the versions of one bucket, batch by batch."""

    size: int
    """Versions of one batch."""
    ahead: int
    """Batches that may be under way at once."""

    def begin(self, versions: Sequence[ObjectVersion]) -> Awaitable[list[ObjectVersion]]:
        """Look at a batch."""

    @property
    def granted(self) -> list[ObjectGrant]:
        """What ACLs that were read here grant, whole once everything was awaited."""


@dataclass
class LocalInspection:
    """Looks at versions through the survey's own connection. Every answer is journalled by it."""

    source: ObjectSource
    size: int = TOGETHER
    ahead: int = 1

    async def begin(self, versions: Sequence[ObjectVersion]) -> list[ObjectVersion]:
        """Look at a batch."""
        return list(await asyncio.gather(*(self.source.inspect(version) for version in versions)))

    @property
    def granted(self) -> list[ObjectGrant]:
        """What ACLs that were read here grant."""
        return self.source.granted


class Workers:
    """The workers of a cluster, one task each at a time. They and this machine share a store's pace."""

    def __init__(self, cluster: Cluster) -> None:
        self._cluster = cluster
        self.count = cluster.workers()
        self._free = asyncio.Semaphore(self.count)
        self._waiting = ThreadPoolExecutor(self.count, "dask")

    def share(self, store: StoreConfig) -> StoreConfig:
        """A store with what one of them may ask of it."""
        askers = self.count + 1
        pace = Pace(max(1, store.pace.at_once // askers), max(1, store.pace.per_second // askers))
        return msgspec.structs.replace(store, pace=pace)

    def inspection(self, subject: Subject, journal: Journal, source: ObjectSource) -> Inspection:
        """How the versions of a bucket are looked at; the subject's store is one with a share."""
        return ClusterInspection(self, subject, journal)

    async def run(self, subject: Subject, versions: Sequence[ObjectVersion]) -> Batch:
        """Have a worker look at a batch. Raises `ClusterLost`, `NoCredential`."""
        async with self._free:
            loop = asyncio.get_running_loop()
            return await loop.run_in_executor(
                self._waiting, self._cluster.call, inspect_versions, subject, list(versions)
            )


class ClusterInspection:
    """Looks at versions of one bucket on a cluster; `journal` holds the batches that came back."""

    size = A_TASK

    def __init__(self, workers: Workers, subject: Subject, journal: Journal) -> None:
        self._workers, self._subject, self._journal = workers, subject, journal
        self._granted: dict[tuple[str, str, str], ObjectGrant] = {}
        self.ahead = workers.count

    async def begin(self, versions: Sequence[ObjectVersion]) -> list[ObjectVersion]:
        """Look at a batch, unless it was looked at before the survey was stopped."""
        if not versions:
            return []
        question = _question(self._subject, versions)
        known = self._journal.recall(question)
        if known is not None:
            batch = msgspec.json.decode(known[2], type=Batch)
        else:
            batch = await self._workers.run(self._subject, versions)
            self._journal.note(question, 200, {}, msgspec.json.encode(batch))
        for grant in batch.granted:
            first_of_each(self._granted, grant)
        return batch.versions

    @property
    def granted(self) -> list[ObjectGrant]:
        """What ACLs that were read by any worker grant."""
        return [grant for _, grant in sorted(self._granted.items())]


@contextmanager
def on_cluster(scheduler: str) -> Iterator[Workers]:
    """The workers of a Dask cluster. Raises `BadInput` if it cannot be reached."""
    with closing(Cluster(scheduler)) as cluster:
        yield Workers(cluster)


InspectionOf = Callable[[Subject, Journal, ObjectSource], Inspection]
"""How the versions of a bucket are looked at."""


def inspect_here(subject: Subject, journal: Journal, source: ObjectSource) -> Inspection:
    """Through the survey's own connection."""
    return LocalInspection(source)


def _question(subject: Subject, versions: Sequence[ObjectVersion]) -> str:
    """By what a batch is known again: its versions as they were listed, and what is asked of each."""
    content: list[Any] = [subject.bucket.name, subject.wanted, versions]
    return f"batch {hashlib.sha256(msgspec.json.encode(content)).hexdigest()}"


def inspect_versions(subject: Subject, versions: list[ObjectVersion]) -> Batch:
    """What a worker does: look at some versions of a bucket. Raises `NoCredential` where it has none."""
    try:
        return asyncio.run(_looked_at(subject, versions))
    except NoCredential as error:
        what = f"a worker of the Dask cluster has no credential: {error.complaints[0].what}"
        remedy = "share the workspace's folder with every worker, at the same path; or look at objects here"
        raise NoCredential(Problem(what, Place(str(subject.folder)), remedy)) from None


async def _looked_at(subject: Subject, versions: list[ObjectVersion]) -> Batch:
    async with reader_of(Visit(subject.store, subject.folder, subject.moment)) as reader:
        source = reader.object_source(subject.bucket, subject.wanted, None)
        made: list[ObjectVersion] = []
        for start in range(0, len(versions), TOGETHER):
            part = versions[start : start + TOGETHER]
            made += await asyncio.gather(*(source.inspect(version) for version in part))
        return Batch(made, source.granted)
