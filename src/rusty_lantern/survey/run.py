"""The work of `lantern survey`: all stores at once, each with its journal, its progress and its log."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import msgspec

from rusty_lantern.archive.errors import CannotWrite, OutOfTime
from rusty_lantern.archive.journal import Journal
from rusty_lantern.archive.surveys import last_dossier
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Estate, Store
from rusty_lantern.core.config.object_scan import ScanDepth
from rusty_lantern.core.errors import BadInput, LanternError, Place, Problem, defect, nearest
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.dossier.reader import BESIDE, joined, read_beside, read_dossier
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import NoCredential, NoLongerAccepted, RequestFailed
from rusty_lantern.stores.iam.reader import read_identities
from rusty_lantern.stores.s3.object_details import Wanted
from rusty_lantern.stores.s3.reader import BY_SUB_RESOURCE, Look, list_buckets, survey
from rusty_lantern.stores.s3.tls_check import front_door
from rusty_lantern.survey.anonymous_probe import knock_everywhere
from rusty_lantern.survey.progress import Progress, Silence

FRONT = ("certificate", "plain_http", "legacy_signatures")
PEOPLE = ("identities", "groups", "credentials")


@dataclass(frozen=True)
class Plan:
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
    wanted: Wanted = field(default_factory=Wanted)
    progress: Progress = field(default_factory=Silence)
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

    def stores(self) -> list[tuple[Store, tuple[str, ...]]]:
        """The stores to read, each with the bucket patterns to keep to."""
        found = []
        for entry in self.estate.stores:
            store = msgspec.structs.replace(entry, objects=(("*", self.objects),)) if self.objects else entry
            patterns = [pattern.partition("/")[::2] for pattern in self.only]
            kept = tuple(bucket for name, bucket in patterns if fnmatchcase(store.name, name))
            if kept or not self.only:
                found.append((store, kept))
        return found


async def read_all(plan: Plan, journals: Path) -> list[Dossier]:
    """A dossier for each store; what was journalled already is not asked again."""
    progress = plan.progress
    with _log_into(plan.log) as log:
        paused: list[NoLongerAccepted] = []

        async def one(store: Store, patterns: tuple[str, ...]) -> Dossier | None:
            progress.started(store.name, store.at)
            journal = Journal(journals / f"{store.name}.jsonl")
            try:
                return await _read_store(
                    plan, store, patterns, journal, log, lambda d, t, r: progress.advanced(store.name, d, t, r)
                )
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
            remedy = "every answer so far is kept; to go on: lantern survey --resume"
            raise OutOfTime(Problem(what, remedy=remedy)) from None
        except BaseExceptionGroup as errors:
            raise _first(errors) from None
        if paused:
            raise NoLongerAccepted(*(complaint for error in paused for complaint in error.complaints))
        return [dossier for task in tasks if (dossier := task.result()) is not None]


def _unread(plan: Plan, store: Store, error: Exception) -> Dossier:
    """What stands for a store that could not be read by a fault of ours."""
    plan.progress.noted(f"{store.name}: {defect(error)}")
    lost: Answer[int] = Answer("failed", None, defect(error))
    return Dossier(store=store.name, taken=plan.moment, address=store.at, listing=lost)


async def _guarded(plan: Plan, read: Dossier, fields: tuple[str, ...], more: Awaitable[dict[str, Any]]) -> Dossier:
    """A dossier with what is read besides; whatever goes wrong there is that part's alone."""
    try:
        return msgspec.structs.replace(read, **await more)
    except LanternError:
        raise
    except Exception as error:
        plan.progress.noted(f"{read.store}: {defect(error)}")
        lost: Answer[Any] = Answer("failed", None, defect(error))
        return msgspec.structs.replace(read, **dict.fromkeys(fields, lost))


def _first(error: BaseException) -> BaseException:
    """The error that ended a group, out of its wrappings."""
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    return error


async def _read_store(
    plan: Plan,
    store: Store,
    patterns: tuple[str, ...],
    journal: Journal,
    log: Callable[[dict[str, object]], None] | None,
    show: Callable[[int, int, str], None],
) -> Dossier:
    try:
        if store.reads == "dossier":
            kept = last_dossier(journal.path.parent.parent.parent, store.name, plan.moment)
            return _only(await read_dossier(store, plan.folder, plan.moment, kept, log), store.only, patterns)
        key = find(store.credential, plan.folder)
    except NoCredential as error:
        lost: Answer[int] = Answer("denied", None, str(error.complaints[0].what))
        return Dossier(store=store.name, taken=plan.moment, address=store.at, listing=lost)
    client = Client(store, key, plan.folder, memory=journal, log=log, renew=lambda: find(store.credential, plan.folder))
    loop = asyncio.get_running_loop()
    start = loop.time()
    partial = journal.path.parent.parent
    counts = [0, 0, 0]

    def told() -> None:
        looked = f"{counts[2]:,} versions, " if counts[2] else ""
        show(counts[0], counts[1], f"{looked}{client.asked / max(loop.time() - start, 0.1):,.0f} questions/s")

    def progress(done: int, total: int) -> None:
        counts[:2] = done, total
        told()

    def looked_at(versions: int) -> None:
        counts[2] = versions
        told()

    look = _look(plan, store, partial, looked_at)
    async with client:
        read = await survey(client, plan.moment, progress, patterns, plan.list_limit, look)
        front = front_door(client, plan.moment, answered=read.listing.settled)
        read = await _guarded(plan, read, FRONT, front)
        read = await _with_holders(plan, store, read, client)
        if journal.replayed:
            plan.progress.noted(
                f"{store.name}: {journal.replayed:,} answers were kept, {client.asked:,} questions were asked now"
            )
        if not plan.probe:
            return read
        plan.progress.noted(
            f"knocking at {store.at} without credentials, at most {store.pace.per_second} requests a second"
        )
        async with Client(store, None, plan.folder, log=log) as outside:
            return await knock_everywhere(client, outside, read, plan.estate)


