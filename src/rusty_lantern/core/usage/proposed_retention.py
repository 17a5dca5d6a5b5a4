"""What another default retention would cost: at the rate that versions are written now, each kept that much longer."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.usage.holding import LATELY, MONTH, Holding, growth
from rusty_lantern.core.usage.prices import Prices


class RetentionCost(msgspec.Struct, frozen=True, kw_only=True):
    """What comes of a proposed default retention. What is stored already is not touched by it."""

    before: int | None
    """The present default retention in seconds; 0: none; None: it was not read."""
    after: int
    written_a_month: int | None
    """Bytes; None: it is not known."""
    counted_from: str
    """By what that was counted, or why it is not known."""
    locked: int | None
    """Bytes that are locked at any time once the first of them are let go: what is written in that time."""
    month: Decimal | None
    """What these cost a month; None without a price."""
    more: Decimal | None
    """By how much that is more than at the present default retention."""


def retention_cost(
    current: BucketSubject, after: BucketSubject, now: Holding, then: Sequence[Holding], prices: Prices | None
) -> RetentionCost | None:
    """What changes with the default retention; None where it does not change. `then`: an earlier survey's holdings."""
    before, proposed = (view.bucket.lock.value.retention if view.bucket.lock.value else 0 for view in (current, after))
    read = not current.bucket.lock.unread
    if before == proposed and read:
        return None
    written, words = _written(now, then)
    month = more = locked = None
    if written is not None:
        locked = round(written * proposed / MONTH.total_seconds())
        price = prices.of(now.store, now.tier) if prices else None
        if price is not None:
            month = price.month * locked
            more = month - price.month * round(written * before / MONTH.total_seconds()) if read else None
    return RetentionCost(
        before=before if read else None, after=proposed, written_a_month=written, counted_from=words, locked=locked,
        month=month, more=more,
    )  # fmt: skip


def _written(now: Holding, then: Sequence[Holding]) -> tuple[int | None, str]:
    """Bytes written a month, by the versions of late; without a list of them, by growth, which is less."""
    if now.written_lately is not None:
        return round(now.written_lately * (MONTH / LATELY)), f"versions of the last {LATELY.days} days"
    grown = growth([now], then)
    if grown is None:
        return None, "its versions are not listed, and no earlier survey counted it"
    if grown.bytes <= 0:
        return None, f"its versions are not listed, and since {grown.since:%Y-%m-%d} it did not grow"
    return round(grown.a_day(now.taken) * MONTH.days), f"growth since {grown.since:%Y-%m-%d}, so at least that"
