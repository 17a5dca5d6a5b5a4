"""Who can get in, exactly: all requests at once.

Theory of operation. The requests that an audience can make form a box (`statements.Group.domain`). Allowed are
those in the box of an Allow statement or a grant, minus those in the box of a Deny statement. Within what is
allowed we look for requests that any outsider can bring about (`Group.outsider`):

* `open`    an outsider, choosing only what they control, is let in from more of the public Internet than any one
            organisation holds (`RESTRICTION_V4`, `RESTRICTION_V6`);
* `restricted`  something is allowed, but only with something they do not control: the *restriction*, which is named;
* `closed`  nothing is allowed at all: the region is empty.

What is not understood or not read makes two regions: the least that is certainly allowed and the most that could
be. Where both give the same verdict, it is the result; where not, it is `unknown`, with the reasons. Every `open` and
`restricted` carries a witness, which the plain decider (`decide`) must accept, or the verdict is withdrawn.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Literal, NamedTuple

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, OUTSIDER_ACCOUNT, OUTSIDER_NAME, Audience
from rusty_lantern.core.access.policy.public_policy import PublicStatus
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.audience_view import BUDGET, AudienceView, Level, Widest, public_policy, way_in
from rusty_lantern.core.access.solver.boxes import Box, meet
from rusty_lantern.core.access.solver.conditions import TIME
from rusty_lantern.core.access.solver.principal_reach import Reach, reach_of
from rusty_lantern.core.access.solver.restriction import Restriction
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OverBudget
from rusty_lantern.core.access.solver.sets.intervals import EVERY_ADDRESS
from rusty_lantern.core.access.solver.witness import Witness, moment_of, request_from, witness_of
from rusty_lantern.core.model.identity import Verb


class Verdict(msgspec.Struct, frozen=True):
    """The exposure of one bucket to one audience for one verb.

    `witness` and `because` (the rule that lets it through) go with `open` and `restricted`, `restriction` with
    `restricted`, `doubts` and `least` with `unknown`. `doubts` of a restricted one: why somebody may be let in from
    other networks than those that the team trusts, from which everybody certain comes.
    """

    level: Level
    witness: Witness | None = None
    because: str = ""
    restriction: Restriction | None = None
    doubts: tuple[str, ...] = ()
    least: Level = "closed"
    """Of `unknown`: what is certain all the same."""
    until: datetime | None = None
    """Where all ways in of this level close by themselves, the moment the last of them does."""


Exposures = Mapping[tuple[Audience, Verb], Verdict]


def exposures(rules: Rules, around: EvaluationContext, budget: int = BUDGET) -> Exposures:
    """The verdict for each audience and verb."""
    memo: dict[object, Any] = {}
    public = public_policy(rules, around, Budget(budget, memo))
    verdicts: dict[tuple[Audience, Verb], Verdict] = {}
    for audience in AUDIENCES:
        work = Budget(budget, memo)  # each has its own, so that no audience spends another's
        view = AudienceView(rules, around, audience, work, public)
        bare = AudienceView(rules, around, audience, work, public, bare=True) if view.reading.leaves_away else None
        verdicts |= {(audience, verb): _closing(view, _verdict(view, bare, verb), verb) for verb in VERBS}
    for network in rules.networks:
        verdicts |= _handed_on(verdicts, reach_of(network, rules, around, Budget(budget, memo)), network.label)
    return verdicts


def _handed_on(verdicts: Exposures, reach: Mapping[Verb, Reach], network: str) -> Exposures:
    """What is not known of the public because a content delivery network may do it, and perhaps does it for them."""
    doubt = f"the content delivery network {network} is let in, and to whom it hands that on was not read"
    return {
        (audience, verb): Verdict("unknown", doubts=(*verdict.doubts, doubt), least=at_least(verdict))
        for (audience, verb), verdict in verdicts.items()
        if verdict.level != "open" and reach[verb].level != "closed"
    }


def _verdict(view: AudienceView, bare: AudienceView | None, verb: Verb) -> Verdict:
    """`bare`: the same of requests that carry nothing they need not. What is open to these is open, and seen at once:
    no automaton is built for what they do not send."""
    view.doubts.clear()
    try:
        least = bare.find(verb, "least") if bare else Widest()
        if least.level != "open":
            least = view.find(verb, "least")
        most = view.beyond(least, verb)
    except OverBudget:
        return Verdict("unknown", doubts=("the rules are too intricate to decide within the work allowed",))
    reasons = (*view.rules.doubted.values(), *view.doubts)
    if least.level == most.level:
        elsewhere = least.restriction and most.restriction and least.restriction.trusted > most.restriction.trusted
        return msgspec.structs.replace(_proven(view, least), doubts=reasons) if elsewhere else _proven(view, least)
    return Verdict("unknown", doubts=reasons, least=at_least(_proven(view, least)))


MOST_ENDS = 8
"""Ends of ways in that are followed to the last one."""
WIDENING: tuple[Level, ...] = ("closed", "restricted", "open")
"""Levels, the narrowest first."""


def _closing(view: AudienceView, verdict: Verdict, verb: Verb) -> Verdict:
    """The verdict with the moment at which it becomes a narrower one by itself: looked at from the end of each way in,
    until none is left, or one has no end."""
    ends = verdict.until
    for _ in range(MOST_ENDS):
        if ends is None:
            break
        around = msgspec.structs.replace(view.around, moment=ends)
        try:
            then = AudienceView(view.rules, around, view.audience, view.work, view.public).find(verb, "most")
        except OverBudget:
            break
        if WIDENING.index(then.level) < WIDENING.index(verdict.level):
            return msgspec.structs.replace(verdict, until=ends)
        later = _ends(then.piece) if then.piece is not None else None
        ends = later if later is not None and later > ends else None
    return msgspec.structs.replace(verdict, until=None) if verdict.until is not None else verdict


def at_least(verdict: Verdict) -> Level:
    """The level that is certain."""
    return verdict.least if verdict.level == "unknown" else verdict.level


def _proven(view: AudienceView, widest: Widest) -> Verdict:
    """The verdict with its witness, once the plain decider has accepted it."""
    if widest.piece is None:
        return Verdict(widest.level)
    request = request_from(widest.piece, view.audience, view.around)
    decision = decide(view.rules, request, public=as_match(view.public))
    if decision.allowed is not True:
        doubt = f"the two deciders disagree about {request.action}; please report this policy"
        return Verdict("unknown", doubts=(doubt,))
    witness = witness_of(request, view.rules.bucket, way_in(view.rules, decision.by))
    return Verdict(widest.level, witness, decision.by, widest.restriction, until=_ends(widest.piece))


def as_match(public: PublicStatus) -> Literal["yes", "no", "maybe"]:
    """Whether a policy counts as public, as the plain decider takes it."""
    return "yes" if public.least else ("maybe" if public.most else "no")


def _ends(piece: Box) -> datetime | None:
    if TIME not in piece:
        return None
    return moment_of(piece[TIME].values.spans[-1][1][0])


class LikelyRequest(NamedTuple):
    """A request to try, and whether the rules let it in, from whatever address it comes."""

    request: Request
    from_anywhere: bool


def request_for(
    rules: Rules, around: EvaluationContext, audience: Audience, actions: Sequence[str], keys: Sequence[str]
) -> LikelyRequest:
    """A request for the first of some actions of one verb that is allowed, for a key that exists; where none is, the
    plainest request there is, for the first key."""
    view = AudienceView(rules, around, audience, Budget(BUDGET))
    plain = LikelyRequest(Request(actions[0], keys[0] if keys else "a"), from_anywhere=False)
    try:
        for action in actions:
            wanted = FiniteSet((action,))
            for group in view.reading.groups(ACTIONS[action].verb):
                for piece in view.pieces(group, "least"):
                    held = next((key for key in keys if piece["key"].holds(key)), None) if "key" in piece else ""
                    if held is None or piece["action"].apart(wanted):
                        continue
                    within = meet(piece, view.reading.within_reach(piece, group), view.work) or piece
                    request = request_from({**within, "action": wanted}, audience, around)
                    return LikelyRequest(msgspec.structs.replace(request, key=held), _from_anywhere(piece, view.work))
    except OverBudget:
        return plain
    return plain


def _from_anywhere(piece: Box, work: Budget) -> bool:
    return "aws:sourceip" not in piece or EVERY_ADDRESS.minus(piece["aws:sourceip"].values, work).empty


def likeliest_caller(rules: Rules, around: EvaluationContext, verb: Verb) -> Caller:
    """The account that is let in to do this, if any is; otherwise one that represents all that no rule names."""
    view = AudienceView(rules, around, "any-account", Budget(BUDGET))
    try:
        for group in view.reading.groups(verb):
            for piece in view.pieces(group, "least"):
                return view.request_in(piece, group).caller
    except OverBudget:
        pass
    return Caller(OUTSIDER_ACCOUNT, OUTSIDER_NAME)
