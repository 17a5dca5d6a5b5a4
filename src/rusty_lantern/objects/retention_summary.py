"""What is locked in a bucket, how, until when, and who could delete it: a few passes over many version tables at once.

The columns say the same as `core.retention`, version by version; the tests hold one against the other.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import msgspec

from rusty_lantern.core.object_rules.retention import EarliestDeletion
from rusty_lantern.core.object_rules.tally import SHOWN
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.sql import BINDS, SOURCE
from rusty_lantern.objects.table_set import MOST_ROWS, Source, TableCounter, VersionTable, count_here

PERIOD = f"""CASE WHEN marker THEN 'delete-marker' WHEN mode IS NULL THEN 'unknown' WHEN {BINDS} THEN mode
  WHEN mode <> '' THEN 'expired' ELSE 'none' END"""
HELD = "CASE WHEN hold IS NULL AND NOT marker THEN 'unknown' WHEN hold THEN 'on' ELSE 'off' END"


class VersionGroup(msgspec.Struct, frozen=True):
    """Versions that are protected in the same way."""

    retention: str
    """governance, compliance, expired, none, unknown or delete-marker."""
    legal_hold: str
    deletable_by: str
    versions: int
    bytes: int


class KeyGroup(msgspec.Struct, frozen=True):
    """Keys whose current version is in the same state, with the first of them."""

    state: str
    keys: int
    examples: list[str]


class Release(msgspec.Struct, frozen=True):
    """What comes free in one month by the end of its period, holds aside."""

    month: str
    mode: str
    bytes: int


class WeakerVersions(msgspec.Struct, frozen=True):
    """Versions with weaker retention than their bucket's default, with the first keys."""

    versions: int
    examples: list[str]


class RetentionSummary(msgspec.Struct, frozen=True):
    """The retention of one bucket's versions at a moment."""

    groups: list[VersionGroup]
    keys: list[KeyGroup]
    earliest_deletion: EarliestDeletion
    releases: list[Release]
    legal_hold_bytes: int
    weaker_than_default: WeakerVersions
    """Retained for less than the bucket's default would retain them, or in a weaker mode."""
    longest_retention: int | None
    """The longest period given to a version, in seconds."""
    longest_retention_key: str
    outlives_expiry: int | None
    """Old versions still locked when the shortest expiry rule would delete them; None without such a rule."""


class _Locks(msgspec.Struct, frozen=True):
    """A table's retention as of a moment."""

    moment: datetime

    def __call__(self, source: Source) -> list[RetentionSummary]:
        return _locks(source, self.moment)


def retention_summaries(
    tables: Sequence[VersionTable], moment: datetime, counter: TableCounter = count_here
) -> list[RetentionSummary]:
    """Summarise tables: one summary each, in order. Raises `Damaged`."""
    return counter(tables, _Locks(moment))


_SEEN = f"""(SELECT n, key, size, marker, current, mode, until, written, hold, deletable_by, key_state,
  NOT marker AND coalesce({BINDS}, false) AS bound, {PERIOD} AS period, {HELD} AS held,
  default_mode, default_retention, expires_old FROM {SOURCE})"""
_PARTS = (
    "SELECT n, period, held, deletable_by, count(*), sum(size)::BIGINT FROM {v} "
    "GROUP BY ALL ORDER BY n, period, held, deletable_by"
)
_KEYS = (
    f"SELECT n, key_state, count(*), min(key, {SHOWN}) FROM {{v}} WHERE key_state IS NOT NULL "
    "GROUP BY ALL ORDER BY n, key_state"
)
_RELEASES = (
    "SELECT n, strftime(make_timestamp(until), '%Y-%m') AS month, mode, sum(size)::BIGINT FROM {v} WHERE bound "
    "GROUP BY ALL ORDER BY n, month, mode"
)
_LESS = """(mode = '' OR (until - written) // 1000000 < default_retention
  OR (default_mode = 'compliance' AND mode = 'governance'))"""
