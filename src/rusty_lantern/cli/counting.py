"""How commands count over version tables: what was kept, or anew; on this machine, or on a cluster."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence
    from datetime import datetime

    from rusty_lantern.archive.surveys import Survey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.audit.replicas import Behind
    from rusty_lantern.core.baseline.evaluation import Tallies
    from rusty_lantern.objects.protection_changes import BySort
    from rusty_lantern.objects.replica_diff import Key
    from rusty_lantern.objects.retention_summary import ProtectedBytes, RetentionSummary
    from rusty_lantern.objects.table_set import TableCounter, VersionTable
    from rusty_lantern.objects.usage_by_tier import ByTier

T = TypeVar("T")
COMMANDS = (
    "audit", "remedy", "waive", "baseline", "changes", "report", "figure", "history", "objects", "retention", "usage",
    "encryption", "mirrors", "show",
)  # fmt: skip
"""The commands that count over version tables, and so take the options below."""


class Engine(StrEnum):
    """Where versions are counted: on this machine, or on a Dask cluster that shares the workspace's folder."""

    here = "here"
    dask = "dask"


class Run(NamedTuple):
    """What was asked of a run."""

    fresh: bool = False
    engine: Engine = Engine.here
    scheduler: str = ""


def _run_options() -> Run:
    context = click.get_current_context(silent=True)
    said: dict[str, Any] = context.meta if context else {}
    return Run(**{name: said[f"lantern.{name}"] for name in Run._fields if said.get(f"lantern.{name}")})


def _remember(context: click.Context, option: click.Parameter, value: Any) -> None:
    context.meta[f"lantern.{option.name}"] = Engine(value) if option.name == "engine" else value


def options() -> list[click.Option]:
    """The options of every command that counts over version tables."""
    return [
        click.Option(
            ["--fresh"], is_flag=True, expose_value=False, callback=_remember,
            help="Count again; use no saved counts.",
        ),
        click.Option(
            ["--engine"], type=click.Choice([*Engine]), default=Engine.here.value, envvar="LANTERN_ENGINE",
            expose_value=False, callback=_remember, help="Where versions are counted (LANTERN_ENGINE).",
        ),
        click.Option(
            ["--scheduler"], default="", envvar="LANTERN_SCHEDULER", expose_value=False, callback=_remember,
            help="The Dask scheduler to use with --engine dask (LANTERN_SCHEDULER).",
        ),
    ]  # fmt: skip


def counted_anew() -> bool:
    """Whether what is kept of earlier counts is not to be used."""
    return _run_options().fresh


def _over(run: Run) -> TableCounter:
    from rusty_lantern.objects.table_set import count_here

    if run.engine is Engine.here:
        return count_here
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.objects.dask_cluster import Cluster

    if not run.scheduler:
        raise BadInput(Problem("--engine dask needs --scheduler", remedy="e.g. --scheduler tcp://127.0.0.1:8786"))
    root = click.get_current_context().find_root()
    if "lantern.cluster" not in root.meta:
        root.meta["lantern.cluster"] = cluster = Cluster(run.scheduler)
        root.call_on_close(cluster.close)
    over_cluster: TableCounter = root.meta["lantern.cluster"].over
    return over_cluster


