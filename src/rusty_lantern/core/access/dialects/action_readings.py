"""The actions of a statement as a store's software reads them: some requests are decided as another action is, and what
requests without credentials may do is not what a statement says for everybody."""

from __future__ import annotations

import re
from collections.abc import Iterator, Set
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.dialects.condition_readings import signed
from rusty_lantern.core.access.dialects.shipped import UNSIGNED_READS
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import KEYS, SENT
from rusty_lantern.core.access.policy.document import Statement
from rusty_lantern.core.model.dialect import Readings


def actions_as_read(statement: Statement, readings: Readings) -> Statement:
    """The statement with the actions that it has there; the same object where it has those that are written."""
    if not readings.decided_as and not readings.covered_by:
        return statement
    written = _named(statement.actions)
    counting = set(ACTIONS) - written if statement.actions_negated else set(written)
    before = frozenset(counting)
    counting.update(action for action, other in readings.covered_by if other in counting)
    for action, other in readings.decided_as:
        (counting.add if other in counting else counting.discard)(action)
    if counting == before:
        return statement
    return msgspec.structs.replace(statement, actions=tuple(sorted(counting)), actions_negated=False)


def for_unsigned_callers(statement: Statement, readings: Readings) -> Iterator[Statement]:
    """An Allow to everybody: to whoever signs, and of it what counts for requests without credentials."""
    who = statement.principals
    to_everybody = who is not None and who.everyone and not who.negated and statement.effect != "Deny"
    if not readings.policies_let_unsigned_callers_only_read or not to_everybody:
        yield statement
        return
    named = _named(statement.actions)
    reads = [action for action in UNSIGNED_READS if (action in named) is not statement.actions_negated]
    if not statement.actions_negated and named.issubset(UNSIGNED_READS):
        yield statement
        return
    by_nobody, by_somebody = (signed("", negated=negated) for negated in (False, True))
    yield msgspec.structs.replace(statement, conditions=(*statement.conditions, by_somebody))
    if reads:
        conditions = (*statement.conditions, by_nobody)
        yield msgspec.structs.replace(statement, actions=tuple(reads), actions_negated=False, conditions=conditions)


LISTINGS = frozenset({"s3:ListBucket", "s3:ListBucketVersions"})
"""Requests that say how much they ask for."""


def told_apart(statement: Statement, some: Set[str], readings: Readings) -> tuple[Statement | None, Statement | None]:
    """What a statement says of some actions, and of all others; None: nothing."""
    every = readings.leading_star_is_every_action and any(name.startswith("*") for name in statement.actions)
    named = _named(("*",) if every else statement.actions)
    about = set(ACTIONS) - named if statement.actions_negated else named
    if about.isdisjoint(some):
        return None, statement
    if about <= some:
        return statement, None
    parts = (tuple(sorted(part)) for part in (about & some, about - some))
    of_some, of_others = (msgspec.structs.replace(statement, actions=part, actions_negated=False) for part in parts)
    return of_some, of_others


@lru_cache(maxsize=1024)
def _named(patterns: tuple[str, ...]) -> frozenset[str]:
    """The known actions that patterns fit."""
    written = [re.escape(one.lower()).replace(r"\*", ".*").replace(r"\?", ".") for one in patterns]
    fits = re.compile("|".join(written) or r"(?!)")
    return frozenset(name for name in ACTIONS if fits.fullmatch(name.lower()))


def sent_with_any(statement: Statement, readings: Readings) -> list[Statement]:
    """A statement on keys that any request carries which sends them: for the requests that they are published for, and
    for all others."""
    keys = {one.key for one in statement.conditions if one.key in readings.sent_with_any and SENT + one.key in KEYS}
    parts = [statement]
    for key in sorted(keys):
        both = [told_apart(part, KEYS[key].actions, readings) for part in parts]
        parts = [one for usual, others in both for one in (usual, others and _with_key(others, key)) if one]
    return parts


def _with_key(statement: Statement, key: str) -> Statement:
    conditions = (
        msgspec.structs.replace(one, key=SENT + key) if one.key == key else one for one in statement.conditions
    )
    return msgspec.structs.replace(statement, conditions=tuple(conditions))