_SINGLE = f"""SELECT n, max(until) FILTER (bound), max(until) FILTER (bound AND mode = 'compliance'),
  count(*) FILTER (hold AND NOT marker), count(*) FILTER (NOT marker AND (mode IS NULL OR hold IS NULL)),
  coalesce(sum(size) FILTER (hold AND NOT marker), 0)::BIGINT,
  count(*) FILTER ({{weaker}}), min(key, {SHOWN}) FILTER ({{weaker}}),
  max(until - written) FILTER (mode <> ''),
  count(*) FILTER (NOT current AND NOT marker AND mode <> '' AND (until - written) // 1000000 > expires_old)
FROM {{{{v}}}} GROUP BY n""".format(weaker=f"default_mode <> '' AND NOT marker AND mode IS NOT NULL AND {_LESS}")
_LONGEST = """SELECT n, min(key) FROM {v} JOIN (SELECT unnest($numbers) AS n, unnest($longest::BIGINT[]) AS longest)
  USING (n) WHERE mode <> '' AND until - written = longest GROUP BY n"""


def _locks(source: Source, moment: datetime) -> list[RetentionSummary]:
    """The summaries of tables that are read together. What they are made of is read once, unless it is much."""
    v = _SEEN.format(rows=source.rows)
    bound: dict[str, Any] = {"moment": microseconds(moment)}
    if len(source.tables) > 1 or source.tables[0].rows <= MOST_ROWS:
        source.ask(f"CREATE TEMP TABLE v AS SELECT * FROM {v}", bound)
        v = "v"

    def rows_of(query: str) -> dict[int, list[tuple[Any, ...]]]:
        rows: dict[int, list[tuple[Any, ...]]] = {}
        for n, *row in source.ask(query.format(v=v), bound):
            rows.setdefault(n, []).append(tuple(row))
        return rows

    parts, keys, releases = rows_of(_PARTS), rows_of(_KEYS), rows_of(_RELEASES)
    single = rows_of(_SINGLE)
    bound |= {"numbers": list(single), "longest": [rows[0][7] for rows in single.values()]}
    longest = rows_of(_LONGEST)
    summaries = []
    for n, table in enumerate(source.tables):
        until, until_bypass, held, unknown, legal_hold_bytes, weaker, examples, period, outlives = single.get(
            n, [_NO_ROWS]
        )[0]
        summaries.append(
            RetentionSummary(
                groups=[VersionGroup(*row) for row in parts.get(n, ())],
                keys=[KeyGroup(*row) for row in keys.get(n, ())],
                earliest_deletion=EarliestDeletion(_moment(until), _moment(until_bypass), held, unknown),
                releases=[Release(*row) for row in releases.get(n, ())],
                legal_hold_bytes=legal_hold_bytes,
                weaker_than_default=WeakerVersions(weaker, list(examples or ())),
                longest_retention=None if period is None else period // 1_000_000,
                longest_retention_key=longest.get(n, [("",)])[0][0],
                outlives_expiry=outlives if table.expires_old else None,
            )
        )
    return summaries


_NO_ROWS = (None, None, 0, 0, 0, 0, None, None, 0)


class ProtectedBytes(msgspec.Struct, frozen=True):
    """Bytes of current objects that are kept alike; None where that is not known."""

    encrypted: bool | None
    locked: bool | None
    bytes: int


_KEPT = (
    f"SELECT n, encryption <> 'none', CASE WHEN coalesce({BINDS}, false) OR coalesce(hold, false) THEN true "
    f"WHEN deletable_by <> 'unknown' THEN false END, sum(size)::BIGINT FROM {SOURCE} "
    "WHERE current AND NOT marker GROUP BY ALL ORDER BY ALL"
)


class _Keeping(msgspec.Struct, frozen=True):
    """A table's bytes by how they are kept at a moment."""

    moment: datetime

    def __call__(self, source: Source) -> list[list[ProtectedBytes]]:
        by_table: list[list[ProtectedBytes]] = [[] for _ in source.tables]
        for n, *row in source.ask(_KEPT.format(rows=source.rows), {"moment": microseconds(self.moment)}):
            by_table[n].append(ProtectedBytes(*row))
        return by_table


def protected_bytes(
    tables: Sequence[VersionTable], moment: datetime, counter: TableCounter = count_here
) -> list[list[ProtectedBytes]]:
    """Per table what encrypts and locks the bucket's current objects, by what each version itself is under."""
    return counter(tables, _Keeping(moment))


def _moment(microseconds_: int | None) -> datetime | None:
    return None if microseconds_ is None else datetime.fromtimestamp(microseconds_ / 1_000_000, UTC)
