"""What keeping costs, by the team's own prices (`prices.yaml`). A price that nobody wrote is unknown, never zero.

    currency: EUR
    stores:
      harbour:
        tiers:
          standard: {month: 21 per TB}
          "*":      {month: 4 per TB, restore: 20 per TB}

A month is 30 days. `*` is the price of every tier that is not named, and of buckets whose tier is not known.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime, timedelta
from decimal import Decimal

import msgspec

from rusty_lantern.core.errors import ProblemList
from rusty_lantern.core.usage.holding import Holding
from rusty_lantern.core.value_types import SIZE, NotOnScale
from rusty_lantern.core.yaml_source import Marked, Reader, read_marked

MONTH = timedelta(days=30)


class TierPrice(msgspec.Struct, frozen=True):
    """What one tier of a store costs, in the currency a byte."""

    month: Decimal
    """A month."""
    restore: Decimal | None = None
    """Of reading it back, where it has to be restored first."""


class Prices(msgspec.Struct, frozen=True):
    """A whole price list."""

    currency: str
    stores: dict[str, dict[str, TierPrice]]

    def of(self, store: str, tier: str) -> TierPrice | None:
        """The price of a tier; None where nobody wrote one."""
        tiers = self.stores.get(store, {})
        return tiers.get(tier) or tiers.get(tier.lower()) or tiers.get("*")


def read_prices(document: str, file: str) -> Prices:
    """Read a price list. Raises `BadInput` with everything that is wrong with it."""
    complaints = ProblemList()
    reader = Reader(complaints)
    root = read_marked(document, file)
    top = reader.fields(root, ("currency", "stores"), "a price list")
    currency = reader.text(top.get("currency"), "currency")
    if root.fields is not None and not re.fullmatch("[A-Z]{3}", currency):
        complaints.add(
            "the currency is three letters", top["currency"].place if "currency" in top else root.place, "EUR"
        )
    stores = {}
    for store, entry in reader.entries(top.get("stores"), "stores"):
        told = reader.fields(entry, ("tiers",), f"prices of {store.text}")
        stores[store.text or ""] = {
            tier.text or "": _tier(reader, price) for tier, price in reader.entries(told.get("tiers"), "tiers")
        }
    complaints.settle()
    return Prices(currency, stores)


def _tier(reader: Reader, node: Marked) -> TierPrice:
    told = reader.fields(node, ("month", "restore"), "a tier")
    if "month" not in told and node.fields is not None:
        reader.complaints.add("a tier needs the price of a month", node.place, "month: 21 per TB")
    restore = _price(reader, told["restore"]) if "restore" in told else None
    return TierPrice(_price(reader, told["month"]) if "month" in told else Decimal(), restore)


def _price(reader: Reader, node: Marked) -> Decimal:
    """`21 per TB`: what a byte costs."""
    match = re.fullmatch(r"([0-9]{1,9}(?:\.[0-9]{1,9})?) per ([A-Za-z]{1,3})", node.text or "")
    try:
        if match is None:
            raise NotOnScale(f'"{node.text}" is no price')
        return Decimal(match[1]) / int(str(SIZE.read(f"1 {match[2]}")))
    except NotOnScale as error:
        reader.complaints.add(str(error), node.place, "write it as 21 per TB")
        return Decimal()


class Cost(msgspec.Struct, frozen=True, kw_only=True):
    """What some bytes cost a month. What has no price, or was not counted, is left out and said."""

    current: Decimal
    old: Decimal
    """Of the versions beneath the current ones."""
    until_free: Decimal
    """What that costs which cannot be deleted, until the last of it can."""
    restore: Decimal
    """What it would cost to read back what has to be restored first."""
    unpriced_bytes: int
    uncounted_buckets: int
    without_end: int
    """Bytes under a legal hold: what they cost until they can be deleted, nobody knows."""


def cost(holdings: Sequence[Holding], prices: Prices, moment: datetime) -> Cost:
    """What buckets cost a month, by the tiers of their versions where these were listed, else by the bucket's own."""
    current = old = until_free = restore = Decimal()
    unpriced = uncounted = without_end = 0
    for one in holdings:
        if one.bytes is None or one.old_bytes is None:
            uncounted += 1
        for tier, is_current, size in _parts(one):
            price = prices.of(one.store, tier)
            if price is None:
                unpriced += size
                continue
            current += price.month * size if is_current else 0
            old += price.month * size if not is_current else 0
            restore += (price.restore or 0) * size
        own = prices.of(one.store, one.tier)
        if one.locked is not None and one.locked.until is not None and own is not None:
            months = Decimal(max(0.0, (one.locked.until - moment) / MONTH))
            until_free += own.month * one.locked.bytes * months
        without_end += one.locked.held_bytes if one.locked else 0
    return Cost(
        current=current, old=old, until_free=until_free, restore=restore, unpriced_bytes=unpriced,
        uncounted_buckets=uncounted, without_end=without_end,
    )  # fmt: skip


def _parts(one: Holding) -> list[tuple[str, bool, int]]:
    """A bucket's bytes by tier, and whether they are current."""
    if one.kinds is not None:
        return [(kind.tier or one.tier, kind.current, kind.bytes) for kind in one.kinds]
    return [(one.tier, True, one.bytes or 0), (one.tier, False, one.old_bytes or 0)]