def _only(dossier: Dossier, *choices: tuple[str, ...]) -> Dossier:
    """The dossier with the buckets that every choice of patterns takes in; no patterns take in all.

    One that was cut short loses its ETag, so that the next survey asks for all of it again.
    """
    kept = [b for b in dossier.buckets if all(not c or any(fnmatchcase(b.name, p) for p in c) for c in choices)]
    if len(kept) == len(dossier.buckets):
        return dossier
    return msgspec.structs.replace(dossier, buckets=kept, tag="")


async def _with_holders(plan: Plan, store: Store, read: Dossier, client: Client) -> Dossier:
    """The dossier with what the identity service and the dossier beside the store tell."""
    if store.identities is not None and read.listing.settled:
        entry = msgspec.structs.replace(store, at=store.identities.at, signing_place=store.identities.signing_place)
        async with Client(entry, client.key, plan.folder, memory=client.memory, log=client.log, service="iam") as asked:
            read = await _guarded(plan, read, PEOPLE, read_identities(asked, plan.moment))
    if not store.beside:
        return read
    try:
        return joined(read, read_beside(store, plan.folder, plan.moment))
    except RequestFailed as error:
        plan.progress.noted(f"{store.name}: {error.note}")
        lost: Answer[Any] = Answer(error.state, None, error.note)
        return msgspec.structs.replace(read, **{name: lost for name in BESIDE if not getattr(read, name).settled})


def _look(plan: Plan, store: Store, partial: Path, looked_at: Callable[[int], None]) -> Look:
    """How a store's objects are looked at; the column engine is only loaded where they are."""
    if all(looked == "none" for _, looked in store.objects) and store.inventory is None:
        return lambda client, bucket: None
    from rusty_lantern.archive.surveys import JOURNAL
    from rusty_lantern.survey.object_tables import Gathering

    return Gathering(
        store, plan.folder, partial, partial / JOURNAL / store.name, plan.wanted, plan.earlier, looked_at
    ).look


LISTINGS = 3
"""Listings of each bucket: objects, versions, unfinished uploads; one page at least."""


async def estimate(plan: Plan) -> tuple[list[str], bool]:
    """How many questions a survey would ask of each store, and roughly how long; whether every store could be asked."""
    told, whole = [], True
    for store, patterns in plan.stores():
        if store.reads == "dossier":
            told.append(f"{store.name}: one question to {store.at}")
            continue
        async with Client(store, find(store.credential, plan.folder), plan.folder) as client:
            start = asyncio.get_running_loop().time()
            try:
                buckets, _ = await list_buckets(client)
            except RequestFailed as error:
                told.append(f"{store.name}: cannot be asked: {error.note}")
                whole = False
                continue
            latency = asyncio.get_running_loop().time() - start
        wanted = [b for b, _ in buckets if not patterns or any(fnmatchcase(b, pattern) for pattern in patterns)]
        questions = 2 + len(wanted) * (len(BY_SUB_RESOURCE) + LISTINGS)
        seconds = questions / min(store.pace.per_second, store.pace.at_once / max(latency, 0.001))
        told.append(
            f"{store.name}: {len(wanted):,} buckets, at least {questions:,} questions to {store.at}, "
            f"about {max(1, round(seconds)):,} s at {store.pace.per_second:,} a second at the most" + _besides(store)
        )
    return told, whole


def _besides(store: Store) -> str:
    """What cannot be told beforehand: how many versions there are to look at."""
    inspected = any(looked in ("sample", "all") for _, looked in store.objects)
    return "; besides, one for each version that is looked at" if inspected else ""


@contextmanager
def _log_into(path: Path | None) -> Iterator[Callable[[dict[str, object]], None] | None]:
    """Write what is told as JSON lines. Never a secret: what is told is method, path, query, outcome, duration."""
    if path is None:
        yield None
        return
    try:
        stream = path.open("ab")
    except OSError as error:
        raise CannotWrite(Problem(f"the log cannot be written: {error.strerror}", Place(str(path)))) from None
    with stream:
        yield lambda told: (stream.write(msgspec.json.encode(told) + b"\n"), None)[1]
