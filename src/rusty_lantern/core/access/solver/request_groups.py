"""Which requests an audience can make, in groups of actions.

Actions whose requests carry the same condition keys and address the same thing form a *group*; a group has a
domain box (every request of that kind which the audience can make) and an *outsider* box (those that any outsider
can bring about).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from fractions import Fraction
from functools import cached_property, lru_cache
from typing import TypeVar

import msgspec

from rusty_lantern.core.access.policy.actions import Target, actions_of
from rusty_lantern.core.access.policy.condition_keys import (
    ACCOUNT,
    ARN,
    REFERER_HOST,
    Audience,
    ContextKey,
    Presence,
    context_key,
)
from rusty_lantern.core.access.policy.document import Policy
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.policy.request_constraints import TAG_KEYS, Carried, alternatives, joined, tag_of
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.boxes import Box
from rusty_lantern.core.access.solver.caller_names import (
    BELOW_IT,
    ORGANISATION,
    accounts_in,
    all_callers,
    outsiders,
    values_of_trusted,
)
from rusty_lantern.core.access.solver.conditions import (
    HOSTS,
    TIME,
    Frame,
    dimension,
)
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OptionalSet, OverBudget
from rusty_lantern.core.access.solver.sets.automata import (
    ALL_TEXTS,
    NO_TEXTS,
    SOME_TEXT,
    TextSet,
    just,
    literals,
)
from rusty_lantern.core.access.solver.sets.intervals import (
    EVERY_ADDRESS,
    LAST,
    PUBLIC_ADDRESSES,
    WHOLE,
    IntervalSet,
    whole_numbers,
)
from rusty_lantern.core.access.solver.sets.multivalued import ANY_SEVERAL, Family, MultivalueSet
from rusty_lantern.core.model.identity import Verb

T = TypeVar("T")
ACTION, KEY = "action", "key"


class RequestGroup(msgspec.Struct, frozen=True):
    """Actions that are decided together, the requests that can be made, and those any outsider can make."""

    actions: tuple[str, ...]
    target: Target
    domain: Box
    outsider: Box


class RequestGroups:
    """The requests that an audience can make of one bucket, as far as its policy looks at them."""

    def __init__(
        self,
        rules: Rules,
        audience: Audience,
        around: EvaluationContext,
        work: Budget,
        *,
        identity: Principal | None = None,
        beside: Policy | None = None,
        bare: bool = False,
    ) -> None:
        """`identity`: read it for this named one; `beside`: keep to dimensions that this other policy uses too;
        `bare`: of requests that carry nothing that the sender may leave away."""
        self.identity = identity
        self.policy = rules.policy
        self.bucket = rules.bucket
        self.audience = audience
        self.around = around
        self.work = work
        self.bare = bare
        self._names_are_given = rules.names_are_given
        by_name = audience == "any-account" and (identity is None or bool(identity.arn))
        self.frame = Frame(audience, rules.fixed_values, identity, by_name)
        statements = (*rules.policy.statements, *(beside.statements if beside else ()))
        self._known_values: dict[tuple[str, Presence], tuple[object, object | None]] = {}
        self._used = [c for s in statements for c in s.every_condition]
        self._rows = {key: row for key in sorted({c.key for c in self._used}) if (row := context_key(key)) is not None}

    def groups(self, verb: Verb) -> Iterator[RequestGroup]:
        """The verb's actions, grouped, and split by what can occur together in one request."""
        for (target, carried), actions in _grouped(verb, self.audience, self._of_some_actions).items():
            of_action = zip([key for key, _ in self._of_some_actions], carried, strict=True)
            presences = {**self._of_any_action, **dict(of_action)}
            for choice in self._choices():
                narrowed = {key: joined(presence, choice.get(key, "maybe")) for key, presence in presences.items()}
                if None not in narrowed.values():
                    yield self._group(actions, target, narrowed)  # type: ignore[arg-type]

    def _choices(self) -> tuple[Carried, ...]:
        return self._once("choices", self.policy, lambda: tuple(alternatives(self._rows)))

    @cached_property
    def _of_some_actions(self) -> tuple[tuple[str, bool | None], ...]:
        """Keys that requests for some actions alone carry, and whether these do; None where it is not known."""
        known = [(key, self.frame.carries(key)) for key, row in self._rows.items() if row.actions]
        return tuple((key, None if values is None else bool(values)) for key, values in known)

    @cached_property
    def _of_any_action(self) -> dict[str, Presence]:
        """Whether requests carry a key that does not hang on what they ask for."""
        return {key: self._presence(key, row) for key, row in self._rows.items() if not row.actions}

    def _presence(self, key: str, row: ContextKey) -> Presence:
        known = self.frame.carries(key)
        if known is not None:
            return "always" if known else "never"
        presence = row.carried(self.audience)
        return "never" if self.bare and presence == "maybe" and row.caller_controlled else presence

    def _group(self, actions: tuple[str, ...], target: Target, carried: Mapping[str, Presence]) -> RequestGroup:
        domain: dict[str, object] = {ACTION: FiniteSet(actions)}
        outsider: dict[str, object] = {}
        if target == "object":
            domain[KEY] = SOME_TEXT
        for key, row in self._rows.items():
            name = self.frame.dimension(key)
            if name == ARN:
                domain[ARN] = self._callers(carried.get(key, "always"))
                outsider[ARN] = NOBODY_IN_PARTICULAR
                continue
            domain[name], theirs = self._values(row, key, carried[key])
            if key == TAG_KEYS and carried[key] != "never":
                domain[name] = self._listed_tags(carried)
            if theirs is not None:
                outsider[name] = theirs
        return RequestGroup(actions, target, domain, outsider)

    def _values(self, row: ContextKey, key: str, presence: Presence) -> tuple[object, object | None]:
        """The values of a key, and those that outsiders can bring about where they do not choose it. Worked out once:
        groups of many actions carry it alike."""
        known = self._known_values.get((key, presence))
        if known is None:
            theirs = None if row.caller_controlled else self._of_outsiders(row, key, presence)
            known = self._known_values[key, presence] = (self._domain(row, key, presence), theirs)
        return known

    def _callers(self, presence: Presence) -> OptionalSet[TextSet]:
        """The resource names that callers can have."""
        if self.audience != "any-account":
            return OptionalSet(ALL_TEXTS if presence != "never" else NO_TEXTS, absent=presence != "always")
        if self.identity is not None:
            names = literals(frozenset({self.identity.arn})) if self.identity.arn else ALL_TEXTS
            return OptionalSet(names, absent=False)
        return OptionalSet(self._all_callers, absent=False)

    @cached_property
    def _all_callers(self) -> TextSet:
        spoken = frozenset(
            account
            for c in self._used
            if c.key in (ARN, ACCOUNT)
            for account in accounts_in(c.values, of_accounts=c.key == ACCOUNT)
        )
        return all_callers(spoken, frozenset(self.around.trusted_accounts | ({self.around.account} - {""})))

    def _domain(self, row: ContextKey, key: str, presence: Presence) -> object:
        absent, present = presence != "always", presence != "never"
        inside = self._trusted_values(key)
        if row.many and present and not inside.empty:
            return MultivalueSet((Family(every=ALL_TEXTS.minus(inside, self.work)),))
        if row.many:
            return ANY_SEVERAL if present else MultivalueSet((Family(every=NO_TEXTS),))
        if dimension(key) == TIME:
            return OptionalSet(IntervalSet([((self.around.seconds, 0), LAST)]), absent=False)
        if row.kind == "address":
            return OptionalSet(EVERY_ADDRESS if present else IntervalSet(), absent=absent)
        if row.kind in ("date", "number"):
            return OptionalSet(_numbers(row) if present else IntervalSet(), absent=absent)
        texts = self._texts(row, key) if present else NO_TEXTS
        return OptionalSet(texts if inside.empty else texts.minus(inside, self.work), absent=absent)

    def _trusted_values(self, key: str) -> TextSet:
        """The values of a key that the team's own have alone, and nobody of the public."""
        if key not in (ORGANISATION, BELOW_IT) or self.identity is not None:
            return NO_TEXTS
        return values_of_trusted(key, self.around.trusted_accounts)

    def _listed_tags(self, carried: Mapping[str, Presence]) -> MultivalueSet:
        """What the list of an upload's tags can be: it has those that are sent, and not those that are not."""
        every, some = ALL_TEXTS, []
        for tag_key, presence in carried.items():
            tag = tag_of(tag_key)
            if tag and presence == "always":
                some.append(just(tag))
            elif tag and presence == "never":
                every = every.minus(just(tag), self.work)
        return MultivalueSet((Family(every=every, some=tuple(some)),))

    def _texts(self, row: ContextKey, key: str) -> TextSet:
        known = self.frame.carries(key)
        if known is not None:
            return literals(frozenset(known))
        if key == REFERER_HOST:
            return HOSTS
        if row.anonymous and self.audience == "anyone":
            return literals(frozenset({row.anonymous}))
        if row.words:
            return literals(frozenset(row.words))
        return literals(frozenset({"true", "false"})) if row.kind == "switch" else ALL_TEXTS

    def _of_outsiders(self, row: ContextKey, key: str, presence: Presence) -> object:
        """What an outsider can bring about for a key that is not theirs to choose."""
        if self.frame.carries(key) is not None:
            return self._domain(row, key, presence)
        if dimension(key) == TIME:
            return OptionalSet(whole_numbers(self.around.seconds, self.around.seconds), absent=False)
        absent = presence != "always"
        if key == "aws:sourceip":
            return OptionalSet(PUBLIC_ADDRESSES if presence != "never" else IntervalSet(), absent=absent)
        if row.many:
            own = literals(frozenset(row.outsider)) if presence != "never" else NO_TEXTS
            return MultivalueSet((Family(every=own),))
        if row.kind in ("address", "date", "number"):
            return OptionalSet(IntervalSet(), absent=absent)
        return OptionalSet(self._texts_of_outsiders(row, presence), absent=absent)

    def _texts_of_outsiders(self, row: ContextKey, presence: Presence) -> TextSet:
        if row.anonymous and self.audience == "anyone":
            return literals(frozenset({row.anonymous}))
        return literals(frozenset(row.outsider)) if presence != "never" else NO_TEXTS

    def within_reach(self, piece: Box, group: RequestGroup) -> Box:
        """What an outsider can bring about, of the requests of a piece: `group.outsider` with the names they can have.

        Which names an outsider can have hangs on the piece: see `caller_names.outsiders`.
        """
        if group.outsider.get(ARN) is not NOBODY_IN_PARTICULAR or self.identity is not None:
            return {name: limit for name, limit in group.outsider.items() if limit is not NOBODY_IN_PARTICULAR}
        names = outsiders(piece[ARN].values, self.work, given=self._names_are_given)
        return {**group.outsider, ARN: OptionalSet(names, absent=piece[ARN].absent)}

    def _once(self, what: str, part: object, make: Callable[[], T], *, whose: object = None) -> T:
        """What is made of a part of the policy, made once; a failure is remembered too. `whose`: whom it hangs on."""
        key = (what, id(part), whose)
        if key not in self.work.memo:
            try:
                self.work.memo[key] = (make(), part)
            except (NotUnderstood, OverBudget) as error:
                self.work.memo[key] = (error, part)
        made = self.work.memo[key][0]
        if isinstance(made, NotUnderstood | OverBudget):
            raise made
        return made  # type: ignore[no-any-return]


