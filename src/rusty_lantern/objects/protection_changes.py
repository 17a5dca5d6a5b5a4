"""Protection of objects that became weaker between two surveys, version by version."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.table_set import Source, TableCounter, VersionTable, count_here, open_source

EXAMPLES = 5
MOST_KEYS = 10_000
_SORTS = {
    "deleted while under retention": "b.key IS NULL AND a.mode <> '' AND epoch_us(a.until) > $moment",
    "deleted while under legal hold": "b.key IS NULL AND a.hold",
    "retention shortened": "b.key IS NOT NULL AND a.mode <> '' AND (b.mode = '' OR b.until < a.until)",
    "mode weakened": "b.key IS NOT NULL AND a.mode = 'compliance' AND b.mode = 'governance'",
    "legal hold lifted": "b.key IS NOT NULL AND a.hold AND b.hold = false",
}  # fmt: skip

_FOUND = """
SELECT n, sort, count(*) OVER (PARTITION BY n, sort), key, version, until FROM (
  SELECT a.n, a.key, a.version, epoch_us(a.until) AS until, unnest([{sorts}]) AS sort
  FROM {before} a LEFT JOIN {after} b ON a.n = b.n AND a.key = b.key AND a.version = b.version WHERE NOT a.marker)
WHERE sort IS NOT NULL
QUALIFY row_number() OVER (PARTITION BY n, sort ORDER BY key, version) <= {most} ORDER BY n, sort, key, version
"""


def _moment(microseconds_: int) -> datetime:
    return datetime.fromtimestamp(microseconds_ / 1_000_000, UTC)


BySort = dict[str, tuple[int, list[str], frozenset[str]]]
"""What happened to versions → how many, the first of them in words, and the keys they are versions of."""


def weakened(
    before: Sequence[VersionTable], after: Sequence[VersionTable], moment: datetime, counter: TableCounter = count_here
) -> list[BySort]:
    """Per bucket what happened to versions that were protected, by its tables in two surveys; at most `MOST_KEYS` keys.

    Only versions that were inspected in both surveys say anything. Raises `Damaged`, and says which table is.
    """
    return counter(after, _Weakened({new.path: old for old, new in zip(before, after, strict=True)}, moment))


class _Weakened(msgspec.Struct, frozen=True):
    """What became weaker since the tables of an earlier survey, by the place of each later table."""

    before: dict[Path, VersionTable]
    moment: datetime

    def __call__(self, source: Source) -> list[BySort]:
        old = open_source(source.engine, [self.before[table.path] for table in source.tables], prefix="old_")
        sorts = ", ".join(f"CASE WHEN {where} THEN '{sort}' END" for sort, where in _SORTS.items())
        query = _FOUND.format(sorts=sorts, before=old.rows, after=source.rows, most=MOST_KEYS)
        rows: list[dict[str, list[tuple[int, str, str, int | None]]]] = [{} for _ in source.tables]
        for n, sort, *row in source.ask(query, {**old.bound, "moment": microseconds(self.moment)}):
            rows[n].setdefault(sort, []).append(tuple(row))
        return [{sort: _examples(by_sort[sort]) for sort in _SORTS if sort in by_sort} for by_sort in rows]


def _examples(rows: list[tuple[int, str, str, int | None]]) -> tuple[int, list[str], frozenset[str]]:
    shown = [
        f"{key} {version}" + (f", until {show_moment(_moment(until))}" if until else "")
        for _, key, version, until in rows[:EXAMPLES]
    ]
    return rows[0][0], shown, frozenset(key for _, key, _, _ in rows)
