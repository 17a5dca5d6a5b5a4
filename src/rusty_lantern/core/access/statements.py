"""Policy statements as boxes, for one audience and one group of actions.

Actions whose requests carry the same condition keys and address the same thing form a *group*; a group has a
domain box (every request of that kind which the audience can make) and a *stranger* box (those that any outsider
can bring about). A statement becomes the limits it puts on the domain. What is not understood of it is left out
of the limits, and the statement is marked `sure=False`: its box is then the most that it could speak of.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from itertools import chain
from typing import TypeVar

import msgspec

from rusty_lantern.core.access.conditions import (
    TIME,
    NotUnderstood,
    Truth,
    dimension,
    expand,
    truth,
)
from rusty_lantern.core.access.decide import glob_fits, partition_free
from rusty_lantern.core.access.documents import Condition, Policy, Statement
from rusty_lantern.core.access.identities import Identity
from rusty_lantern.core.access.keys import STRANGER_ACCOUNT, Audience, ContextKey, Presence, context_key
from rusty_lantern.core.access.region import Box
from rusty_lantern.core.access.rules import Surroundings
from rusty_lantern.core.access.sets import Finite, Maybe, Work
from rusty_lantern.core.access.sets.line import (
    EVERY_ADDRESS,
    EVERY_V4,
    LAST,
    WHOLE,
    Line,
    networks,
    whole_numbers,
)
from rusty_lantern.core.access.sets.several import ANY_SEVERAL, Family, Several
from rusty_lantern.core.access.sets.texts import (
    ALL_TEXTS,
    NO_TEXTS,
    RUN,
    SOME_TEXT,
    Pattern,
    TextSet,
    glob,
    globs,
    literals,
    matching,
    plain,
    resource_glob,
)
from rusty_lantern.core.access.verbs import ACTIONS, BY_LOWER_NAME, VERBS, Target, actions_of
from rusty_lantern.core.holders import Verb

T = TypeVar("T")
ACTION, KEY = "action", "key"

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
    networks(ipaddress.ip_network(net) for net in _NOT_ON_THE_INTERNET), Work(10_000)
).join(networks([ipaddress.ip_network("2000::/3")]), Work(10_000))
"""Addresses that a stranger on the Internet can have: not private, shared, loopback, link-local or multicast."""


class Group(msgspec.Struct, frozen=True):
    """Actions that are decided together, the requests that can be made, and those any outsider can make."""

    actions: tuple[str, ...]
    target: Target
    domain: Box
    stranger: Box


class Limits(msgspec.Struct, frozen=True):
    """What a statement says of a group: a box of the group's dimensions, and whether that is exactly what it says."""

    box: Box
    sure: bool
    why: str
    title: str


