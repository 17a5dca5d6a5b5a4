"""What a policy demands of everybody: requests that it refuses to every caller, whoever they are.

The same regions as for exposure, the other way round: all requests for an action, minus those that a Deny for every
caller certainly refuses. A demand is made if nothing of the kind is left. A Deny that is not fully understood may or
may not refuse, so it makes the answer unknown where it would change it. Where a door of the store asks no policy, what
it lets in is left whatever the Denies say; a door that was not read may let in anything.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.boxes import Box, meet, without
from rusty_lantern.core.access.solver.conditions import dimension
from rusty_lantern.core.access.solver.request_groups import ACTION, RequestGroup
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OptionalSet, OverBudget
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, NO_TEXTS, literals
from rusty_lantern.core.access.solver.sets.intervals import LAST, IntervalSet
from rusty_lantern.core.access.solver.statements import AudiencePolicy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.value_types import DAY, Value

ENCRYPTION = dimension("s3:x-amz-server-side-encryption")
STORE_KEY = dimension("s3:x-amz-server-side-encryption-aws-kms-key-id")
OWN_KEY = dimension("s3:x-amz-server-side-encryption-customer-algorithm")
TRANSPORT = dimension("aws:securetransport")
DAYS = dimension("s3:object-lock-remaining-retention-days")
RETAINING = ("s3:PutObject", "s3:PutObjectRetention")
"""The actions by which a version gets its retention."""


class MandatoryConditions:
    """One bucket's policy as everybody meets it."""

    def __init__(self, rules: Rules, around: EvaluationContext) -> None:
        self.rules = rules
        self.work = Budget(BUDGET)
        self.reading = AudiencePolicy(rules, "everybody", around, self.work)

    def answer(self, name: str) -> Answer[Value]:
        """What is demanded: `encryption`, `transport`, `store-keys` (on or off), `shortest` or `longest` retention
        (seconds)."""
        if "policy" in self.rules.doubted:
            return Answer("failed", None, self.rules.doubted["policy"])
        try:
            sure, possible = (_ASKED[name](self, certain) for certain in (True, False))
        except OverBudget:
            return Answer("failed", None, "the rules are too intricate to decide within the work allowed")
        if sure != possible:
            return Answer("failed", None, self.unread_door or "a statement that refuses is not fully understood")
        return Answer("absent") if sure is None else Answer("known", sure)

    @property
    def unread_door(self) -> str:
        """Why it is not known what a door lets in that asks no policy; empty: it is known, or there is none."""
        doors = (s for s in self.rules.policy.statements if s.effect == "Allow" and s.by_post and s.faults)
        return next((f"{one.title}: {one.faults[0]}" for one in doors), "")

    def left(
        self, group: RequestGroup, limits: Box, *, certain: bool, doors_without_policy: bool = True
    ) -> Iterator[Box]:
        """The requests of a group within limits that nobody is refused; only sure refusals, or all that may be.
        `doors_without_policy`: also those that are let in at a door which asks no policy."""
        domain = meet(group.domain, limits, self.work)
        if domain is None:
            return
        denied, let_by = [], []
        for statement in self.rules.policy.statements:
            if statement.at_every_door:  # what a network rule refuses is no demand of a policy
                continue
            refuses = statement.effect == "Deny" or (not certain and statement.effect == "")
            lets_by = doors_without_policy and statement.effect == "Allow" and bool(statement.by_post)
            said = self.reading.limits(statement, group) if refuses or lets_by else None
            if said is not None and refuses and (said.sure or not certain):
                denied.append(said.box)
            elif said is not None and lets_by and (said.sure or certain):
                let_by.append(said.box)
        yield from without(domain, denied, self.work)
        yield from filter(None, (meet(domain, box, self.work) for box in let_by))

    def left_of(self, action: str, limits: Box, *, certain: bool, doors_without_policy: bool = True) -> Iterator[Box]:
        """The same for a single action."""
        group = next(g for g in self.reading.groups(ACTIONS[action].verb) if action in g.actions)
        alone = {ACTION: FiniteSet([action]), **limits}
        return self.left(group, alone, certain=certain, doors_without_policy=doors_without_policy)

    def applies_to(self, dimension_: str) -> bool:
        """Whether any condition of the policy looks at this."""
        return any(dimension(c.key) == dimension_ for s in self.rules.policy.statements for c in s.conditions)


def _encryption(demands: MandatoryConditions, certain: bool) -> Value | None:
    if not demands.applies_to(ENCRYPTION):
        return "off"
    unasked = {ENCRYPTION: OptionalSet(NO_TEXTS, absent=True)}
    return "off" if any(True for _ in demands.left_of("s3:PutObject", unasked, certain=certain)) else "on"


def _store_keys(demands: MandatoryConditions, certain: bool) -> Value | None:
    """Whether an upload that brings a key of its own is refused: it asks for none of the store's. Doors that ask no
    policy take no such keys."""
    absent = OptionalSet(NO_TEXTS, absent=True)
    whole = {OWN_KEY: OptionalSet(ALL_TEXTS, absent=False), ENCRYPTION: absent, STORE_KEY: absent}
    brought = {key: limit for key, limit in whole.items() if demands.applies_to(key)}
    left = demands.left_of("s3:PutObject", brought, certain=certain, doors_without_policy=False)
    return "off" if any(True for _ in left) else "on"


def _transport(demands: MandatoryConditions, certain: bool) -> Value | None:
    if not demands.applies_to(TRANSPORT):
        return "off"
    plainly = {TRANSPORT: OptionalSet(literals(frozenset({"false"})), absent=False)}
    groups = (group for verb in VERBS for group in demands.reading.groups(verb))
    return "off" if any(True for group in groups for _ in demands.left(group, plainly, certain=certain)) else "on"


def _retentions(demands: MandatoryConditions, certain: bool) -> IntervalSet:
    """The retention periods in days that somebody may give a version."""
    if not demands.applies_to(DAYS):
        return IntervalSet([((0, 0), LAST)])
    periods = IntervalSet()
    days = {DAYS: OptionalSet(IntervalSet([((0, 0), LAST)]), absent=False)}
    for action in RETAINING:
        for piece in demands.left_of(action, days, certain=certain):
            periods = periods.join(piece[DAYS].values, demands.work)
    return periods


def _shortest(demands: MandatoryConditions, certain: bool) -> Value | None:
    spans = _retentions(demands, certain).spans
    return int(spans[0][0][0] * DAY) or None if spans else None


def _longest(demands: MandatoryConditions, certain: bool) -> Value | None:
    spans = _retentions(demands, certain).spans
    end = spans[-1][1][0] if spans else 0
    return None if end == LAST[0] else int(end - 1) * DAY  # days are whole: the last one is before the end


_ASKED: dict[str, Callable[[MandatoryConditions, bool], Value | None]] = {
    "encryption": _encryption,
    "transport": _transport,
    "store-keys": _store_keys,
    "shortest": _shortest,
    "longest": _longest,
}
