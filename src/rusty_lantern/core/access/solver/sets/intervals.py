"""Sets of ordered values as intervals: addresses, moments, numbers.

An interval runs from one *cut* to another. A cut is `(value, side)`: side 0 is just before the value, side 1
just after it, so open and closed ends need no cases. Whole-number lines (addresses, seconds) use side 0 only.
IPv4 and IPv6 addresses share one line: IPv4 from 0, IPv6 from 2**32 on.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from fractions import Fraction

from rusty_lantern.core.access.solver.sets import Budget

Number = int | float | Fraction
Cut = tuple[Number, int]
FIRST: Cut = (float("-inf"), 0)
LAST: Cut = (float("inf"), 0)


class IntervalSet:
    """A union of disjoint intervals, in order."""

    __slots__ = ("spans",)

    def __init__(self, spans: Iterable[tuple[Cut, Cut]] = ()) -> None:
        merged: list[tuple[Cut, Cut]] = []
        for start, end in sorted(s for s in spans if s[0] < s[1]):
            if merged and start <= merged[-1][1]:
                merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
            else:
                merged.append((start, end))
        self.spans = tuple(merged)

    def holds(self, value: Number) -> bool:
        """Whether `value` is a member."""
        return any(start <= (value, 0) < end for start, end in self.spans)

    @property
    def empty(self) -> bool:
        """Whether there is no member."""
        return not self.spans

    def meet(self, other: IntervalSet, work: Budget) -> IntervalSet:
        """Members of both."""
        work.spend(len(self.spans) + len(other.spans))
        mine, theirs = self.spans, other.spans
        common: list[tuple[Cut, Cut]] = []
        i = j = 0
        while i < len(mine) and j < len(theirs):
            (start, end), (first, last) = mine[i], theirs[j]
            if end < last:
                i += 1
            else:
                j, end = j + 1, last
            start = max(start, first)
            if start < end:
                common.append((start, end))
        return _in_order(common)

    def join(self, other: IntervalSet, work: Budget) -> IntervalSet:
        """Members of either."""
        work.spend(len(self.spans) + len(other.spans))
        return IntervalSet((*self.spans, *other.spans))

    def minus(self, other: IntervalSet, work: Budget) -> IntervalSet:
        """Members of this one and not of `other`."""
        return self.meet(other.outside(), work)

    def apart(self, other: IntervalSet) -> bool:
        """Whether one ends before the other begins."""
        mine, theirs = self.spans, other.spans
        return not mine or not theirs or mine[-1][1] <= theirs[0][0] or theirs[-1][1] <= mine[0][0]

    def outside(self) -> IntervalSet:
        """Every value that is not a member."""
        cuts = [FIRST, *(cut for span in self.spans for cut in span), LAST]
        return _in_order(span for span in zip(cuts[::2], cuts[1::2], strict=True) if span[0] < span[1])

    def count(self) -> Number:
        """How many whole numbers are members of a whole-number line."""
        total: Number = 0
        for start, end in self.spans:
            total += end[0] - start[0]
        return total

    def pick(self, near: Number = 0) -> Number | None:
        """The member nearest to `near`; None if there is none."""
        members = [_closest(span, near) for span in self.spans]
        return min(members, key=lambda member: abs(float(member) - float(near))) if members else None

    def __repr__(self) -> str:
        return f"Line({list(self.spans)})"


def _in_order(spans: Iterable[tuple[Cut, Cut]]) -> IntervalSet:
    """The set of spans that are in order already, with room between them."""
    made = IntervalSet()
    made.spans = tuple(spans)
    return made


def _closest(span: tuple[Cut, Cut], near: Number) -> Number:
    """A member of the interval, as near to `near` as the interval's ends let it be."""
    (start, after), (end, included) = span
    if (start, after) <= (near, 0) < (end, included):
        return near
    if (near, 0) < (start, after):
        if not after:
            return start
        return (start + end) / 2 if end != float("inf") else start + 1
    if included:
        return end
    if isinstance(end, int):
        return end - 1
    return (start + end) / 2 if start != float("-inf") else end - 1


WHOLE = IntervalSet([(FIRST, LAST)])


def whole_numbers(first: int, last: int) -> IntervalSet:
    """The whole numbers from `first` to `last`, both included."""
    return IntervalSet([((first, 0), (last + 1, 0))])


V6_OFFSET = 2**32
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


def position(address: Address) -> int:
    """An address's place on the line."""
    return int(address) + (V6_OFFSET if address.version == 6 else 0)


def address_at(place: int) -> Address:
    """The address at a place on the line."""
    return ipaddress.IPv4Address(place) if place < V6_OFFSET else ipaddress.IPv6Address(place - V6_OFFSET)


def networks(nets: Iterable[Network]) -> IntervalSet:
    """The addresses of these networks."""
    spans: list[tuple[Cut, Cut]] = []
    for net in nets:
        start = position(net.network_address)
        spans.append(((start, 0), (start + net.num_addresses, 0)))
    return IntervalSet(spans)


EVERY_ADDRESS = IntervalSet([((0, 0), (V6_OFFSET + 2**128, 0))])
EVERY_V4 = whole_numbers(0, V6_OFFSET - 1)


_NOT_ON_THE_INTERNET = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "224.0.0.0/3",
]
PUBLIC_ADDRESSES = EVERY_V4.minus(
    networks(ipaddress.ip_network(net) for net in _NOT_ON_THE_INTERNET), Budget(10_000)
).join(networks([ipaddress.ip_network("2000::/3")]), Budget(10_000))
"""Addresses that an outsider on the Internet can have: not private, shared, loopback, link-local or multicast."""


def as_networks(line: IntervalSet, most: int = 8) -> list[str]:
    """The networks that make up a set of addresses, at most `most` of them and then an ellipsis."""
    networks: list[str] = []
    for (start, _), (end, _) in line.spans:
        for low, high in ((start, min(end, V6_OFFSET)), (max(start, V6_OFFSET), end)):
            if low < high:
                nets = ipaddress.summarize_address_range(address_at(int(low)), address_at(int(high) - 1))
                for net in nets:
                    if len(networks) == most:
                        return [*networks, "…"]
                    networks.append(str(net))
    return networks
