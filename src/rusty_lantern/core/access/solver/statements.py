"""Policy statements as boxes, for one audience and one group of actions.

A statement becomes the limits it puts on the domain of a group (`request_groups`). What is not understood of it is left
out of the limits, and the statement is marked `sure=False`: its box is then the most that it could apply to.
"""

from __future__ import annotations

from functools import cached_property, lru_cache

import msgspec

from rusty_lantern.core.access.policy.actions import Target
from rusty_lantern.core.access.policy.condition_keys import context_key
from rusty_lantern.core.access.policy.document import Condition, Statement
from rusty_lantern.core.access.policy.names import partition_free
from rusty_lantern.core.access.policy.principals import Applies
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.solver.action_patterns import VERB_ACTIONS, reached_actions
from rusty_lantern.core.access.solver.boxes import Box
from rusty_lantern.core.access.solver.caller_names import FOLLOWS_FROM_NAME
from rusty_lantern.core.access.solver.conditions import (
    Truth,
    expand,
    true_of_nothing,
    truth,
)
from rusty_lantern.core.access.solver.request_groups import ACTION, KEY, RequestGroup, RequestGroups
from rusty_lantern.core.access.solver.sets import FiniteSet, OptionalSet
from rusty_lantern.core.access.solver.sets.automata import (
    ALL_TEXTS,
    NO_TEXTS,
    SOME_TEXT,
    TextSet,
    complement,
)
from rusty_lantern.core.access.solver.sets.matching import matching
from rusty_lantern.core.access.solver.sets.patterns import Pattern, early_glob, glob, may_be_empty, rests
from rusty_lantern.core.model.identity import Verb

LONGEST_NAME = len("arn:aws:s3:::") + 255 + len("/") + 1024
"""Names of buckets end at 63 characters (255 in old regions), keys at 1,024 (published with both)."""


class StatementBox(msgspec.Struct, frozen=True):
    """What a statement says of a group: a box of the group's dimensions, and whether that is exactly what it says."""

    box: Box
    sure: bool
    why: str
    statement: Statement


