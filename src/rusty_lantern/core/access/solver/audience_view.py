"""One bucket as one audience, or one named identity, meets it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

import msgspec

from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, Audience
from rusty_lantern.core.access.policy.document import Policy, Statement
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.policy.public_policy import PublicStatus, counts_as_public
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.action_patterns import VERB_ACTIONS, unlisted
from rusty_lantern.core.access.solver.boxes import Box, meet, without
from rusty_lantern.core.access.solver.conditions import TIME
from rusty_lantern.core.access.solver.request_groups import ACTION, KEY, RequestGroup
from rusty_lantern.core.access.solver.restriction import Restriction, restriction_of, trusted_addresses
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OverBudget
from rusty_lantern.core.access.solver.sets.automata import just
from rusty_lantern.core.access.solver.sets.intervals import EVERY_V4, PUBLIC_ADDRESSES, Cut, IntervalSet, Number
from rusty_lantern.core.access.solver.sets.matching import starting_with
from rusty_lantern.core.access.solver.statements import AudiencePolicy, StatementBox, reaches
from rusty_lantern.core.access.solver.witness import WayIn, request_from
from rusty_lantern.core.model.acl import Grant, ObjectGrant, Right
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.network import RESTRICTION_V4, RESTRICTION_V6

Level = Literal["closed", "restricted", "open", "unknown"]


BUDGET = 120_000
"""Steps for all verdicts of one bucket for one audience; about 200 ms."""


def public_policy(rules: Rules, around: EvaluationContext, work: Budget) -> PublicStatus:
    """Whether the policy counts as public, where a guard asks for it."""
    if not (rules.restrict_policies.on or not rules.restrict_policies.sure) or not rules.policy.statements:
        return PublicStatus()

    def opens(policy: Policy) -> bool:
        alone = Rules(rules.bucket, policy, fixed=rules.fixed)
        views = [AudienceView(alone, around, audience, work) for audience in AUDIENCES]
        return any(view.find(verb, "least").level == "open" for view in views for verb in VERBS)

    try:
        own = tuple(statement for statement in rules.policy.statements if not statement.door)
        return counts_as_public(msgspec.structs.replace(rules.policy, statements=own), opens)
    except OverBudget:
        return PublicStatus(least=False, most=True)


def way_in(rules: Rules, by: str) -> WayIn:
    """How a rule, by its title, lets a request in."""
    statement = next((one for one in rules.policy.statements if one.title == by), None)
    if statement is not None and statement.door:
        return WayIn(statement.door, statement.by_post, statement.through)
    door = next((right.door for right in rules.rights if right.title == by), "")
    return WayIn(door, by_copy=rules.takes_copies_alone)


class Widest(msgspec.Struct, frozen=True):
    """The result of searching one region: the level, a piece of the region to take a witness from, its restriction."""

    level: Level = "closed"
    piece: Box | None = None
    restriction: Restriction | None = None


Side = Literal["least", "most", "understood"]
"""How what is not understood or not read counts: as refusing all that it may, as allowing all that it may, or not at
all."""


class AudienceView:
    """One bucket as one audience meets it."""

    def __init__(
        self,
        rules: Rules,
        around: EvaluationContext,
        audience: Audience,
        work: Budget,
        public: PublicStatus | None = None,
        *,
        identity: Principal | None = None,
        beside: Policy | None = None,
        bare: bool = False,
    ) -> None:
        self.rules = rules
        self.around = around
        self.audience = audience
        self.public = public or PublicStatus()
        self.work = work
        self.identity = identity
        self.reading = AudiencePolicy(rules, audience, around, work, identity=identity, beside=beside, bare=bare)
        self.doubts: dict[str, None] = {}
        self.trusted = trusted_addresses(around)

    def pieces(self, group: RequestGroup, side: Side) -> Iterator[Box]:
        """Disjoint parts, per allowing rule, of what is allowed in this group."""
        yield from self._beyond_denies(group, side)
        denied = list(self._denied(group, side))
        if side == "least" and "policy" in self.rules.doubted:
            return
        for allowed in self._allowed(group, side):
            box = meet(group.domain, allowed, self.work)
            if box is not None:
                yield from without(box, denied, self.work)

    def _beyond_denies(self, group: RequestGroup, side: Side) -> Iterator[Box]:
        """What a door allows that asks no policy: only what holds at every door refuses it."""
        statements = [statement for statement in self.reading.applying if statement.by_post]
        if not statements:
            return
        denied = list(self._denied(group, side, at_every_door=True))
        for statement in statements:
            allowed = self._box_of(statement, group, side)
            box = None if allowed is None else meet(group.domain, allowed, self.work)
            yield from without(box, denied, self.work) if box is not None else ()

    def _denied(self, group: RequestGroup, side: Side, *, at_every_door: bool = False) -> Iterator[Box]:
        """What statements refuse on this side; `at_every_door`: those alone that no door lets by."""
        other: Side = "most" if side == "least" else "least"
        for statement in self.reading.applying:
            if statement.effect == "Allow" or (at_every_door and not statement.at_every_door):
                continue
            box = self._box_of(statement, group, other)
            yield from () if box is None else (box,)

    def _box_of(self, statement: Statement, group: RequestGroup, side: Side) -> Box | None:
        """What a statement applies to in this group; None where it does not, or does not count on this side."""
        limits = self.reading.limits(statement, group)
        if limits and self._bears(limits, group) and self._counts(limits, side=side, certain=statement.effect):
            return limits.box
        return None

    def _possible(self, verb: Verb) -> bool:
        """Whether anything at all might allow the verb: nearly always answered without any set algebra."""
        if self.rules.doubted or self.rules.object_doubt or self.rules.object_acls:
            return True
        if self.rules.of_one_identity and (self.rules.named_on_objects or self.rules.named_object_acls):
            return True
        allows = [s for s in self.reading.applying if s.effect != "Deny"]
        if any(reaches(s, verb) or _unlisted(s) for s in allows):
            return True
        if any(p.gives(verb) and self._grants(p) for p in self.rules.rights):
            return True
        granted = (self.rules.granted_actions(grant, most=True) for grant in self.rules.acl if self._grants(grant))
        return any(not actions.isdisjoint(VERB_ACTIONS[verb]) for actions in granted)

    def _grants(self, grant: Grant | Right | ObjectGrant) -> bool:
        """Whether a grant or right is one to this audience or identity."""
        if isinstance(grant, Right) and grant.to in ("named", "group"):
            return self.identity is not None and self.rules.gives(grant, self.identity.name)
        if not isinstance(grant, Right) and grant.to == "named":
            named, who = self.rules.grantee(grant.identity), self.identity
            if who is None or grant.identity in (who.name, *who.aliases):
                return who is not None
            return named.kind == who.kind and named.name in (who.name, *who.aliases)
        return grant.to in ("anyone", "unsigned" if self.audience == "anyone" else "any-account")

    def _bears(self, limits: StatementBox, group: RequestGroup) -> bool:
        """Whether a statement bears on any request in question: what is in doubt and does not is no reason."""
        return limits.sure or meet(group.domain, limits.box, self.work) is not None

    def _counts(self, limits: StatementBox, *, side: Side, certain: str) -> bool:
        """Whether a statement counts on this side: one that is not understood counts only for the most."""
        if limits.sure and certain:
            return True
        self.doubts[f"{limits.statement.title}: {limits.why or 'its effect is not understood'}"] = None
        return side == "most"

    def _allowed(self, group: RequestGroup, side: Side) -> Iterator[Box]:
        if side == "most" and not self.rules.doubted.keys().isdisjoint(("policy", "doors")):
            yield {}
        shut = self._policy_shut(side)
        for statement in self.reading.applying:
            if statement.effect == "Deny" or (shut and not (statement.door or statement.by_service)):
                continue
            box = self._box_of(statement, group, side)
            yield from () if box is None else (box,)
            action = _unlisted(statement)
            if action:
                self.doubts[f'{statement.title}: "{action}" is no published action'] = None
                if side == "most":
                    yield {}
        yield from self._granted(group, side)

    def _policy_shut(self, side: Side) -> bool:
        guard = self.rules.restrict_policies
        if not guard.on and guard.sure:
            return False
        if guard.on and self.public.least == self.public.most:
            return self.public.least
        if not self.public.most:
            return False
        self.doubts[guard.source if not guard.on else "whether the policy counts as public is not certain"] = None
        return side == "least"

    def _granted(self, group: RequestGroup, side: Side) -> Iterator[Box]:
        """What grants and rights allow: actions, and for a right the keys with its prefix."""
        verb = ACTIONS[group.actions[0]].verb
        if side == "most":
            if "acl" in self.rules.doubted and not self.rules.disable_grants.on:
                yield from _of_actions(self.rules.grantable("bucket"), group)
            if "rights" in self.rules.doubted:
                yield {}
        for grant in self.rules.acl:
            if self._grants(grant) and self._stands(grant, side):
                yield from _of_actions(self._granted_actions(grant, group, side), group)
        yield from self._on_objects(group, side)
        for right in self.rules.rights:
            if right.gives(verb) and self._grants(right) and self._stands(right, side):
                keyed = group.target == "object" and right.prefix
                yield {KEY: starting_with(right.prefix, self.work)} if keyed else {}

    def _on_objects(self, group: RequestGroup, side: Side) -> Iterator[Box]:
        """What objects' own ACLs allow: on the objects that are known, and perhaps on any."""
        if group.target != "object" or (self.identity is not None and not self.rules.of_one_identity):
            return
        rules = self.rules
        shut, granted, doubt = rules.ignore_acls.on, rules.object_acls, rules.object_doubt
        if self.identity is not None:
            shut, granted, doubt = False, rules.named_object_acls, rules.named_on_objects
        for grant in granted:
            if self._grants(grant) and self._stands(grant, side):
                for box in _of_actions(self._granted_actions(grant, group, side), group):
                    yield {**box, KEY: just(grant.key)}
                    if grant.more:
                        why = f"other objects' ACLs grant it as that of {grant.key} does, and a Deny may spare them"
                        self.doubts[why] = None
                        yield from [box] if side == "most" else []
        if doubt and not (shut or rules.disable_grants.on):
            for box in _of_actions(rules.grantable("object"), group):
                self.doubts[doubt] = None
                if side == "most":
                    yield box

    def _granted_actions(self, grant: Grant | ObjectGrant, group: RequestGroup, side: Side) -> frozenset[str]:
        """The actions that a grant allows on this side."""
        least, most = self.rules.granted_actions(grant), self.rules.granted_actions(grant, most=True)
        if not (most - least).isdisjoint(group.actions):
            self.doubts[self.rules.acl_permissions_doubt] = None
        return most if side == "most" else least

    def _stands(self, granted: Grant | Right | ObjectGrant, side: Side) -> bool:
        """Whether no guard keeps a grant from counting on this side."""
        guard = self.rules.guard_on(granted)
        if isinstance(granted, Right) and granted.doubt and not guard.on:
            self.doubts[granted.doubt] = None
            return side == "most"
        if not guard.on and not guard.sure:
            self.doubts[guard.source] = None
        return side == "most" if not guard.sure else not guard.on

    def request_in(self, piece: Box, group: RequestGroup) -> Request:
        """A request out of a piece; one that an outsider can send, if any is."""
        theirs = meet(piece, self.reading.within_reach(piece, group), self.work)
        return request_from(theirs or piece, self.audience, self.around, self.sender)

    @property
    def sender(self) -> Caller | None:
        """The named identity as it signs its requests; None for an audience."""
        who = self.identity
        if who is None:
            return None
        return Caller(who.account, who.arn, who.label if who.label != who.name or not who.arn else "")

    def find(self, verb: Verb, side: Side) -> Widest:
        """The verdict on the least or the most that is allowed. Raises `OverBudget`."""
        if not self._possible(verb):
            return Widest()
        addresses, let_in = _Addresses(self.work), None
        narrow: dict[Restriction, Box] = {}
        for group in self.reading.groups(verb):
            for piece in self.pieces(group, side):
                theirs = self.reading.within_reach(piece, group)
                from_outside = meet(piece, theirs, self.work)
                if from_outside is None:
                    narrow.setdefault(restriction_of(piece, theirs, self.work, self.trusted), piece)
                    continue
                source: Any = from_outside.get("aws:sourceip")
                own_endpoint = source is None or source.absent
                addresses.add(PUBLIC_ADDRESSES if own_endpoint else source.values)
                from_outside = {**from_outside, TIME: piece[TIME]} if TIME in piece else from_outside
                if addresses.beyond_a_restriction():
                    return Widest("open", from_outside)
                let_in = let_in or from_outside
        if let_in is not None:
            return Widest("restricted", let_in, Restriction.around(addresses.joined(), self.trusted).beside(narrow))
        if not narrow:
            return Widest()
        first = min(narrow, key=lambda one: one.weight)
        return Widest("restricted", narrow[first], first.beside(one for one in narrow if one is not first))

    def beyond(self, least: Widest, verb: Verb) -> Widest:
        """The verdict on the most that is allowed, once that on the least is known: nothing is beyond what is open,
        nor where nothing was in doubt. Raises `OverBudget`."""
        if least.level == "open" or not (self.doubts or self.rules.doubted):
            return least
        return self.find(verb, "most")


