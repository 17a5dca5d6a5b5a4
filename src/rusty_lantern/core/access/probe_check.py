"""Holding what a store answers without credentials against what its rules say. A disagreement is a finding of its own:
the store reads the rules differently, something is in front of it, or we are wrong."""

from __future__ import annotations

from typing import Literal

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import FORWARDED
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards

Outcome = Literal["disagrees", "ambiguous", "agrees"]
"""How an answer compares with a verdict, worst first."""

SHUT_OUT_IS_LET_IN = "the store allows what the rules deny"
FORGED = "the store, or a proxy in front, believes what a request says of its address: whoever asks can say so"
NOT_TRIED = "the rules may refuse this one as well; another one, which they surely let in, was not tried"
LET_IN_IS_SHUT_OUT = "the store denies what the rules allow: it reads them differently, or something is in front"


def compare(level: str, answer: ProbeAnswer, *, elsewhere: bool = False) -> tuple[Outcome, str]:
    """One answer against the verdict for `anyone`, and why. `elsewhere`: another door lets the same request in."""
    if answer.let_in is None:
        return "ambiguous", "neither allowed nor denied"
    if level == "closed" or (answer.claims and level != "open"):
        why = FORGED if answer.claims else SHUT_OUT_IS_LET_IN
        return ("disagrees", why) if answer.let_in else ("agrees", "")
    if level == "open":
        return ("agrees", "") if answer.let_in else _refused(answer, elsewhere=elsewhere)
    if level == "restricted":
        return "agrees", "allowed from here as well" if answer.let_in else "denied from here, as the condition says"
    return (
        "ambiguous",
        f"{'let in' if answer.let_in else 'refused'} from here; there is no verdict to hold that against",
    )


def _refused(answer: ProbeAnswer, *, elsewhere: bool) -> tuple[Outcome, str]:
    """One that was refused where the verdict is open."""
    if elsewhere or not answer.allowed:
        return "agrees", "another door lets it in" if elsewhere else NOT_TRIED
    return "disagrees", LET_IN_IS_SHUT_OUT


def worst(verdicts: Exposures, answers: list[ProbeAnswer]) -> tuple[Outcome, str]:
    """The worst outcome of a bucket's anonymous tests, and what it was.

    A verdict speaks for every door of the store: what one of them lets in need not pass at the others.
    """
    answers = [answer for answer in answers if answer.door != "web"]  # see the fact `front-bypass`
    passed = {answer.verb for answer in answers if answer.let_in}
    compared = [
        (*compare(verdicts["anyone", answer.verb].level, answer), answer)
        for answer in answers
        if answer.let_in is not False or answer.verb not in passed
    ]
    order: tuple[Outcome, ...] = ("disagrees", "ambiguous", "agrees")
    outcome, why, answer = min(compared, key=lambda one: order.index(one[0]))
    through = f" through the {answer.door} door" if answer.door else ""
    return outcome, f"{answer.asked}{through} was answered {answer.answer}" + (f": {why}" if why else "")


def forged_request(rules: Rules, request: Request) -> Request | None:
    """The same request, saying in a header that it comes from an address that the rules let in, where they treat others
    otherwise. A store, or a proxy in front, that believes it lets in whoever says so. None where no address matters, or
    the request says one already."""
    address, allowed = request.context.get("aws:sourceip", ()), decide(rules, request).allowed
    if not address or FORWARDED in request.context or allowed is False:
        return None
    elsewhere = (msgspec.structs.replace(request, context={**request.context, "aws:sourceip": (o,)}) for o in OTHERS)
    if all(decide(rules, one).allowed is allowed for one in elsewhere):
        return None
    return msgspec.structs.replace(request, context={**request.context, FORWARDED: address})


OTHERS = ("203.0.113.9", "198.51.100.9", "2001:db8::9")
"""Addresses of documentation, which stand for any that is not named."""
LET_IN = "a request without credentials was let in from here"
ALL_ON = Guards(refuse_new_acls=True, ignore_acls=True, refuse_new_policies=True, restrict_policies=True)


def with_concluded_guards(dossier: Dossier) -> Dossier:
    """The dossier with what anonymous tests prove of the account's public-access switch, where that was not read.

    A store that says so allows no public access; one that let somebody in, where nothing but a container's level can
    have done it, does not forbid it.
    """
    if not dossier.public_access_guards.unread:
        return dossier
    for bucket in dossier.buckets:
        for probe in bucket.anonymous_test.value or ():
            evidence = Evidence(probe.asked, probe.answer, dossier.taken)
            if probe.no_public_access:
                note = "the store said so to a request without credentials"
                return msgspec.structs.replace(dossier, public_access_guards=Answer("known", ALL_ON, note, evidence))
            if probe.let_in and not probe.door and _only_levels(bucket):
                note = f"a request without credentials was let into {bucket.name}"
                return msgspec.structs.replace(dossier, public_access_guards=Answer("known", Guards(), note, evidence))
    return dossier


def _only_levels(bucket: Bucket) -> bool:
    """Whether rights that guards keep back are all that can let the public in."""
    others = (bucket.acl, bucket.policy, bucket.container_acl)
    by_site = any(right.door == "web" for right in bucket.rights.value or ())
    return bucket.rights.settled and not by_site and all(answer.state == "unsupported" for answer in others)