Alike = dict[tuple[Target, tuple[Presence, ...]], tuple[str, ...]]
"""What actions are on, and which of some keys their requests carry → the actions."""


@lru_cache(maxsize=4096)
def _grouped(verb: Verb, audience: Audience, of_some_actions: tuple[tuple[str, bool | None], ...]) -> Alike:
    """The verb's actions, grouped by what they are on and by which of these keys their requests carry. Many policies
    look at the same keys."""
    names_of: dict[tuple[Target, tuple[Presence, ...]], list[str]] = {}
    for action in actions_of(verb):
        carried = tuple([_presence_for(action.name, audience, key, known) for key, known in of_some_actions])
        names_of.setdefault((action.target, carried), []).append(action.name)
    return {one: tuple(names) for one, names in names_of.items()}


def _presence_for(action: str, audience: Audience, key: str, known: bool | None) -> Presence:
    row = context_key(key)
    assert row is not None
    if known is not None and action in row.actions:
        return "always" if known else "never"
    return row.presence(audience, action)


def _numbers(row: ContextKey) -> IntervalSet:
    if row.words:
        return IntervalSet([((Fraction(word), 0), (Fraction(word), 1)) for word in row.words])
    return IntervalSet([((0, 0), LAST)]) if row.whole else WHOLE


NOBODY_IN_PARTICULAR: OptionalSet[TextSet] = OptionalSet(NO_TEXTS, absent=False)
"""Stands in a group for the names that outsiders can have, which hang on the piece."""
