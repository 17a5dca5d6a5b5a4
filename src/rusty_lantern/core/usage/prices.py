"""What keeping costs, by the team's own prices (`prices.yaml`). A price that nobody wrote is unknown, never zero.

    currency: EUR
    stores:
      harbour:
        tiers:
          standard: {month: 21 per TB}
          "*":      {month: 4 per TB, restore: 20 per TB, shortest: 90 days}
        requests: {read: 0.40 per million, list: 5 per million, restore: 60 per million}

A month is 30 days. `*` is the price of every tier that is not named, and of buckets without a tier.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from decimal import Decimal

import msgspec

from rusty_lantern.core.errors import ProblemList, nearest
from rusty_lantern.core.usage.holding import UNKNOWN_GROUP, Holding, Kind
from rusty_lantern.core.value_types import SIZE, InvalidValue
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes


class TierPrice(msgspec.Struct, frozen=True):
    """What one tier of a store costs, in the currency a byte."""

    month: Decimal
    """A month."""
    restore: Decimal | None = None
    """Of reading it back, where it has to be restored first."""
    shortest: int = 0
    """Seconds that every version is billed for, however soon it is deleted; 0: it is billed as long as it is there."""


class RequestPrices(msgspec.Struct, frozen=True):
    """What one request costs. None: nobody wrote it."""

    read: Decimal | None = None
    """Of a setting, of an object's headers or of its content."""
    list: Decimal | None = None
    """Of one page of a listing."""
    restore: Decimal | None = None
    """Of asking for one version to be restored."""


class Prices(msgspec.Struct, frozen=True):
    """A whole price list."""

    currency: str
    stores: dict[str, dict[str, TierPrice]]
    requests: dict[str, RequestPrices] = {}

    @property
    def periods(self) -> tuple[int, ...]:
        """All shortest billed periods, in order."""
        return tuple(sorted({tier.shortest for tiers in self.stores.values() for tier in tiers.values()} - {0}))

    def of(self, store: str, tier: str) -> TierPrice | None:
        """The price of a tier; None where nobody wrote one. A tier that was not read has one if all cost the same."""
        tiers = self.stores.get(store, {})
        if tier == UNKNOWN_GROUP and tiers.keys() != {"*"}:
            return None
        return tiers.get(tier) or tiers.get(tier.lower()) or tiers.get("*")


def read_prices(document: str, file: str, known: Collection[str] = ()) -> Prices:
    """Read a price list. `known`: the estate's stores, where it may name no others. Raises `BadInput` with everything
    that is wrong with it."""
    complaints = ProblemList()
    reader = FieldReader(complaints)
    root = read_nodes(document, file)
    top = reader.fields(root, ("currency", "stores"), "a price list")
    currency = reader.text(top.get("currency"), "currency")
    if root.fields is not None and not re.fullmatch("[A-Z]{3}", currency):
        complaints.add(
            "the currency is three letters", top["currency"].place if "currency" in top else root.place, "EUR"
        )
    stores, requests = {}, {}
    for store, entry in reader.entries(top.get("stores"), "stores"):
        fields = reader.fields(entry, ("tiers", "requests"), f"prices of {store.text}")
        if known and store.text not in known:
            hint = nearest(store.text or "", known) or f"stores: {', '.join(known)}"
            complaints.add(f'no store of the estate is called "{store.text}"', store.place, hint)
        stores[store.text or ""] = {
            tier.text or "": _tier(reader, price) for tier, price in reader.entries(fields.get("tiers"), "tiers")
        }
        if "requests" in fields:
            classes = reader.fields(fields["requests"], RequestPrices.__struct_fields__, "prices of requests")
            written = {name: _price(reader, price, of_requests=True) for name, price in classes.items()}
            requests[store.text or ""] = RequestPrices(**written)
    complaints.settle()
    return Prices(currency, stores, requests)


def _tier(reader: FieldReader, node: Node) -> TierPrice:
    fields = reader.fields(node, ("month", "restore", "shortest"), "a tier")
    if "month" not in fields and node.fields is not None:
        reader.complaints.add("a tier needs the price of a month", node.place, "month: 21 per TB")
    restore = _price(reader, fields["restore"]) if "restore" in fields else None
    month = _price(reader, fields["month"]) if "month" in fields else Decimal()
    return TierPrice(month, restore, reader.seconds(fields.get("shortest"), "shortest", "90 days"))


_REQUESTS = {"one": 1, "thousand": 1_000, "million": 1_000_000}


