"""How much version tables hold by tier, what of it is locked until when, what expiry rules will remove soon, and what
deleting it early would still be billed: many tables at once."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec

from rusty_lantern.core.usage.holding import LATELY, MONTH, Kind, Locked
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.sql import BINDS, SOURCE
from rusty_lantern.objects.table_set import Source, TableCounter, VersionTable, count_here


class ByTier(msgspec.Struct, frozen=True):
    """What one table holds. `locked` is None where the retention of some versions is not known."""

    kinds: list[Kind]
    markers: int
    locked: Locked | None
    expiring: int | None
    """Bytes that expiry rules, or their own expiry, remove within a month; None where that is not known."""
    written_lately: int | None = None
    """Bytes of the versions of the last 90 days; None where some have no date."""


_KINDS = f"""SELECT n, coalesce(tier, ''), current, count(*), sum(size)::BIGINT,
  coalesce(sum(size::HUGEINT * (until - $moment)) FILTER (coalesce({BINDS}, false)), 0) / $month,
  count(*) FILTER (written IS NULL){{young}}
FROM {SOURCE} WHERE NOT marker GROUP BY ALL ORDER BY n, 2, current DESC"""
_YOUNG = ", coalesce(sum(size::HUGEINT * greatest(0, {} - ($moment - written))), 0) / $month"
_LOCKED = f"""SELECT n, count(*) FILTER (marker), count(*) FILTER (NOT marker AND (mode IS NULL OR hold IS NULL)),
  coalesce(sum(size) FILTER (NOT marker AND (coalesce({BINDS}, false) OR coalesce(hold, false))), 0)::BIGINT,
  max(until) FILTER (NOT marker AND coalesce({BINDS}, false)),
  coalesce(sum(size) FILTER (NOT marker AND coalesce(hold, false)), 0)::BIGINT,
  CASE WHEN count(*) FILTER (written IS NULL) = 0
    THEN coalesce(sum(size) FILTER (NOT marker AND written > $lately AND written <= $moment), 0)::BIGINT END
FROM {SOURCE} GROUP BY n"""

_RULES = """from_json(rules, '[{"prefix":"VARCHAR","expires":"BIGINT","old":"BIGINT","on":"BIGINT"}]')"""


def _soonest(period: str) -> str:
    """The least of a period over the rules that a key falls under; null where none has it."""
    fitting = f"list_filter(r, lambda x: x.{period} > 0 AND starts_with(key, x.prefix))"
    return f"list_min(list_transform({fitting}, lambda x: x.{period}))"


_EXPIRING = f"""SELECT n,
  coalesce(sum(size) FILTER (removed <= $ahead AND sure AND NOT hold AND coalesce(until, 0) <= $ahead), 0)::BIGINT,
  count(*) FILTER (dated IS NULL OR (removed <= $ahead AND NOT sure))
FROM (SELECT *, CASE WHEN versioned OR NOT current THEN gone + old_period * 1000000 ELSE gone END AS removed,
    mode IS NOT NULL AND hold IS NOT NULL AS sure, CASE WHEN current THEN written ELSE newer END AS dated
  FROM (SELECT *, CASE WHEN NOT current THEN newer WHEN on_day IS NULL THEN written + period * 1000000
      ELSE least(written + period * 1000000, greatest(written, on_day)) END AS gone
    FROM (SELECT n, key, size, marker, current, written, until, mode, hold, versioned,
        lag(written) OVER (PARTITION BY n, key ORDER BY current DESC, written DESC NULLS LAST) AS newer,
        {_soonest("expires")} AS period, {_soonest("old")} AS old_period, {_soonest('"on"')} AS on_day
      FROM (SELECT *, {_RULES} AS r FROM {SOURCE} WHERE rules <> '')))
  WHERE NOT marker AND (old_period IS NOT NULL OR ((period IS NOT NULL OR on_day IS NOT NULL) AND NOT versioned)))
GROUP BY n"""
"""When a version is removed for good: an old one so long after a newer one took its place; a current one when its rule
says so, or, where the bucket keeps versions, so long after that as an old one. Not before its lock ends."""


_OWN_EXPIRY = f"""SELECT n, coalesce(sum(size) FILTER (expires <= $ahead), 0)::BIGINT,
  count(*) FILTER (expires IS NULL AND inspected <> 'yes')
FROM (SELECT n, size, inspected, epoch_us(expires) AS expires FROM {SOURCE} WHERE NOT marker) GROUP BY n"""
"""What versions say themselves about their end; what was not inspected may say something."""


class _ByTier(msgspec.Struct, frozen=True):
    """A table's bytes by tier as of a moment."""

    moment: datetime
    periods: tuple[int, ...]

    def __call__(self, source: Source) -> list[ByTier]:
        bound: dict[str, Any] = {"moment": microseconds(self.moment), "ahead": microseconds(self.moment + MONTH)}
        bound["lately"] = microseconds(self.moment - LATELY)
        bound["month"] = MONTH // timedelta(microseconds=1)
        young = "".join(_YOUNG.format(int(period) * 1_000_000) for period in self.periods)
        kinds: dict[int, list[Kind]] = {}
        for n, tier, now, versions, size, bound_for, undated, *early in source.ask(
            _KINDS.format(rows=source.rows, young=young), bound
        ):
            kinds.setdefault(n, []).append(Kind(tier, now, versions, size, bound_for, undated, tuple(early)))
        locked = {n: row for n, *row in source.ask(_LOCKED.format(rows=source.rows), bound)}
        removed: dict[int, list[int]] = {}
        if any(table.rules for table in source.tables):
            removed = {n: row for n, *row in source.ask(_EXPIRING.replace("{rows}", source.rows), bound)}
        ending: dict[int, list[int]] = {}
        if any(table.own_expiry for table in source.tables):
            ending = {n: row for n, *row in source.ask(_OWN_EXPIRY.format(rows=source.rows), bound)}
        tiers = []
        for n, table in enumerate(source.tables):
            markers, unknown, size, until, held, lately = locked.get(n, [0, 0, 0, None, 0, 0])
            ends = None if until is None else datetime.fromtimestamp(until / 1_000_000, UTC)
            expiring, unsure = removed.get(n, [0, 0])
            if table.own_expiry:
                own, uninspected = ending.get(n, [0, 0])
                expiring, unsure = expiring + own, unsure + uninspected
            tiers.append(
                ByTier(
                    kinds.get(n, []), markers, None if unknown else Locked(size, ends, held),
                    None if unsure or not table.rules_known else expiring, lately,
                )
            )  # fmt: skip
        return tiers


def by_tier(
    tables: Sequence[VersionTable], moment: datetime, counter: TableCounter = count_here, periods: Sequence[int] = ()
) -> list[ByTier]:
    """What tables hold: one answer each, in order. `periods`: shortest billed ones, in seconds. Raises `Damaged`."""
    return counter(tables, _ByTier(moment, tuple(periods)))
