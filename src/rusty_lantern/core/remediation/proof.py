"""What deciding again shows of a remedy: what it closes, what others lose by it, and what it leaves open."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.solver.difference import Change
from rusty_lantern.core.audit.access_differences import Difference, differences, own_differences
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import on_dialect
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.exposure_requirements import EXPOSURE_FACTS, holds
from rusty_lantern.core.remediation.written_policy import statements_of
from rusty_lantern.core.value_types import show_names


def proof_of(view: BucketSubject, after: BucketSubject, wanted: list[Requirement]) -> list[str]:
    """What deciding again shows: every door before and after, and what others than the public lose or gain."""
    verbs_to_lose = {EXPOSURE_FACTS[r.fact] for r in wanted}
    own = own_differences(view, after)
    of_rules = [
        one if one.kind != "audience" or one.verb not in verbs_to_lose else _without_losses(one)
        for one in differences(view, after)
    ]
    more = [*_shifts(of_rules), *_shifts(own.differences, ": no permission of their own gives it")]
    if not more:
        more.append(f"nothing else is {'known to be lost or' if own.unseen else 'lost, and nothing is'} gained")
    if own.unseen:
        more.append(f"{own.unseen}: what they lose or gain is not known")
    return [*(_outcome(r, after) for r in wanted), *more]


def _without_losses(one: Difference) -> Difference:
    """What the public loses of what it is to lose goes without saying."""
    return msgspec.structs.replace(one, change=msgspec.structs.replace(one.change, lost=None, may_lose=False))


def _outcome(requirement: Requirement, after: BucketSubject) -> str:
    name, fact = requirement.fact, after.fact(requirement.fact)
    if not fact.settled:
        return f"{name} is unknown, since something else may open it: {fact.reason}"
    return f"{name} is {fact.value}" if holds(after, requirement) else f"{name} stays {fact.value} by objects' own ACLs"


def by_the_common_reading(after: BucketSubject, wanted: list[Requirement]) -> Iterator[str]:
    """Whether a policy that closes what it should by the store's own dialect does so by the common reading."""
    if dialect_of(after.dossier) == COMMON or after.bucket.policy.value is None:
        return
    common = on_dialect(after, COMMON)
    still = [r.fact for r in wanted if not holds(common, r)]
    yield f"by the common reading that leaves {', '.join(still)}" if still else "the common reading agrees"


_SHIFTS: tuple[tuple[str, Callable[[Change], bool]], ...] = (
    ("would gain", lambda change: change.gained is not None),
    ("would also lose", lambda change: change.lost is not None),
    ("may gain", lambda change: change.may_gain),
    ("may also lose", lambda change: change.may_lose),
)
"""Words for what a change does to somebody → whether it does. *May*: what was not understood or not read decides it."""


def _shifts(changes: Sequence[Difference], why_lost: str = "") -> Iterator[str]:
    """What each gains and loses; those together who gain or lose the same verbs."""
    for words, happens in _SHIFTS:
        verbs: dict[str, list[Verb]] = {}
        for one in changes:
            if happens(one.change):
                verbs.setdefault(one.who, []).append(one.verb)
        alike: dict[tuple[Verb, ...], list[str]] = {}
        for who, mine in verbs.items():
            alike.setdefault(tuple(mine), []).append(who)
        why = ": something was not understood or not read" if words.startswith("may") else ""
        for shared, names in alike.items():
            yield f"{show_names(names, _FEW)} {words} {', '.join(shared)}{why_lost if 'would also' in words else why}"


_FEW = 5


def still_everywhere(view: BucketSubject) -> Iterator[str]:
    """Of each allowing statement, whether its condition on source addresses names every address."""
    for number, statement in enumerate(statements_of(view), 1):
        tests = statement.get("Condition") if statement.get("Effect") == "Allow" else None
        for operator, by_key in tests.items() if isinstance(tests, dict) else ():
            if operator.lower().removesuffix("ifexists") != "ipaddress" or not isinstance(by_key, dict):
                continue
            for key, written in by_key.items():
                if key.lower() == "aws:sourceip" and _is_everywhere(
                    written if isinstance(written, list) else [written]
                ):
                    yield f"but the {key} condition of statement {number} names every address: it restricts nothing"


def _is_everywhere(written: Sequence[object]) -> bool:
    """Whether networks in CIDR form together name every address of a family. One that is none names nothing."""
    fours: list[ipaddress.IPv4Network] = []
    sixes: list[ipaddress.IPv6Network] = []
    for one in written:
        with suppress(ValueError):
            net = ipaddress.ip_network(str(one), strict=False)
            if isinstance(net, ipaddress.IPv4Network):
                fours.append(net)
            else:
                sixes.append(net)
    whole = [net.prefixlen for net in ipaddress.collapse_addresses(fours)]
    return 0 in (*whole, *(net.prefixlen for net in ipaddress.collapse_addresses(sixes)))
