"""What is locked in a bucket, how, until when, and who could delete it: one pass over its version table.

The columns say the same as `core.retention`, version by version; the tests hold one against the other.
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from rusty_lantern.core.object_rules.retention import EarliestDeletion
from rusty_lantern.core.object_rules.tally import SHOWN
from rusty_lantern.objects.duckdb_engine import microseconds, reading
from rusty_lantern.objects.sql import BINDS, SOURCE

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

PERIOD = f"""CASE WHEN marker THEN 'marker' WHEN mode IS NULL THEN 'unknown' WHEN {BINDS} THEN mode
  WHEN mode <> '' THEN 'lapsed' ELSE 'none' END"""
HELD = "CASE WHEN hold IS NULL AND NOT marker THEN 'unknown' WHEN hold THEN 'on' ELSE 'off' END"


class Part(msgspec.Struct, frozen=True):
    """Versions that are kept in the same way. `period`: governance, compliance, lapsed, none, unknown or marker."""

    period: str
    hold: str
    deleter: str
    versions: int
    bytes: int


class Keys(msgspec.Struct, frozen=True):
    """Keys whose current version stands in the same way, with the first of them."""

    state: str
    keys: int
    examples: list[str]


class Release(msgspec.Struct, frozen=True):
    """What comes free in one month by the end of its period, holds aside."""

    month: str
    mode: str
    bytes: int


class Odd(msgspec.Struct, frozen=True):
    """Versions whose retention is out of the ordinary, with the first keys."""

    versions: int
    examples: list[str]


class Locks(msgspec.Struct, frozen=True):
    """The retention of one bucket's versions at a moment."""

    parts: list[Part]
    keys: list[Keys]
    emptying: EarliestDeletion
    releases: list[Release]
    held_bytes: int
    weaker: Odd
    """Kept for less than the bucket's default would keep them, or in a weaker mode."""
    longest: int | None
    """The longest period given to a version, in seconds."""
    longest_key: str
    outlives_expiry: int | None
    """Old versions still locked when the shortest expiry rule would delete them; None without such a rule."""


def locks(path: Path, moment: datetime, default: tuple[str, int], expires_old: int) -> Locks:
    """Summarise a table. `default`: the bucket's default mode and seconds; `expires_old`: seconds, 0 without a rule."""
    bound = {"moment": microseconds(moment)}
    with reading(path) as columns:
        columns.execute("SET VARIABLE moment = $1", [microseconds(moment)])
        source = SOURCE.format(rows=_quoted(path)).replace("$moment", "getvariable('moment')")
        columns.execute(f"CREATE TEMP VIEW v AS SELECT * FROM {source}")  # noqa: S608
        return Locks(
            parts=[Part(*row) for row in _parts(columns, bound)],
            keys=[Keys(*row) for row in _keys(columns, bound)],
            emptying=_emptying(columns, bound),
            releases=[Release(*row) for row in _releases(columns, bound)],
            held_bytes=_one(columns, "SELECT coalesce(sum(size), 0)::BIGINT FROM v WHERE hold AND NOT marker", {}),
            weaker=_weaker(columns, default),
            longest=_one(columns, "SELECT max((until - written) // 1000000) FROM v WHERE mode <> ''", {}),
            longest_key=_one(columns, "SELECT arg_max(key, until - written) FROM v WHERE mode <> ''", {}) or "",
            outlives_expiry=_outlives(columns, expires_old),
        )


class Kept(msgspec.Struct, frozen=True):
    """Bytes of current objects that are kept alike; None where that is not known."""

    encrypted: bool | None
    locked: bool | None
    bytes: int


def kept(path: Path, moment: datetime) -> list[Kept]:
    """What encrypts and locks a bucket's current objects, by what each version itself is under."""
    query = (
        f"SELECT encryption <> 'none', CASE WHEN coalesce({BINDS}, false) OR coalesce(hold, false) THEN true "  # noqa: S608
        f"WHEN deleter <> 'unknown' THEN false END, sum(size)::BIGINT FROM {SOURCE} "
        "WHERE current AND NOT marker GROUP BY ALL ORDER BY ALL"
    )
    with reading(path) as columns:
        source = query.format(rows=_quoted(path))
        return [Kept(*row) for row in _rows(columns, source, {"moment": microseconds(moment)})]


