"""How much version tables hold by tier, current and old, and what of it is locked until when: many tables at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import msgspec

from rusty_lantern.core.usage.holding import Kind, Locked
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.sql import BINDS, SOURCE
from rusty_lantern.objects.table_set import Over, Source, VersionTable, over


class ByTier(msgspec.Struct, frozen=True):
    """What one table holds. `locked` is None where the retention of some versions is not known."""

    kinds: list[Kind]
    markers: int
    locked: Locked | None


_KINDS = (
    f"SELECT n, tier, current, count(*), sum(size)::BIGINT FROM {SOURCE} WHERE NOT marker "
    "GROUP BY ALL ORDER BY n, tier, current DESC"
)
_LOCKED = f"""SELECT n, count(*) FILTER (marker), count(*) FILTER (NOT marker AND (mode IS NULL OR hold IS NULL)),
  coalesce(sum(size) FILTER (NOT marker AND (coalesce({BINDS}, false) OR coalesce(hold, false))), 0)::BIGINT,
  max(until) FILTER (NOT marker AND coalesce({BINDS}, false)),
  coalesce(sum(size) FILTER (NOT marker AND coalesce(hold, false)), 0)::BIGINT FROM {SOURCE} GROUP BY n"""


@dataclass(frozen=True)
class _ByTier:
    """A table's bytes by tier as of a moment."""

    moment: datetime

    def __call__(self, source: Source) -> list[ByTier]:
        bound = {"moment": microseconds(self.moment)}
        kinds: dict[int, list[Kind]] = {}
        for n, tier, current, versions, size in source.ask(_KINDS.format(rows=source.rows), bound):
            kinds.setdefault(n, []).append(Kind(tier or "", current, versions, size))
        locked = {n: row for n, *row in source.ask(_LOCKED.format(rows=source.rows), bound)}
        found = []
        for n, _ in enumerate(source.tables):
            markers, unknown, size, until, held = locked.get(n, [0, 0, 0, None, 0])
            ends = None if until is None else datetime.fromtimestamp(until / 1_000_000, UTC)
            found.append(ByTier(kinds.get(n, []), markers, None if unknown else Locked(size, ends, held)))
        return found


def by_tier(tables: Sequence[VersionTable], moment: datetime, over: Over = over) -> list[ByTier]:
    """What tables hold: one answer each, in order. Raises `Damaged`."""
    return over(tables, _ByTier(moment))
