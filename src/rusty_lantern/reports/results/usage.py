"""The result of `lantern usage`, as `--json` prints it and as its tables are made of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from typing import Any

import msgspec

from rusty_lantern.core.usage.holding import (
    MONTH,
    Group,
    Growth,
    Holding,
    Sum,
    by_tier,
    days_until_full,
    group,
    grouped,
    growth,
    name_of,
)
from rusty_lantern.core.usage.prices import Cost, Prices, cost
from rusty_lantern.reports.results.of_survey import OfSurvey


class CostResult(msgspec.Struct, frozen=True, kw_only=True):
    """What keeping costs, in the price list's currency. What it leaves out is beside it."""

    month: float
    """Current and old versions together, a month."""
    old_versions_month: float
    unfinished_uploads_month: float
    """What was uploaded of uploads that were never finished, a month."""
    locked_until_free: float
    """What that costs which a period keeps from deletion, each version until its own period ends."""
    restore: float
    """What it would cost to read back what has to be restored first, asking for it included."""
    early_deletion: float
    """What would be billed all the same if everything were deleted now: of versions younger than the shortest billed
    period of their tier."""
    unpriced_bytes: int
    uncounted_buckets: int
    unlisted_buckets: int
    """Buckets whose versions were not listed: of these the three figures above are not known where they cost."""
    legal_hold_bytes: int
    """They cannot be deleted until somebody lifts the hold: what they cost until then, nobody knows."""


class UsageRow(msgspec.Struct, frozen=True, kw_only=True):
    """What some buckets hold. A number is a lower bound where `missing` names it: of so many buckets it is unknown."""

    name: str
    buckets: int
    objects: int
    bytes: int
    old_versions: int
    old_bytes: int
    delete_markers: int
    unfinished_uploads: int
    unfinished_bytes: int
    oldest_upload: datetime | None
    locked_bytes: int
    locked_until: datetime | None
    expiring_bytes: int
    """What expiry rules remove for good within a month, at the present rules."""
    growth_bytes_a_month: int | None
    """Current bytes, by a straight line from the earlier survey; null without one that counted these buckets."""
    growth_since: datetime | None
    quota_bytes: int
    quota_full_in_days: int | None
    """Of the bucket whose quota is full first; null where none will be at the present growth, or that is not known."""
    cost: CostResult | None
    missing: dict[str, int]


class NotCounted(msgspec.Struct, frozen=True, kw_only=True):
    """A bucket that was not counted whole, and why."""

    store: str
    bucket: str
    reason: str


class UsageResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern usage --json`."""

    by: str
    earlier: str | None
    """The survey that growth is measured from."""
    currency: str
    """Empty without a price list."""
    rows: list[UsageRow]
    total: UsageRow
    counted_by: dict[str, int]
    """Who counted: listing, counters, inventory; of how many buckets."""
    not_counted: list[NotCounted]


def usage_result(
    by: str, holdings: Sequence[Holding], earlier: tuple[str, Sequence[Holding]] | None, prices: Prices | None,
    **about: Any,
) -> UsageResult:  # fmt: skip
    """Put the result together; `about`: what it says about the survey."""
    then = earlier[1] if earlier else ()
    rows = []
    for one in grouped(holdings, by):
        every = [part for h in holdings for part in by_tier(h)] if by == "tier" else holdings
        inside = [h for h in every if name_of(by)(h) == one.name]
        rows.append(_row(one, inside, () if by == "tier" else then, prices))
    counted: dict[str, int] = {}
    for holding in holdings:
        if holding.counted_by:
            counted[holding.counted_by] = counted.get(holding.counted_by, 0) + 1
    return UsageResult(
        **about,
        by=by,
        earlier=earlier[0] if earlier else None,
        currency=prices.currency if prices else "",
        rows=rows,
        total=_row(group("all", holdings), holdings, then, prices),
        counted_by=dict(sorted(counted.items())),
        not_counted=[NotCounted(store=h.store, bucket=h.bucket, reason=h.reason) for h in holdings if h.reason],
    )


def _row(one: Group, inside: Sequence[Holding], then: Sequence[Holding], prices: Prices | None) -> UsageRow:
    grown = growth(inside, then)
    before: Mapping[tuple[str, str], Holding] = {(h.store, h.bucket): h for h in then}
    full = [days for h in inside if (days := days_until_full(h, before.get((h.store, h.bucket)))) is not None]
    sums = {
        "objects": one.objects, "bytes": one.bytes, "old_versions": one.old, "old_bytes": one.old_bytes,
        "delete_markers": one.markers, "unfinished_uploads": one.uploads, "unfinished_bytes": one.upload_bytes,
        "locked_bytes": one.locked_bytes, "expiring_bytes": one.expiring, "quota_bytes": one.quota,
    }  # fmt: skip
    return UsageRow(
        name=one.name,
        buckets=one.buckets,
        **{name: total.value for name, total in sums.items()},
        oldest_upload=one.oldest_upload,
        locked_until=one.locked_until,
        growth_bytes_a_month=_a_month(grown, inside),
        growth_since=grown.since if grown else None,
        quota_full_in_days=min(full, default=None),
        cost=_cost(cost(inside, prices)) if prices else None,
        missing={name: total.missing for name, total in sums.items() if _lacks(total)},
    )


def _lacks(total: Sum) -> bool:
    return not total.whole


def _a_month(grown: Growth | None, inside: Sequence[Holding]) -> int | None:
    if grown is None:
        return None
    return round(grown.a_day(max(one.taken for one in inside)) * MONTH.days)


def _cost(cost: Cost) -> CostResult:
    def money(amount: Decimal) -> float:
        return float(round(amount, 2))

    return CostResult(
        month=money(cost.current + cost.old + cost.uploads), old_versions_month=money(cost.old),
        unfinished_uploads_month=money(cost.uploads), locked_until_free=money(cost.until_free),
        restore=money(cost.restore), early_deletion=money(cost.early), unpriced_bytes=cost.unpriced_bytes,
        uncounted_buckets=cost.uncounted_buckets, unlisted_buckets=cost.unlisted_buckets,
        legal_hold_bytes=cost.without_end,
    )  # fmt: skip