def _quoted(path: Path) -> str:
    """A table as a source; a view takes no parameters, so the path is written as a text of its own."""
    return "read_parquet('" + str(path).replace("'", "''") + "')"


def _rows(columns: DuckDBPyConnection, query: str, bound: dict[str, Any]) -> list[tuple[Any, ...]]:
    return columns.execute(query, {k: v for k, v in bound.items() if f"${k}" in query}).fetchall()


def _one(columns: DuckDBPyConnection, query: str, bound: dict[str, Any]) -> Any:
    return _rows(columns, query, bound)[0][0]


def _parts(columns: DuckDBPyConnection, bound: dict[str, Any]) -> list[tuple[Any, ...]]:
    query = (
        f"SELECT {PERIOD} AS period, {HELD} AS held, deleter, count(*), sum(size)::BIGINT "  # noqa: S608
        "FROM v GROUP BY ALL ORDER BY period, held, deleter"
    )
    return _rows(columns, query, bound)


def _keys(columns: DuckDBPyConnection, bound: dict[str, Any]) -> list[tuple[Any, ...]]:
    query = (
        f"SELECT state, count(*), min(key, {SHOWN}) FROM (SELECT key, key_state AS state FROM v) "  # noqa: S608
        "WHERE state IS NOT NULL GROUP BY state ORDER BY state"
    )
    return _rows(columns, query, bound)


def _emptying(columns: DuckDBPyConnection, bound: dict[str, Any]) -> EarliestDeletion:
    query = (
        f"SELECT max(until) FILTER (NOT marker AND {BINDS}), "  # noqa: S608
        f"max(until) FILTER (NOT marker AND {BINDS} AND mode = 'compliance'), count(*) FILTER (hold AND NOT marker), "
        "count(*) FILTER (NOT marker AND (mode IS NULL OR hold IS NULL)) FROM v"
    )
    by_anyone, by_bypass, held, unknown = _rows(columns, query, bound)[0]
    return EarliestDeletion(_moment(by_anyone), _moment(by_bypass), held, unknown)


def _moment(microseconds_: int | None) -> datetime | None:
    return None if microseconds_ is None else datetime.fromtimestamp(microseconds_ / 1_000_000, UTC)


def _releases(columns: DuckDBPyConnection, bound: dict[str, Any]) -> list[tuple[Any, ...]]:
    query = (
        "SELECT strftime(make_timestamp(until), '%Y-%m') AS month, mode, sum(size)::BIGINT "  # noqa: S608
        f"FROM v WHERE NOT marker AND {BINDS} GROUP BY ALL ORDER BY month, mode"
    )
    return _rows(columns, query, bound)


def _weaker(columns: DuckDBPyConnection, default: tuple[str, int]) -> Odd:
    mode, keep = default
    if not mode:
        return Odd(0, [])
    less = "(mode = '' OR (until - written) // 1000000 < $keep OR ($mode = 'compliance' AND mode = 'governance'))"
    query = f"SELECT count(*), min(key, {SHOWN}) FROM v WHERE NOT marker AND mode IS NOT NULL AND {less}"  # noqa: S608
    versions, examples = _rows(columns, query, {"keep": keep, "mode": mode})[0]
    return Odd(versions, list(examples or ()))


def _outlives(columns: DuckDBPyConnection, expires_old: int) -> int | None:
    if not expires_old:
        return None
    longer = "mode <> '' AND (until - written) // 1000000 > $after"
    query = f"SELECT count(*) FROM v WHERE NOT current AND NOT marker AND {longer}"  # noqa: S608
    return int(_one(columns, query, {"after": expires_old}))