def _price(reader: FieldReader, node: Node, *, of_requests: bool = False) -> Decimal:
    """`21 per TB`: what a byte costs; `0.40 per million`: what a request costs."""
    match = re.fullmatch(r"([0-9]{1,9}(?:\.[0-9]{1,9})?) per ([A-Za-z]{1,8})", node.text or "")
    try:
        if match is None or (of_requests and match[2] not in _REQUESTS):
            raise InvalidValue(f'"{node.text}" is no price')
        return Decimal(match[1]) / (_REQUESTS[match[2]] if of_requests else int(str(SIZE.read(f"1 {match[2]}"))))
    except InvalidValue as error:
        words = "write it as 0.40 per million" if of_requests else "write it as 21 per TB"
        reader.complaints.add(str(error), node.place, words)
        return Decimal()


def price_of_questions(prices: Prices, store: str, questions: int, listings: int) -> Decimal | None:
    """What so many questions to a store cost, of which some are pages of listings; None where a price is missing."""
    price = prices.requests.get(store, RequestPrices())
    if price.read is None or price.list is None:
        return None
    return price.read * (questions - listings) + price.list * listings


class Cost(msgspec.Struct, frozen=True, kw_only=True):
    """What some bytes cost. What has no price, or was not counted, is left out and said."""

    current: Decimal
    """A month."""
    old: Decimal
    """Of the versions beneath the current ones, a month."""
    uploads: Decimal
    """Of what was uploaded of unfinished uploads, a month."""
    until_free: Decimal
    """What that costs which a period keeps from deletion, each version until its own period ends."""
    restore: Decimal
    """What it would cost to read back what has to be restored first."""
    early: Decimal
    """What would be billed all the same if everything were deleted now, of versions younger than their tier's shortest
    billed period."""
    unpriced_bytes: int
    uncounted_buckets: int
    unlisted_buckets: int
    """Of these, the versions were not listed into a table: until when their locked ones cost, what a restore asks for
    and what early deletion is billed is not known."""
    without_end: int
    """Bytes under a legal hold: what they cost until they can be deleted, nobody knows."""


def cost(holdings: Sequence[Holding], prices: Prices) -> Cost:
    """What buckets cost, by the tiers of their versions where these were listed, else by the bucket's own."""
    sums = dict.fromkeys(("current", "old", "uploads", "until_free", "restore", "early"), Decimal())
    unpriced = uncounted = unlisted = without_end = 0
    for one in holdings:
        uncounted += one.bytes is None or one.old_bytes is None or one.upload_bytes is None
        own = prices.of(one.store, one.tier)
        if one.upload_bytes and own is None:
            unpriced += one.upload_bytes
        sums["uploads"] += (own.month if own else 0) * (one.upload_bytes or 0)
        unlisted += _needs_a_table(one, own)
        for kind in _kinds(one):
            price = prices.of(one.store, kind.tier)
            if price is None:
                unpriced += kind.bytes
                continue
            sums["current" if kind.current else "old"] += price.month * kind.bytes
            sums["until_free"] += price.month * Decimal(kind.locked_byte_months)
            if price.restore is not None:
                asking = prices.requests.get(one.store, RequestPrices()).restore or 0
                sums["restore"] += price.restore * kind.bytes + asking * kind.versions
            if price.shortest and kind.young:
                sums["early"] += price.month * Decimal(kind.young[prices.periods.index(price.shortest)])
                unlisted += bool(kind.undated)
        without_end += one.locked.legal_hold_bytes if one.locked else 0
    return Cost(
        **sums, unpriced_bytes=unpriced, uncounted_buckets=uncounted, unlisted_buckets=unlisted, without_end=without_end
    )


def _needs_a_table(one: Holding, price: TierPrice | None) -> bool:
    """Whether a part of its costs is unknown because its versions were not listed."""
    if one.kinds is not None:
        return False
    locked = one.locked is None or bool(one.locked.bytes)
    return locked or bool(price and (price.shortest or price.restore is not None) and (one.bytes or one.bytes is None))


def _kinds(one: Holding) -> Sequence[Kind]:
    """A bucket's bytes by tier, and whether they are current."""
    if one.kinds is not None:
        return [msgspec.structs.replace(kind, tier=kind.tier or one.tier) for kind in one.kinds]
    return [
        Kind(one.tier, True, one.objects or 0, one.bytes or 0),
        Kind(one.tier, False, one.old or 0, one.old_bytes or 0),
    ]
