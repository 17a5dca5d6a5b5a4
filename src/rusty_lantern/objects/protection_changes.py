"""Protection of objects that became weaker between two surveys, version by version."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.objects.duckdb_engine import microseconds, reading

EXAMPLES = 5
MOST_KEYS = 10_000
_SORTS = {
    "deleted while under retention": "b.key IS NULL AND a.mode <> '' AND epoch_us(a.until) > $moment",
    "deleted while under legal hold": "b.key IS NULL AND a.hold",
    "retention shortened": "b.key IS NOT NULL AND a.mode <> '' AND (b.mode = '' OR b.until < a.until)",
    "mode weakened": "b.key IS NOT NULL AND a.mode = 'compliance' AND b.mode = 'governance'",
    "legal hold lifted": "b.key IS NOT NULL AND a.hold AND b.hold = false",
}  # fmt: skip

_JOINED = (
    "SELECT a.key, a.version, epoch_us(a.until) FROM read_parquet(?) a LEFT JOIN read_parquet(?) b "
    "ON a.key = b.key AND a.version = b.version WHERE NOT a.marker AND ($where) ORDER BY a.key, a.version"
)


def _moment(microseconds_: int) -> datetime:
    return datetime.fromtimestamp(microseconds_ / 1_000_000, UTC)


def weakened(before: Path, after: Path, moment: datetime) -> dict[str, tuple[int, list[str], frozenset[str]]]:
    """What happened to versions that were protected → how many, the first of them in words, and the keys (at most
    `MOST_KEYS`) they are versions of.

    Only versions that were inspected in both surveys say anything.
    """
    found: dict[str, tuple[int, list[str], frozenset[str]]] = {}
    with reading(after) as engine:
        for sort, where in _SORTS.items():
            text = where.replace("$moment", str(microseconds(moment)))
            rows = engine.execute(_JOINED.replace("$where", text), [str(before), str(after)]).fetchall()
            if rows:
                shown = [f"{key} {version}" + (f", until {show_moment(_moment(until))}" if until else "")
                         for key, version, until in rows[:EXAMPLES]]  # fmt: skip
                found[sort] = len(rows), shown, frozenset(key for key, _, _ in rows[:MOST_KEYS])
    return found
