"""Who can get in, exactly: all requests at once.

Theory of operation. The requests that an audience can make form a box (`statements.Group.domain`). Allowed are
those in the box of an Allow statement or a grant, minus those in the box of a Deny statement. Within what is
allowed we look for requests that any outsider can bring about (`Group.stranger`):

* `open`    an outsider, choosing only what they control, is let in from more of the public Internet than any one
            organisation holds (`FENCE_V4`, `FENCE_V6`);
* `narrow`  something is allowed, but only with something they do not control: the *fence*, which is named;
* `closed`  nothing is allowed at all: the region is empty.

What is not understood or not read makes two regions: the least that is certainly allowed and the most that could
be. Where both give the same verdict it stands; where not, it is `unknown`, with the reasons. Every `open` and
`narrow` carries a witness, which the plain decider (`decide`) must accept, or the verdict is withdrawn.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any, Literal

import msgspec

from rusty_lantern.core.access.conditions import TIME
from rusty_lantern.core.access.decide import Caller, Request, decide
from rusty_lantern.core.access.documents import Policy, Statement
from rusty_lantern.core.access.identities import Identity, read_identity
from rusty_lantern.core.access.keys import AUDIENCES, FENCE_V4, FENCE_V6, STRANGER_ACCOUNT, Audience
from rusty_lantern.core.access.public import Public, counts_as_public
from rusty_lantern.core.access.region import Box, meet, without
from rusty_lantern.core.access.rules import Rules, Surroundings
from rusty_lantern.core.access.sets import Finite, OverBudget, Work
from rusty_lantern.core.access.sets.line import EVERY_V4, PUBLIC_ADDRESSES, Line
from rusty_lantern.core.access.sets.texts import just, starting_with
from rusty_lantern.core.access.statements import (
    ACTION,
    KEY,
    VERB_ACTIONS,
    Group,
    Limits,
    Reading,
    unlisted,
)
from rusty_lantern.core.access.verbs import ACTIONS, FIRST_ACTION, GRANTED, GRANTED_ON_OBJECT, VERBS
from rusty_lantern.core.access.witness import (
    Fence,
    Witness,
    fence_of,
    moment_of,
    request_from,
    trusted_addresses,
    witness_of,
)
from rusty_lantern.core.dossier import Grant, ObjectGrant, Right
from rusty_lantern.core.holders import Verb

Level = Literal["closed", "narrow", "open", "unknown"]
BUDGET = 120_000
"""Steps for all verdicts of one bucket for one audience; about 200 ms."""


class Verdict(msgspec.Struct, frozen=True):
    """The exposure of one bucket to one audience for one verb.

    `witness` and `because` (the rule that lets it through) go with `open` and `narrow`, `fence` with `narrow`,
    `doubts` with `unknown`.
    """

    level: Level
    witness: Witness | None = None
    because: str = ""
    fence: Fence | None = None
    doubts: tuple[str, ...] = ()
    until: datetime | None = None
    """Where the way in that the witness takes closes by itself, the moment it does."""


Exposures = Mapping[tuple[Audience, Verb], Verdict]


def exposures(rules: Rules, around: Surroundings, budget: int = BUDGET) -> Exposures:
    """The verdict for each audience and verb."""
    memo: dict[object, Any] = {}
    public = public_policy(rules, around, Work(budget, memo))
    found: dict[tuple[Audience, Verb], Verdict] = {}
    for audience in AUDIENCES:
        work = Work(budget, memo)  # each has its own, so that no audience spends another's
        view = View(rules, around, audience, work, public)
        bare = View(rules, around, audience, work, public, bare=True) if view.reading.leaves_away else None
        found |= {(audience, verb): _verdict(view, bare, verb) for verb in VERBS}
    return found


def public_policy(rules: Rules, around: Surroundings, work: Work) -> Public:
    """Whether the policy counts as public, where a guard asks for it."""
    if not (rules.restrict_policy.on or not rules.restrict_policy.sure) or not rules.policy.statements:
        return Public()

    def opens(policy: Policy) -> bool:
        alone = Rules(rules.bucket, policy, fixed=rules.fixed)
        views = [View(alone, around, audience, work) for audience in AUDIENCES]
        return any(view.find(verb, "least").level == "open" for view in views for verb in VERBS)

    try:
        return counts_as_public(rules.policy, opens)
    except OverBudget:
        return Public(least=False, most=True)


class Found(msgspec.Struct, frozen=True):
    """What a search of one region came to: the level, a piece of the region to take a witness from, its fence."""

    level: Level = "closed"
    piece: Box | None = None
    fence: Fence | None = None


Side = Literal["least", "most"]


class View:
    """One bucket as one audience meets it."""

    def __init__(
        self,
        rules: Rules,
        around: Surroundings,
        audience: Audience,
        work: Work,
        public: Public | None = None,
        *,
        identity: Identity | None = None,
        beside: Policy | None = None,
        bare: bool = False,
    ) -> None:
        self.rules = rules
        self.around = around
        self.audience = audience
        self.public = public or Public()
        self.work = work
        self.identity = identity
        self.reading = Reading(rules, audience, around, work, identity=identity, beside=beside, bare=bare)
        self.doubts: dict[str, None] = {}
        self.trusted = trusted_addresses(around)

    def pieces(self, group: Group, side: Side) -> Iterator[Box]:
        """Disjoint parts, per allowing rule, of what is allowed in this group."""
        denied: list[Box] = []
        for statement in self.rules.policy.statements:
            if statement.effect == "Allow":
                continue
            limits = self.reading.limits(statement, group)
            if limits and self._counts(limits, side="most" if side == "least" else "least", certain=statement.effect):
                denied.append(limits.box)
        if side == "least" and "policy" in self.rules.doubted:
            return
        for allowed in self._allowed(group, side):
            box = meet(group.domain, allowed, self.work)
            if box is not None:
                yield from without(box, denied, self.work)

    def _possible(self, verb: Verb) -> bool:
        """Whether anything at all might allow the verb: nearly always answered without any set algebra."""
        if self.rules.doubted or self.rules.object_doubt or self.rules.object_grants:
            return True
        allows = [s for s in self.rules.policy.statements if s.effect != "Deny"]
        if any(self.reading.speaks_of(s, verb) or self._unlisted(s) for s in allows):
            return True
        if any(p.gives(verb) and self._grants(p) for p in self.rules.rights):
            return True
        return any(
            self._grants(g) and not GRANTED[g.permission].isdisjoint(VERB_ACTIONS[verb]) for g in self.rules.grants
        )

    def _grants(self, grant: Grant | Right | ObjectGrant) -> bool:
        """Whether a grant or right is one to this audience or identity."""
        if isinstance(grant, Right) and grant.to in ("named", "group"):
            return self.identity is not None and self.rules.gives(grant, self.identity.name)
        if isinstance(grant, Grant) and grant.to == "named":
            named = read_identity(grant.identity)
            return self.identity is not None and (named.name, named.kind) == (self.identity.name, self.identity.kind)
        return grant.to == "anyone" or (grant.to == "any-account" and self.audience != "anyone")

    def _counts(self, limits: Limits, *, side: Side, certain: str) -> bool:
        """Whether a statement counts on this side: one that is not understood counts only for the most."""
        if limits.sure and certain:
            return True
        self.doubts[f"{limits.title}: {limits.why or 'its effect is not understood'}"] = None
        return side == "most"

    def _allowed(self, group: Group, side: Side) -> Iterator[Box]:
        if side == "most" and "policy" in self.rules.doubted:
            yield {}
        if not self._policy_shut(side):
            for statement in self.rules.policy.statements:
                if statement.effect == "Deny":
                    continue
                limits = self.reading.limits(statement, group)
                if limits and self._counts(limits, side=side, certain=statement.effect):
                    yield limits.box
                unlisted = self._unlisted(statement)
                if unlisted:
                    self.doubts[f'{statement.title}: "{unlisted}" is no published action'] = None
                    if side == "most":
                        yield {}
        yield from self._granted(group, side)

    def _unlisted(self, statement: Statement) -> str:
        """An action that nobody published, which a statement allows to this audience: it may be anything."""
        found = unlisted(statement.actions, negated=statement.actions_negated)
        return found if found and self.reading.speaks(statement) != "no" else ""

    def _policy_shut(self, side: Side) -> bool:
        guard = self.rules.restrict_policy
        if not guard.on and guard.sure:
            return False
        if guard.on and self.public.least == self.public.most:
            return self.public.least
        if not self.public.most:
            return False
        self.doubts[guard.source if not guard.on else "whether the policy counts as public is not certain"] = None
        return side == "least"

    def _granted(self, group: Group, side: Side) -> Iterator[Box]:
        """What grants and rights allow: actions, and for a right the keys with its prefix."""
        verb = ACTIONS[group.actions[0]].verb
        if side == "most":
            if "grants" in self.rules.doubted and not self.rules.disable_grants.on:
                yield from _of_actions(frozenset().union(*GRANTED.values()), group)
            if "rights" in self.rules.doubted:
                yield {}
        for grant in self.rules.grants:
            if self._grants(grant) and self._stands(grant, side):
                yield from _of_actions(GRANTED[grant.permission], group)
        yield from self._on_objects(group, side)
        for right in self.rules.rights:
            if right.gives(verb) and self._grants(right) and self._stands(right, side):
                keyed = group.target == "object" and right.prefix
                yield {KEY: starting_with(right.prefix, self.work)} if keyed else {}

    def _on_objects(self, group: Group, side: Side) -> Iterator[Box]:
        """What objects' own access lists allow the public: on the objects that are known, and perhaps on any."""
        if group.target != "object" or self.identity is not None:
            return
        for grant in self.rules.object_grants:
            if self._grants(grant) and self._stands(grant, side):
                for box in _of_actions(GRANTED_ON_OBJECT[grant.permission], group):
                    yield {**box, KEY: just(grant.key)}
        shut = self.rules.disable_grants.on or self.rules.ignore_grants.on
        if self.rules.object_doubt and not shut:
            for box in _of_actions(GRANTED_ON_OBJECT["full-control"], group):
                self.doubts[self.rules.object_doubt] = None
                if side == "most":
                    yield box

    def _stands(self, granted: Grant | Right | ObjectGrant, side: Side) -> bool:
        """Whether no guard keeps a grant from counting on this side."""
        guard = self.rules.guard_on(granted)
        if not guard.on and not guard.sure:
            self.doubts[guard.source] = None
        return side == "most" if not guard.sure else not guard.on

    def request_in(self, piece: Box, group: Group) -> Request:
        """A request out of a piece; one that an outsider can send, if any is."""
        theirs = meet(piece, self.reading.theirs(piece, group), self.work)
        return request_from(theirs or piece, self.audience, self.around, self.sender)

    @property
    def sender(self) -> Caller | None:
        """The named identity as it signs its requests; None for an audience."""
        who = self.identity
        if who is None:
            return None
        return Caller(who.account, who.arn, "" if who.arn else who.name)

    def find(self, verb: Verb, side: Side) -> Found:
        """The verdict on the least or the most that is allowed. Raises `OverBudget`."""
        if not self._possible(verb):
            return Found()
        addresses, let_in = Line(), None
        fenced: tuple[Fence, Box] | None = None
        for group in self.reading.groups(verb):
            for piece in self.pieces(group, side):
                theirs = self.reading.theirs(piece, group)
                strange = meet(piece, theirs, self.work)
                if strange is None:
                    fence = fence_of(piece, theirs, self.work, self.trusted)
                    if fenced is None or fence.weight < fenced[0].weight:
                        fenced = fence, piece
                    continue
                source: Any = strange.get("aws:sourceip")
                own_endpoint = source is None or source.absent
                addresses = addresses.join(PUBLIC_ADDRESSES if own_endpoint else source.values, self.work)
                strange = {**strange, TIME: piece[TIME]} if TIME in piece else strange
                if _beyond_a_fence(addresses, self.work):
                    return Found("open", strange)
                let_in = let_in or strange
        if let_in is not None:
            return Found("narrow", let_in, Fence.around(addresses, self.trusted))
        return Found("narrow", fenced[1], fenced[0]) if fenced else Found()


