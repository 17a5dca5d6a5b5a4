"""What deciding again shows of a remedy: what it closes, what others lose by it, and what it leaves open."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence
from contextlib import suppress

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
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
    outcomes, sure = [_outcome(r, after) for r in wanted], True
    verbs_asked = {EXPOSURE_FACTS[r.fact] for r in wanted}
    lost: dict[str, list[Verb]] = {}
    for one in differences(view, after):
        sure = sure and one.change.sure
        if one.change.gained is not None:
            outcomes.append(f"{one.who} would gain {one.verb}")
        if one.change.lost is not None and not (one.kind == "audience" and one.verb in verbs_asked):
            lost.setdefault(one.who, []).append(one.verb)
    outcomes += [f"{who} also loses {verb}" for who, verbs in lost.items() for verb in verbs if who in AUDIENCES]
    outcomes += [f"{who} also loses {', '.join(verbs)}" for who, verbs in lost.items() if who not in AUDIENCES]
    own = own_differences(view, after)
    outcomes += _own_losses(own.differences)
    sure = sure and all(one.change.sure for one in own.differences)
    if len(outcomes) == len(wanted):
        seen = sure and not own.unseen
        outcomes.append(f"nothing else is {'lost, and nothing is' if seen else 'known to be lost or'} gained")
    outcomes += [f"{own.unseen}: what they lose or gain is not known"] if own.unseen else []
    return outcomes if sure else [*outcomes, "something that was not understood or not read could hide more"]


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


def _own_losses(differences: Sequence[Difference]) -> Iterator[str]:
    """What the store's own identities lose, those who lose the same together."""
    lost: dict[str, list[Verb]] = {}
    for one in differences:
        if one.change.lost is not None:
            lost.setdefault(one.who, []).append(one.verb)
        if one.change.gained is not None:
            yield f"{one.who} would gain {one.verb}"
    alike: dict[tuple[Verb, ...], list[str]] = {}
    for who, verbs in lost.items():
        alike.setdefault(tuple(verbs), []).append(who)
    for those, names in alike.items():
        lose, own = ("loses", "its") if len(names) == 1 else ("lose", "their")
        yield f"{show_names(names, _FEW)} also {lose} {', '.join(those)}: no permission of {own} own gives it"


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
