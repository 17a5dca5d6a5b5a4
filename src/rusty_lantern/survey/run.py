"""The work of `lantern survey`: all stores at once, each with its journal, its progress and its log."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.archive.earlier import last_dossier
from rusty_lantern.archive.errors import CannotWrite, OutOfTime, write_problem
from rusty_lantern.archive.journal import Journal
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Estate, StoreConfig
from rusty_lantern.core.config.object_scan import ScanDepth
from rusty_lantern.core.errors import BadInput, LanternError, Problem, defect, nearest
from rusty_lantern.core.model.capabilities import PROTOCOLS
from rusty_lantern.core.model.dossier import Dossier, lost_dossier
from rusty_lantern.stores.addresses import with_addresses
from rusty_lantern.stores.beside import with_beside
from rusty_lantern.stores.door_probe import door_probes
from rusty_lantern.stores.doors import with_doors, with_listed_buckets
from rusty_lantern.stores.http.errors import NoCredential, NoLongerAccepted, RequestFailed
from rusty_lantern.stores.kinds import reader_of
from rusty_lantern.stores.reader import Estimate, ObjectTable, StoreReader, SurveyOrder, Visit, WantedDetails
from rusty_lantern.stores.software import with_software
from rusty_lantern.survey.anonymous_probe import probe_store
from rusty_lantern.survey.progress import NoProgress, Progress

if TYPE_CHECKING:
    from rusty_lantern.core.usage.prices import Prices
    from rusty_lantern.survey.inspection import Workers

Log = Callable[[dict[str, object]], None]


@dataclass(frozen=True)
class SurveyPlan:
    """What is to be surveyed, and how."""

    estate: Estate
    folder: Path
    moment: datetime
    only: tuple[str, ...] = ()
    list_limit: int = 100
    probe: bool = False
    log: Path | None = None
    objects: ScanDepth | None = None
    """How far all objects are looked at, instead of what the estate file says."""
    earlier: Path | None = None
    """The survey before, where what is listed unchanged is taken over from it."""
    wanted: WantedDetails = field(default_factory=WantedDetails)
    progress: Progress = field(default_factory=NoProgress)
    cluster: str = ""
    """The scheduler of a Dask cluster whose workers look at objects; empty: they are looked at here."""
    deadline: float | None = None
    """Minutes after which the survey stops, to be gone on with later."""

    def check(self) -> None:
        """Raise `BadInput` for a pattern that names no store of the estate."""
        names = [store.name for store in self.estate.stores]
        for pattern in self.only:
            store, slash, _ = pattern.partition("/")
            if not slash or not any(fnmatchcase(name, store) for name in names):
                hint = nearest(store, names) or f"patterns are STORE/BUCKET; stores: {', '.join(names)}"
                raise BadInput(Problem(f'--only "{pattern}" fits no store', remedy=hint))

    @property
    def only_of(self) -> dict[str, tuple[str, ...]]:
        """Store → the patterns of its buckets that the estate file limits it to."""
        return {store.name: store.only for store, _ in self.stores() if store.only}

    def stores(self) -> list[tuple[StoreConfig, tuple[str, ...]]]:
        """The stores to read, each with the bucket patterns to keep to."""
        chosen = []
        for entry in self.estate.stores:
            store = msgspec.structs.replace(entry, objects=(("*", self.objects),)) if self.objects else entry
            patterns = [pattern.partition("/")[::2] for pattern in self.only]
            kept = tuple(bucket for name, bucket in patterns if fnmatchcase(store.name, name))
            if kept or not self.only:
                chosen.append((store, kept))
        return chosen


async def read_all(plan: SurveyPlan, journals: Path) -> list[Dossier]:
    """A dossier for each store; what was journalled already is not asked again."""
    progress = plan.progress
    with _log_into(plan.log) as log, _workers(plan) as workers:
        paused: list[NoLongerAccepted] = []

        async def one(store: StoreConfig, patterns: tuple[str, ...]) -> Dossier | None:
            progress.started(store.name, store.at)
            journal = Journal(journals / f"{store.name}.jsonl", _keeps(store))
            try:
                shared = workers.share(store) if workers else store
                return await _read_store(plan, shared, patterns, journal, log, workers)
            except (NoLongerAccepted, BaseExceptionGroup) as error:
                first = _first(error)
                if isinstance(first, NoLongerAccepted):
                    paused.append(first)
                    return None
                if isinstance(first, LanternError) or not isinstance(first, Exception):
                    raise first from None
                return _unread(plan, store, first)
            except LanternError:
                raise
            except Exception as error:  # whatever it is, it is this store's alone
                return _unread(plan, store, error)
            finally:
                journal.close()

        try:
            async with asyncio.timeout(plan.deadline and 60 * plan.deadline), asyncio.TaskGroup() as group:
                tasks = [group.create_task(one(store, patterns)) for store, patterns in plan.stores()]
        except TimeoutError:
            what = f"the survey was not whole after {plan.deadline:g} minutes"
            remedy = "every answer so far is saved; to continue: lantern survey --resume"
            raise OutOfTime(Problem(what, remedy=remedy)) from None
        except BaseExceptionGroup as errors:
            raise _first(errors) from None
        if paused:
            raise NoLongerAccepted(*(complaint for error in paused for complaint in error.complaints))
        return [dossier for task in tasks if (dossier := task.result()) is not None]


def _keeps(store: StoreConfig) -> Callable[[str], bool]:
    """Which response headers a survey of the store needs when it is gone on with: those of each of its protocols."""
    protocols = [PROTOCOLS[name] for name in (store.reads, *(door.name for door in store.doors)) if name in PROTOCOLS]
    return lambda header: any(capabilities.keeps(header) for capabilities in protocols)


def _unread(plan: SurveyPlan, store: StoreConfig, error: Exception) -> Dossier:
    """The dossier of a store that could not be read by a fault of ours."""
    plan.progress.noted(f"{store.name}: {defect(error)}")
    lost: Answer[int] = Answer("failed", None, defect(error))
    return lost_dossier(store.name, store.at, plan.moment, lost)


def _first(error: BaseException) -> BaseException:
    """The error that ended a group, out of its wrappings."""
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    return error


async def _read_store(
    plan: SurveyPlan,
    store: StoreConfig,
    patterns: tuple[str, ...],
    journal: Journal,
    log: Log | None,
    workers: Workers | None,
) -> Dossier:
    """One store's dossier, with the sources beside it and, where that is asked for, the anonymous test."""
    surveys = journal.path.parent.parent.parent
    visit = Visit(store, plan.folder, plan.moment, journal, log, lambda: last_dossier(surveys, store.name, plan.moment))
    progress = _StoreProgress(plan.progress, store.name)
    try:
        visit = await with_listed_buckets(visit)
        async with reader_of(visit) as reader:
            progress.reader = reader
            order = SurveyOrder(
                patterns, plan.list_limit, progress.buckets, _tables(plan, reader, journal, progress, workers)
            )
            read = await with_doors(visit, await reader.survey(order), plan.progress.noted, patterns)
            read = await with_software(visit, await with_beside(visit, read, plan.progress.noted))
            read = await with_addresses(visit, read) if reader.capabilities.probes else read
            if journal.replayed:
                plan.progress.noted(
                    f"{store.name}: {journal.replayed:,} answers were saved, "
                    f"{reader.questions_asked:,} questions were asked now"
                )
            if not plan.probe or not reader.capabilities.probes:
                return read
            plan.progress.noted(f"testing anonymously: {store.at}, at most {store.pace.per_second} requests a second")
            return await probe_store(reader, read, plan.estate, door_probes(visit, read))
    except NoCredential as error:
        lost: Answer[int] = Answer("denied", None, str(error.complaints[0].what))
        return lost_dossier(store.name, store.at, plan.moment, lost)