def _of_actions(actions: frozenset[str], group: Group) -> Iterator[Box]:
    reached = Finite(actions.intersection(group.actions))
    if reached:
        yield {ACTION: reached}


def _beyond_a_fence(addresses: Line, work: Work) -> bool:
    v4 = addresses.meet(EVERY_V4, work).count()
    return v4 > FENCE_V4 or addresses.count() - v4 > FENCE_V6


def _verdict(view: View, bare: View | None, verb: Verb) -> Verdict:
    """`bare`: the same of requests that carry nothing they need not. What is open to these is open, and seen at once:
    no automaton is built for what they do not send."""
    view.doubts.clear()
    try:
        least = bare.find(verb, "least") if bare else Found()
        if least.level != "open":
            least = view.find(verb, "least")
        if least.level == "open" or not (view.doubts or view.rules.doubted):
            return _proven(view, least)
        most = view.find(verb, "most")
    except OverBudget:
        return Verdict("unknown", doubts=("the rules are too intricate to decide within the work allowed",))
    if least.level == most.level:
        return _proven(view, least)
    reasons = (*view.rules.doubted.values(), *view.doubts)
    return Verdict("unknown", doubts=reasons)


def _proven(view: View, found: Found) -> Verdict:
    """The verdict with its witness, once the plain decider has accepted it."""
    if found.piece is None:
        return Verdict(found.level)
    request = request_from(found.piece, view.audience, view.around)
    decision = decide(view.rules, request, public=as_match(view.public))
    if decision.allowed is not True:
        doubt = f"the two deciders disagree about {request.action}; please report this policy"
        return Verdict("unknown", doubts=(doubt,))
    witness = witness_of(request, view.rules.bucket)
    return Verdict(found.level, witness, decision.by, found.fence, until=_ends(found.piece))