class Reading:
    """A policy read for one bucket and audience; parts that recur are worked out once."""

    def __init__(
        self,
        policy: Policy,
        bucket: str,
        audience: Audience,
        around: Surroundings,
        work: Work,
        *,
        identity: Identity | None = None,
        beside: Policy | None = None,
    ) -> None:
        """`identity`: read it for this named one; `beside`: keep to dimensions that this other policy uses too."""
        self.identity = identity
        self.policy = policy
        self.bucket = bucket
        self.audience = audience
        self.around = around
        self.work = work
        statements = (*policy.statements, *(beside.statements if beside else ()))
        used = {c.key for s in statements for c in s.every_condition}
        self._rows = {key: row for key in sorted(used) if (row := context_key(key)) is not None}
        self._stranger_account = _unnamed_account(policy, around)

    def groups(self, verb: Verb) -> Iterator[Group]:
        """The verb's actions, grouped."""
        grouped: dict[tuple[Target, tuple[Presence, ...]], list[str]] = {}
        for action in actions_of(verb):
            carried = tuple(row.presence(self.audience, action.name) for row in self._rows.values())
            grouped.setdefault((action.target, carried), []).append(action.name)
        for (target, carried), actions in grouped.items():
            domain: dict[str, object] = {ACTION: Finite(actions)}
            stranger: dict[str, object] = {}
            if target == "object":
                domain[KEY] = SOME_TEXT
            for (key, row), presence in zip(self._rows.items(), carried, strict=True):
                domain[dimension(key)] = self._domain(row, key, presence)
                if not row.theirs:
                    stranger[dimension(key)] = self._stranger(row, key, presence)
            yield Group(tuple(actions), target, domain, stranger)

    def _domain(self, row: ContextKey, key: str, presence: Presence) -> object:
        absent, present = presence != "always", presence != "never"
        if row.many:
            return ANY_SEVERAL if present else Several((Family(every=NO_TEXTS),))
        if dimension(key) == TIME:
            return Maybe(Line([((self.around.seconds, 0), LAST)]), absent=False)
        if row.kind == "address":
            return Maybe(EVERY_ADDRESS if present else Line(), absent=absent)
        if row.kind in ("date", "number"):
            return Maybe(WHOLE if present else Line(), absent=absent)
        return Maybe(self._texts(row) if present else NO_TEXTS, absent=absent)

    def _texts(self, row: ContextKey) -> TextSet:
        if row.anonymous and self.audience == "anyone":
            return literals(frozenset({row.anonymous}))
        if row.kind == "switch":
            return literals(frozenset({"true", "false"}))
        if row.name in ("aws:principalaccount", "aws:principalarn") and self.audience != "everybody":
            return self._caller_texts(in_account=row.name == "aws:principalaccount")
        return ALL_TEXTS

    def _caller_texts(self, *, in_account: bool) -> TextSet:
        """Account numbers, or resource names, that the caller can have: not those of the team itself."""
        if self.identity is not None and self.identity.account:
            return literals(frozenset({self.identity.account if in_account else self.identity.arn}))
        inside = sorted(self.around.trusted_accounts | ({self.around.account} - {""}))
        digits: Pattern = (frozenset("0123456789"),) * 12
        if in_account:
            return matching((digits,), self.work).minus(literals(frozenset(inside)), self.work)
        inner = matching(tuple(resource_glob(f"arn:*:*::{account}:*") for account in inside), self.work)
        named = (*resource_glob("arn:*:*::"), *digits, *plain(":"), RUN)
        return matching((named,), self.work).minus(inner, self.work)

    def _stranger(self, row: ContextKey, key: str, presence: Presence) -> object:
        """What an outsider can bring about for a key that is not theirs to choose."""
        if self.identity is not None and row.name in ("aws:principalaccount", "aws:principalarn"):
            return self._domain(row, key, presence)
        if dimension(key) == TIME:
            return Maybe(whole_numbers(self.around.seconds, self.around.seconds), absent=False)
        if key == "aws:sourceip":
            return Maybe(PUBLIC_ADDRESSES, absent=False)
        if row.many:
            own = literals(frozenset(row.stranger)) if presence != "never" else NO_TEXTS
            return Several((Family(every=own),))
        absent = presence != "always"
        if row.kind in ("address", "date", "number"):
            return Maybe(Line(), absent=absent)
        return Maybe(self._stranger_texts(row, presence), absent=absent)

    def _stranger_texts(self, row: ContextKey, presence: Presence) -> TextSet:
        account = self._stranger_account
        if row.anonymous and self.audience == "anyone":
            return literals(frozenset({row.anonymous}))
        if row.name == "aws:principalarn" and presence != "never":
            forms = ("iam::%s:user/*", "iam::%s:role/*", "iam::%s:root", "sts::%s:assumed-role/*")
            return globs([f"arn:aws:{form % account}" for form in forms], self.work)
        own_values = [account if value == STRANGER_ACCOUNT else value for value in row.stranger]
        return literals(frozenset(own_values)) if presence != "never" else NO_TEXTS

    def limits(self, statement: Statement, group: Group) -> Limits | None:
        """The statement as limits on the group; None if it does not speak of it at all."""
        speaks = self._speaks_to_audience(statement)
        actions = self._actions(statement, group)
        if speaks == "no" or not actions:
            return None
        reasons = [str(fault) for fault in statement.faults]
        box: dict[str, object] = {} if len(actions) == len(group.actions) else {ACTION: actions}
        try:
            keys = self._resources(statement, group)
            if keys is None:
                return None
            if not keys.everything:
                box[KEY] = keys
        except NotUnderstood as error:
            reasons.append(str(error))
        for condition in statement.conditions:
            try:
                limit = self._truth(statement, condition)
            except NotUnderstood as error:
                reasons.append(str(error))
                continue
            name = dimension(condition.key)
            joint = box[name].meet(limit, self.work) if name in box else limit  # type: ignore[attr-defined]
            box[name] = joint
        alone = Limits(box, not reasons, reasons[0] if reasons else "", statement.title)
        return self._capped(alone, statement.within, group) if statement.within else alone

    def _capped(self, alone: Limits, cap: Statement, group: Group) -> Limits | None:
        limits = self.limits(cap, group)
        if limits is None:
            return None
        box = dict(alone.box)
        for name, limit in limits.box.items():
            box[name] = box[name].meet(limit, self.work) if name in box else limit
        return Limits(box, alone.sure and limits.sure, alone.why or limits.why, alone.title)

    def _speaks_to_audience(self, statement: Statement) -> str:
        principals = statement.principals
        if principals is None:
            return "maybe"
        if self.audience == "everybody":
            return "yes" if principals.everyone and not principals.negated else "no"
        if self.identity is not None:
            return "yes" if self.identity.named_by(principals) != principals.negated else "no"
        return "yes" if principals.everyone != principals.negated else "no"

    def speaks_of(self, statement: Statement, verb: Verb) -> bool:
        """Whether a statement may speak of this verb to this audience; a cheap test before the exact one."""
        if self._speaks_to_audience(statement) == "no":
            return False
        return not reached_actions(statement.actions, statement.actions_negated).isdisjoint(VERB_ACTIONS[verb])

    def _actions(self, statement: Statement, group: Group) -> Finite:
        return Finite(reached_actions(statement.actions, statement.actions_negated).intersection(group.actions))

    def _resources(self, statement: Statement, group: Group) -> TextSet | None:
        """The keys that the statement's resources reach; all texts for a bucket's own action; None for none."""
        if not statement.resources:
            return ALL_TEXTS
        name = f"arn:aws:s3:::{self.bucket}"
        whole = self._once("names", statement, lambda: self._names(statement))
        if group.target == "bucket":
            return ALL_TEXTS if whole.holds(name) else None
        keys = self._once("keys", statement, lambda: whole.after(name + "/"))
        return None if keys.meet(SOME_TEXT, self.work).empty else keys

    def _names(self, statement: Statement) -> TextSet:
        """The resource names that a statement reaches."""
        patterns: list[Pattern | None] = []
        for resource in statement.resources:
            pattern = partition_free(resource)
            patterns.append(expand(pattern, glob, self.audience) if statement.variables else glob(pattern))
        found = matching(tuple(dict.fromkeys(p for p in patterns if p is not None)), self.work)
        return ALL_TEXTS.minus(found, self.work) if statement.resources_negated else found

    def _once(self, what: str, part: object, make: Callable[[], T]) -> T:
        """What is made of a part of the policy for this audience, made once; a failure is remembered too."""
        key = (what, id(part), self.audience)
        if key not in self.work.memo:
            try:
                self.work.memo[key] = (make(), part)
            except NotUnderstood as error:
                self.work.memo[key] = (error, part)
        made = self.work.memo[key][0]
        if isinstance(made, NotUnderstood):
            raise made
        return made  # type: ignore[no-any-return]

    def _truth(self, statement: Statement, condition: Condition) -> Truth:
        return self._once(
            "truth",
            condition,
            lambda: truth(condition, self.audience, self.work, variables=statement.variables),
        )


VERB_ACTIONS = {verb: frozenset(action.name for action in actions_of(verb)) for verb in VERBS}


@lru_cache(maxsize=4096)
def reached_actions(patterns: tuple[str, ...], negated: bool) -> frozenset[str]:
    """The known actions that a statement's Action (or NotAction) reaches; all of them where it was not understood."""
    if not patterns:
        return frozenset(ACTIONS)
    folded = [pattern.lower() for pattern in patterns]
    return frozenset(
        name for lowered, name in BY_LOWER_NAME.items() if any(glob_fits(p, lowered) for p in folded) != negated
    )


def _unnamed_account(policy: Policy, around: Surroundings) -> str:
    """An account number that no rule names, to stand for any unrelated account."""
    named = set(around.trusted_accounts) | {around.account}
    texts: Iterable[str] = chain.from_iterable(
        condition.values for statement in policy.statements for condition in statement.every_condition
    )
    spoken = " ".join(texts)
    candidates = chain([STRANGER_ACCOUNT], (f"{number:012d}" for number in range(808080808080, 808080809080)))
    return next((c for c in candidates if c not in named and c not in spoken), STRANGER_ACCOUNT)