@dataclass
class _StoreProgress:
    """How far one store is, shown to whoever runs the survey."""

    progress: Progress
    store: str
    reader: StoreReader | None = None
    done: int = 0
    total: int = 0
    versions: int = 0
    begun: float = field(default_factory=lambda: asyncio.get_running_loop().time())

    def buckets(self, done: int, total: int) -> None:
        """So many buckets are read, of so many."""
        self.done, self.total = done, total
        self._tell()

    def looked_at(self, versions: int) -> None:
        """So many versions have been looked at."""
        self.versions = versions
        self._tell()

    def _tell(self) -> None:
        seconds = max(asyncio.get_running_loop().time() - self.begun, 0.1)
        looked = f"{self.versions:,} versions, " if self.versions else ""
        questions = self.reader.questions_asked if self.reader else 0
        self.progress.advanced(self.store, self.done, self.total, f"{looked}{questions / seconds:,.0f} questions/s")


@contextmanager
def _workers(plan: SurveyPlan) -> Iterator[Workers | None]:
    """The workers that look at versions; None: they are looked at here."""
    if not plan.cluster:
        yield None
        return
    from rusty_lantern.survey.inspection import on_cluster

    with on_cluster(plan.cluster) as workers:
        yield workers


def _tables(
    plan: SurveyPlan, reader: StoreReader, journal: Journal, progress: _StoreProgress, workers: Workers | None
) -> Callable[[str], ObjectTable | None]:
    """How the tables of a store's objects are begun; the column engine is only loaded where there are any."""
    store = reader.visit.store
    if all(looked == "none" for _, looked in store.objects) and store.inventory is None:
        return lambda bucket: None
    from rusty_lantern.archive.surveys import JOURNAL
    from rusty_lantern.survey.object_tables import TableMaker

    partial = journal.path.parent.parent
    gathering = TableMaker(
        store, plan.folder, partial, partial / JOURNAL / store.name, plan.wanted, plan.earlier, progress.looked_at
    )
    if workers is not None:
        gathering.inspection = workers.inspection
    return lambda bucket: gathering.table_of(reader, bucket)