class VersionTables:
    """The version tables of one survey, as of one moment. Each answer is counted once, and kept.

    Everything here raises `Damaged` for a table that is not what was written.
    """

    def __init__(self, place: Workspace, survey: Survey, moment: datetime) -> None:
        self._place = place
        self._survey = survey
        self._moment = moment
        self._run = _run_options()

    def tallies(self, judge: Judge, views: Iterable[BucketSubject]) -> Tallies:
        """What requirements on objects come to; the engine is loaded only where there are any."""
        wanted = [(view, required) for view in views if (required := judge.on_objects(view))]
        if not wanted:
            return {}
        from rusty_lantern.core.object_rules.tally import Tally
        from rusty_lantern.objects.evaluation import tallies

        tables = self._of([view for view, _ in wanted])
        written = [[(r.fact, r.comparison and r.comparison.words) for r in required] for _, required in wanted]
        counted = self._each(
            "tallies", tables, list[Tally],
            lambda ns: tallies([(tables[n], wanted[n][1]) for n in ns], self._moment, _over(self._run)),
            written,
        )  # fmt: skip
        return {
            (view.store, view.name): {r.place: tally for r, tally in zip(required, each, strict=True)}
            for (view, required), each in zip(wanted, counted, strict=True)
        }

    def retention_summaries(self, views: Sequence[BucketSubject]) -> list[RetentionSummary]:
        """What is locked in inspected buckets, how, and until when."""
        from rusty_lantern.objects.retention_summary import RetentionSummary, retention_summaries

        tables = self._of(views)
        return self._each(
            "locks",
            tables,
            RetentionSummary,
            lambda ns: retention_summaries([tables[n] for n in ns], self._moment, _over(self._run)),
        )

    def kept_bytes(self, views: Sequence[BucketSubject]) -> list[list[ProtectedBytes]]:
        """What encrypts and locks the current objects of inspected buckets."""
        from rusty_lantern.objects.retention_summary import ProtectedBytes, protected_bytes

        tables = self._of(views)
        return self._each(
            "bytes",
            tables,
            list[ProtectedBytes],
            lambda ns: protected_bytes([tables[n] for n in ns], self._moment, _over(self._run)),
        )

    def by_tier(self, views: Sequence[BucketSubject], periods: Sequence[int] = ()) -> list[ByTier]:
        """How much is in inspected buckets by tier, what of it is locked, and what expires soon."""
        from rusty_lantern.objects.usage_by_tier import ByTier, by_tier

        tables = self._of(views)
        return self._each(
            "usage", tables, ByTier,
            lambda ns: by_tier([tables[n] for n in ns], self._moment, _over(self._run), periods),
            [list(periods)] * len(tables),
        )  # fmt: skip

    def keys(self, views: Sequence[BucketSubject]) -> list[list[Key]]:
        """What the versions in inspected buckets are encrypted with."""
        from rusty_lantern.objects.replica_diff import Key, keys_in

        tables = self._of(views)
        return self._each("keys", tables, list[Key], lambda ns: keys_in([tables[n] for n in ns], _over(self._run)))

    def lacking(self, pairs: Sequence[tuple[BucketSubject, BucketSubject, int]]) -> list[Behind]:
        """What the second of two inspected buckets lacks of the first; a copy may lag by so many seconds."""
        if not pairs:
            return []
        from rusty_lantern.core.audit.replicas import Behind
        from rusty_lantern.objects.replica_diff import lacking

        tables, copies = self._of([view for view, _, _ in pairs]), self._of([copy for _, copy, _ in pairs])
        compared = [
            (original, copy, view.dossier.taken, lag)
            for original, copy, (view, _, lag) in zip(tables, copies, pairs, strict=True)
        ]
        return self._each(
            "lacking", tables, Behind, lambda ns: lacking([compared[n] for n in ns], _over(self._run)),
            [(taken, lag) for _, _, taken, lag in compared], copies,
        )  # fmt: skip

    def weakened(self, before: Survey, buckets: Sequence[tuple[str, str]]) -> list[BySort]:
        """What became weaker since an earlier survey in buckets (store and name) whose objects both looked at."""
        from rusty_lantern.objects.protection_changes import BySort, weakened

        old, new = (_tables(survey, buckets) for survey in (before, self._survey))
        return self._each(
            "weakened", new, BySort,
            lambda ns: weakened([old[n] for n in ns], [new[n] for n in ns], self._moment, _over(self._run)), (), old,
        )  # fmt: skip

    def _of(self, views: Sequence[BucketSubject]) -> list[VersionTable]:
        from rusty_lantern.objects.table_set import version_table

        folder = self._survey.folder.resolve()
        return [version_table(folder, view) for view in views]

    def _each(
        self,
        kind: str,
        tables: Sequence[VersionTable],
        form: type[T],
        count: Callable[[list[int]], Sequence[T]],
        what: Sequence[object] = (),
        others: Sequence[VersionTable] = (),
    ) -> list[T]:
        """One answer a table; it depends on its file, on the other's beside it, and on what else is said of it."""
        if not tables:
            return []
        from rusty_lantern.archive.table_cache import TableCache

        depends_on = [
            ([table.path, *(other.path for other in others[n : n + 1])], [table[1:], *what[n : n + 1]])
            for n, table in enumerate(tables)
        ]
        cache = TableCache(self._place.folder, self._survey.name, self._moment, self._run.fresh, self._place.sealed)
        return cache.each(kind, depends_on, form, count)


def _tables(survey: Survey, buckets: Sequence[tuple[str, str]]) -> list[VersionTable]:
    from rusty_lantern.objects.duckdb_engine import table_path
    from rusty_lantern.objects.table_set import VersionTable

    folder = survey.folder.resolve()
    rows = {(d.store, b.name): b.table.value.rows for d in survey.dossiers for b in d.buckets if b.table.value}
    return [VersionTable(table_path(folder, *bucket), rows[bucket]) for bucket in buckets]