def as_match(public: Public) -> Literal["yes", "no", "maybe"]:
    """Whether a policy counts as public, as the plain decider takes it."""
    return "yes" if public.least else ("maybe" if public.most else "no")


def _ends(piece: Box) -> datetime | None:
    if TIME not in piece:
        return None
    return moment_of(piece[TIME].values.spans[-1][1][0])


def request_for(rules: Rules, around: Surroundings, audience: Audience, verb: Verb, keys: Sequence[str]) -> Request:
    """A request for the verb, the likeliest to be let in: of those allowed, one for a key that exists, if any.

    Where nothing is allowed it is the plainest request there is, for the first key.
    """
    view = View(rules, around, audience, Work(BUDGET))
    plain = Request(FIRST_ACTION[verb], keys[0] if keys else "a")
    try:
        for group in view.reading.groups(verb):
            for piece in view.pieces(group, "least"):
                held = next((key for key in keys if piece["key"].holds(key)), None) if "key" in piece else ""
                if held is not None:
                    request = request_from(
                        meet(piece, view.reading.theirs(piece, group), view.work) or piece, audience, around
                    )
                    return msgspec.structs.replace(request, key=held)
    except OverBudget:
        return plain
    return plain


def likeliest_caller(rules: Rules, around: Surroundings, verb: Verb) -> Caller:
    """The account that is let in to do this, if any is; otherwise one that stands for all that no rule names."""
    view = View(rules, around, "any-account", Work(BUDGET))
    try:
        for group in view.reading.groups(verb):
            for piece in view.pieces(group, "least"):
                return view.request_in(piece, group).caller
    except OverBudget:
        pass
    return Caller(STRANGER_ACCOUNT, f"arn:aws:iam::{STRANGER_ACCOUNT}:user/stranger")


