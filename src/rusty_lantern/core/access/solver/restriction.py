"""What a `restricted` exposure depends on, and an outsider cannot bring about: an address, an account, a date."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from typing import Any

import msgspec

from rusty_lantern.core.access.policy.condition_keys import ARN, EXISTING_TAG, IS_SERVICE, SERVICE_NAME, STORED_TAG
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext
from rusty_lantern.core.access.solver.boxes import Box
from rusty_lantern.core.access.solver.caller_names import MOST_LISTED, listed, whose
from rusty_lantern.core.access.solver.conditions import TIME
from rusty_lantern.core.access.solver.sets import Budget, OptionalSet
from rusty_lantern.core.access.solver.sets.automata import TextSet, just
from rusty_lantern.core.access.solver.sets.intervals import IntervalSet, as_networks, networks
from rusty_lantern.core.access.solver.witness import moment_of, sample_of
from rusty_lantern.core.value_types import show_moment

NOWHERE = IntervalSet()
MOST_WAYS = 2
"""Ways in that the words of a restriction name; of others, how many there are."""


class Restriction(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a restricted exposure depends on. `addresses` counts the addresses let in where it is a set of networks."""

    words: str
    addresses: int | None = None
    networks: tuple[str, ...] = ()
    weight: int = 1
    """How many separate things are needed at once."""
    trusted: bool = False
    """Whether every address from which anybody is let in, also by other conditions than that of these words, is in a
    network that the team trusts."""

    def beside(self, others: Iterable[Restriction]) -> Restriction:
        """The same where somebody is let in under others besides."""
        ways = sorted(others, key=lambda one: one.weight)
        words = list(dict.fromkeys([self.words, *(one.words for one in ways)]))
        more = [f"in {len(words) - MOST_WAYS} other ways"] if len(words) > MOST_WAYS else []
        trusted = self.trusted and all(one.trusted for one in ways)
        return msgspec.structs.replace(self, words="; or ".join([*words[:MOST_WAYS], *more]), trusted=trusted)

    @staticmethod
    def around(addresses: IntervalSet, trusted: IntervalSet = NOWHERE) -> Restriction:
        """What a set of addresses restricts to. `trusted`: the addresses of the networks that the team trusts."""
        nets = as_networks(addresses)
        count = int(addresses.count())
        size = f"{count:,} address" + ("" if count == 1 else "es")
        known = not addresses.empty and addresses.minus(trusted, Budget(10_000)).empty
        size += ", all in trusted networks" if known else ""
        return Restriction(f"only from {', '.join(nets)} ({size})", count, tuple(nets), trusted=known)


def trusted_addresses(around: EvaluationContext) -> IntervalSet:
    """The addresses of the networks that the team trusts."""
    return networks(ipaddress.ip_network(net) for net in around.trusted_networks)


def restriction_of(piece: Box, outsider: Box, work: Budget, trusted: IntervalSet = NOWHERE) -> Restriction:
    """Name the dimensions of `piece` in which no outsider can be."""
    shut = [d for d, theirs in outsider.items() if piece[d].meet(theirs, work).empty]
    if SERVICE_NAME in shut:  # which has that name alone
        shut = [d for d in shut if d != IS_SERVICE]
    words = " and ".join(_restriction_words(d, piece[d], trusted, work) for d in shut)
    source = piece.get("aws:sourceip")
    known = source is not None and not source.absent and Restriction.around(source.values, trusted).trusted
    return Restriction(words, weight=len(shut), trusted=known)


def _restriction_words(dimension: str, values: Any, trusted: IntervalSet, work: Budget) -> str:
    if dimension == TIME:
        start = moment_of(values.values.spans[0][0][0])
        return f"only from {show_moment(start)} on" if start else "only at a moment past the calendar"
    if dimension == "aws:sourceip":
        addresses = Restriction.around(values.values, trusted).words if not values.values.empty else ""
        return addresses or "only through a private endpoint"
    if dimension == ARN and not values.values.empty:
        return f"only for {whose(values.values, work)}"
    key, _, tag = dimension.partition("/")
    words = _RESTRICTION_WORDS.get(key, "only where {key} is {value}")
    return words.format(key=dimension, value=_listed(values, work), tag=tag)


def _listed(values: Any, work: Budget) -> str:
    """The values that a condition names, where they are few; else one of them."""
    texts = values.values if isinstance(values, OptionalSet) and not values.absent else None
    if not isinstance(texts, TextSet):
        return f'"{sample_of(values) or ""}"'
    picked: list[str] = []
    while len(picked) < MOST_LISTED and (text := texts.pick()) is not None:
        picked.append(text)
        texts = texts.minus(just(text), work)
    return listed(picked or [""], all_of_them=texts.empty)


_RESTRICTION_WORDS = {
    "aws:sourcevpc": "only through the private network {value}",
    "aws:sourcevpce": "only through the private endpoint {value}",
    "aws:principalorgid": "only for members of the organisation {value}",
    "aws:principalorgpaths": "only for members of the organisation under {value}",
    "aws:principalaccount": "only for account {value}",
    SERVICE_NAME: "only through the service {value}",
    "aws:sourceaccount": "only for a service acting for account {value}",
    "aws:sourcearn": "only for a service acting for {value}",
    "aws:viaawsservice": "only through a service of the provider",
    IS_SERVICE: "only for a service of the provider",
    **dict.fromkeys((EXISTING_TAG.rstrip("/"), STORED_TAG.rstrip("/")), "only objects tagged {tag}={value}"),
}