async def estimate(plan: SurveyPlan, prices: Prices | None = None) -> tuple[list[str], bool]:
    """How many questions a survey would ask of each store, roughly how long, and what they cost where requests have
    prices; whether every store could be asked."""
    lines, whole = [], True
    for store, patterns in plan.stores():
        try:
            async with reader_of(await with_listed_buckets(Visit(store, plan.folder, plan.moment))) as reader:
                estimated = await reader.estimate(patterns)
        except RequestFailed as error:
            lines.append(f"{store.name}: cannot be asked: {error.note}")
            whole = False
            continue
        if estimated.questions == 1:
            lines.append(f"{store.name}: one question to {store.at}")
            continue
        lines.append(
            f"{store.name}: {estimated.buckets:,} buckets, at least {estimated.questions:,} questions to {store.at}, "
            f"about {max(1, round(estimated.seconds)):,} s at {store.pace.per_second:,} a second at the most"
            + _priced(prices, store, estimated)
            + _besides(store, plan.wanted)
        )
    return lines, whole


def _priced(prices: Prices | None, store: StoreConfig, estimated: Estimate) -> str:
    from rusty_lantern.core.usage.prices import price_of_questions

    cost = price_of_questions(prices, store.name, estimated.questions, estimated.listings) if prices else None
    return f", at least {cost:,.4f} {prices.currency}" if prices and cost is not None else ""


def _besides(store: StoreConfig, wanted: WantedDetails) -> str:
    """What is unknown beforehand: how many versions there are to look at."""
    inspected = any(looked in ("sample", "all") for _, looked in store.objects)
    most = 1 + wanted.tags + wanted.acl
    return f"; besides, {'one' if most == 1 else f'up to {most}'} for each version that is inspected" * inspected


@contextmanager
def _log_into(path: Path | None) -> Iterator[Log | None]:
    """Write entries as JSON lines. Never a secret: an entry has method, path, query, outcome, duration."""
    if path is None:
        yield None
        return
    try:
        stream = path.open("ab")
    except OSError as error:
        raise CannotWrite(write_problem("the log cannot be written", path, error)) from None
    with stream:
        yield lambda entry: (stream.write(msgspec.json.encode(entry) + b"\n"), None)[1]