class Change(msgspec.Struct, frozen=True):
    """What somebody gains and loses for a verb when one set of rules takes another's place.

    Each is a witness, or None. With `sure=False`, something not understood could hide more.
    """

    gained: Witness | None
    lost: Witness | None
    sure: bool = True


class Asker(msgspec.Struct, frozen=True):
    """Of whom a difference is asked: an audience, or a named identity, which may be one of the owner's own."""

    audience: Audience = "any-account"
    identity: Identity | None = None
    insider: bool = False


def difference(before: Rules, after: Rules, around: Surroundings, asker: Asker, verb: Verb, work: Work) -> Change:
    """The exact difference of two sets of rules: requests allowed after and not before, and the other way round."""
    old, new = (
        View(
            mine, around, asker.audience, work, Public() if asker.insider else public_policy(mine, around, work),
            identity=asker.identity, beside=other.policy,
        )
        for mine, other in ((before, after), (after, before))
    )  # fmt: skip
    try:
        gained, lost = _more(new, old, verb), _more(old, new, verb)
        hidden = _hidden(old, new, verb, gained=gained is not None, lost=lost is not None)
    except OverBudget:
        return Change(None, None, sure=False)
    return Change(gained, lost, sure=not hidden)


def _more(view: View, than: View, verb: Verb, mine: Side = "least", theirs: Side = "most") -> Witness | None:
    """A request that is allowed by one and not by the other: certainly, unless other sides are asked for."""
    for group in view.reading.groups(verb):
        taken = list(than.pieces(group, theirs))
        for piece in view.pieces(group, mine):
            for rest in without(piece, taken, view.work):
                found = witness_of(view.request_in(rest, group), view.rules.bucket)
                return msgspec.structs.replace(found, caller=view.identity.name) if view.identity else found
    return None