class AudiencePolicy(RequestGroups):
    """A policy read for one bucket and audience; parts that recur are worked out once."""

    def limits(self, statement: Statement, group: RequestGroup) -> StatementBox | None:
        """The statement as limits on the group; None if it does not apply at all."""
        actions = _reached_of(group.actions, statement.actions, statement.actions_negated)
        if not actions:
            return None
        key = (id(statement), group.target)
        if key not in self._limits:
            self._limits[key] = self._for_any_action(statement, group.target)
        limits = self._limits[key]
        if limits is not None and len(actions) < len(group.actions):
            box = {ACTION: actions, **limits.box}
            limits = StatementBox(box, limits.sure, limits.why, statement)
        return self._capped(limits, statement.within, group) if limits is not None and statement.within else limits

    @cached_property
    def _limits(self) -> dict[tuple[int, Target], StatementBox | None]:
        """Statement, by its `id`, and what actions are on → what `_for_any_action` says, the same for every verb."""
        return {}

    def _for_any_action(self, statement: Statement, target: Target) -> StatementBox | None:
        """The statement's limits but for its actions and for what caps it; None if it does not apply at all."""
        applies = self.applies(statement)
        if applies == "no":
            return None
        reasons = [str(fault) for fault in statement.faults]
        if applies == "maybe" and not reasons:
            reasons.append(_VAGUE)
        box: dict[str, object] = {}
        try:
            keys = self._resources(statement, target)
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
            name = self.frame.dimension(condition.key)
            joint = box[name].meet(limit, self.work) if name in box else limit  # type: ignore[attr-defined]
            box[name] = joint
        return StatementBox(box, not reasons, reasons[0] if reasons else "", statement)

    def _capped(self, alone: StatementBox, cap: Statement, group: RequestGroup) -> StatementBox | None:
        limits = self.limits(cap, group)
        if limits is None:
            return None
        box = dict(alone.box)
        for name, limit in limits.box.items():
            box[name] = box[name].meet(limit, self.work) if name in box else limit
        return StatementBox(box, alone.sure and limits.sure, alone.why or limits.why, alone.statement)

    @cached_property
    def leaves_away(self) -> bool:
        """Whether there is anything that a bare request leaves away."""
        return any(map(self._may_be_left_away, self._used))

    @cached_property
    def applying(self) -> tuple[Statement, ...]:
        """The policy's statements that may apply to this audience or identity."""
        return tuple(statement for statement in self.policy.statements if self.applies(statement) != "no")

    def applies(self, statement: Statement) -> Applies:
        """Whether a statement applies to this audience or identity."""
        principals = statement.principals
        if principals is None:
            return "maybe"
        if self.audience == "everybody":
            return "yes" if principals.everyone and not principals.negated else "no"
        if self.identity is not None:
            return self.identity.is_named_by(principals)
        if principals.everyone != principals.negated:
            return "maybe" if principals.negated and principals.vague and self.audience != "anyone" else "yes"
        return "maybe" if principals.vague and not principals.everyone and self.audience != "anyone" else "no"

    def _resources(self, statement: Statement, target: Target) -> TextSet | None:
        """The keys that the statement's resources reach; all texts for a bucket's own action; None for none."""
        if not statement.resources:
            return ALL_TEXTS
        whose = self._who if any("${" in resource for resource in statement.resources) else None
        if target == "bucket":
            reached = self._once("bucket", statement, lambda: self._reaches_bucket(statement), whose=whose)
            return ALL_TEXTS if reached else None
        return self._once("keys", statement, lambda: self._keys(statement), whose=whose)

    def _reaches_bucket(self, statement: Statement) -> bool:
        """Whether the bucket itself is one of a statement's resources."""
        named = any(may_be_empty(rest) for rest in self._behind(statement, f"arn:aws:s3:::{self.bucket}"))
        return named != statement.resources_negated

    def _keys(self, statement: Statement) -> TextSet | None:
        """The keys of the objects that are a statement's resources; None where there are none."""
        named = matching(self._behind(statement, f"arn:aws:s3:::{self.bucket}/"), self.work)
        keys = complement(named) if statement.resources_negated else named
        return None if keys.meet(SOME_TEXT, self.work).empty else keys

    def _behind(self, statement: Statement, start: str) -> tuple[Pattern, ...]:
        """What follows `start` in the resource names that a statement lists. A pattern that is longer than any name
        reaches none."""
        patterns: list[Pattern | None] = []
        for resource in statement.resources:
            pattern = partition_free(resource)
            if len(pattern) - pattern.count("*") > LONGEST_NAME and "${" not in pattern:
                continue
            make = early_glob if statement.stars_end_early else glob
            patterns.append(expand(pattern, make, self.frame) if statement.variables else make(pattern))
        if None in patterns and statement.resources_negated:
            raise NotUnderstood("NotResource with a variable that this caller does not have")
        self.work.spend(len(start) * len(patterns))
        return tuple(dict.fromkeys(rest for p in patterns if p is not None for rest in rests(p, start)))

    @property
    def _who(self) -> object:
        return self.audience, self.identity, self.bare

    def _truth(self, statement: Statement, condition: Condition) -> Truth:
        left_away = self._left_away(condition)
        if left_away is not None:
            return left_away
        return self._once(
            "truth",
            condition,
            lambda: truth(condition, self.frame, self.work, variables=statement.variables),
            whose=self._who,
        )

    def _left_away(self, condition: Condition) -> Truth | None:
        """What a condition is true of where no request carries its key, without working out its values."""
        if not self.bare or not self._may_be_left_away(condition):
            return None
        return OptionalSet(NO_TEXTS, absent=true_of_nothing(condition))

    def _may_be_left_away(self, condition: Condition) -> bool:
        """Whether the sender may leave away what a condition looks at, so that its values need not be worked out."""
        row = context_key(condition.key)
        if row is None or row.kind != "text" or row.many or not row.caller_controlled or row.actions:
            return False
        if not condition.operator.startswith("string") or any("${" in value for value in condition.values):
            return False
        fixed = condition.key in FOLLOWS_FROM_NAME or self.frame.carries(condition.key) is not None
        return row.carried(self.audience) == "maybe" and not fixed


def reaches(statement: Statement, verb: Verb) -> bool:
    """Whether a statement is about an action of the verb; a cheap test before the exact one."""
    return not reached_actions(statement.actions, statement.actions_negated).isdisjoint(VERB_ACTIONS[verb])


@lru_cache(maxsize=16_384)
def _reached_of(actions: tuple[str, ...], patterns: tuple[str, ...], negated: bool) -> FiniteSet:
    return FiniteSet(reached_actions(patterns, negated).intersection(actions))


_VAGUE = "a name with a wildcard inside, or without its account, has no agreed meaning"