def _unlisted(statement: Statement) -> str:
    """An action that nobody published, which a statement allows: it may be anything."""
    return unlisted(statement.actions, negated=statement.actions_negated)


def _of_actions(actions: frozenset[str], group: RequestGroup) -> Iterator[Box]:
    reached = FiniteSet(actions.intersection(group.actions))
    if reached:
        yield {ACTION: reached}


class _Addresses:
    """Addresses from which pieces can be reached; joined only once together they may be more than a restriction."""

    def __init__(self, work: Budget) -> None:
        self._work = work
        self._spans: list[tuple[Cut, Cut]] = []
        self._most: Number = 0
        """There are no more than so many; pieces may share some."""

    def add(self, more: IntervalSet) -> None:
        """The addresses of one more piece."""
        self._work.spend(1 + len(more.spans))
        self._spans += more.spans
        self._most += more.count()

    def joined(self) -> IntervalSet:
        """All of them."""
        self._work.spend(len(self._spans))
        return IntervalSet(self._spans)

    def beyond_a_restriction(self) -> bool:
        """Whether they are too many to be a restriction."""
        if self._most <= min(RESTRICTION_V4, RESTRICTION_V6):
            return False
        addresses = self.joined()
        self._spans, self._most = list(addresses.spans), addresses.count()
        v4 = addresses.meet(EVERY_V4, self._work).count()
        return v4 > RESTRICTION_V4 or self._most - v4 > RESTRICTION_V6