def _hidden(old: View, new: View, verb: Verb, *, gained: bool, lost: bool) -> bool:
    """Whether what is not understood or not read may hide a gain or a loss that is not shown.

    What both sides do not understand alike cancels out; what only one has may be anything.
    """
    if not (old.doubts or new.doubts or old.rules.doubted or new.rules.doubted):
        return False
    alike = (old.doubts, old.rules.doubted) == (new.doubts, new.rules.doubted)
    side: Side = "most" if alike else "least"
    gain = not gained and _more(new, old, verb, "most", side) is not None
    return gain or (not lost and _more(old, new, verb, "most", side) is not None)


class Reach(msgspec.Struct, frozen=True):
    """What one named identity is granted for one verb: the level, and the rule or fence."""

    level: Level
    fence: str = ""
    doubts: tuple[str, ...] = ()


def reach_of(
    identity: Identity, rules: Rules, around: Surroundings, work: Work, *, insider: bool = False
) -> dict[Verb, Reach]:
    """What the rules of a bucket let a named identity do. A fence is named where there is one.

    `insider`: it is known to be one of the owner's own, whatever its name says.
    """
    if around.account_unread and not insider and identity.account:
        return _either(identity, rules, around, work)
    found: dict[Verb, Reach] = {}
    inside = insider or (around.account == identity.account and bool(identity.account)) or identity.kind == "service"
    public = Public() if inside else public_policy(rules, around, work)
    view = View(rules, around, "any-account", work, public, identity=identity)
    for verb in VERBS:
        view.doubts.clear()
        try:
            least, most = view.find(verb, "least"), view.find(verb, "most")
        except OverBudget:
            found[verb] = Reach("unknown", doubts=("the rules are too intricate",))
            continue
        if least.level != most.level:
            found[verb] = Reach("unknown", doubts=(*rules.doubted.values(), *view.doubts))
        else:
            found[verb] = Reach(least.level, least.fence.words if least.fence else "")
    return found


def _either(identity: Identity, rules: Rules, around: Surroundings, work: Work) -> dict[Verb, Reach]:
    """What an identity may do where the bucket's account was not read: the identity may be in it or not.

    A verb is decided where both readings agree, and unknown where they differ.
    """
    sure = msgspec.structs.replace(around, account_unread="")
    own = msgspec.structs.replace(sure, account=identity.account)
    here, there = reach_of(identity, rules, own, work), reach_of(identity, rules, sure, work)
    why = (around.account_unread,)
    return {v: here[v] if here[v].level == there[v].level else Reach("unknown", doubts=why) for v in VERBS}
