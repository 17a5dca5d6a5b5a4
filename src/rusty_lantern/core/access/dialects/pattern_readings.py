"""Patterns of a statement as a store's software reads them: stars that end early, and buckets that end in a slash."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.dialects.action_readings import told_apart
from rusty_lantern.core.access.dialects.glob_expressions import fits_pattern
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.document import Condition, Statement
from rusty_lantern.core.model.dialect import Readings

_PREFIX = re.compile(r"arn:[^:]*:[^:]*:[^:]*:[^:]*:")


def with_early_stars(statement: Statement, readings: Readings) -> Statement:
    """A statement whose stars end early; the same object where that makes no difference."""
    if not readings.stars_end_early:
        return statement
    conditions = tuple(map(_with_early_stars, statement.conditions))
    every = readings.leading_star_is_every_action and any(name.startswith("*") for name in statement.actions)
    actions = statement.actions if every else _by_early_stars(statement.actions)
    resources = any(_matters(_PREFIX.sub("", name)) for name in statement.resources)
    if conditions == statement.conditions and actions == statement.actions and not resources:
        return statement
    return msgspec.structs.replace(statement, conditions=conditions, actions=actions, stars_end_early=resources)


def _with_early_stars(condition: Condition) -> Condition:
    if not condition.operator.endswith("like") or not any(map(_matters, condition.values)):
        return condition
    return msgspec.structs.replace(condition, stars_end_early=True)


def _matters(pattern: str) -> bool:
    """Whether a star is followed by something. (The first slash in a resource is the one behind the bucket's name.)"""
    return pattern != "*/*" and "*" in pattern.rstrip("*")


@lru_cache(maxsize=1024)
def _by_early_stars(patterns: tuple[str, ...]) -> tuple[str, ...]:
    """The actions that patterns name whose stars end early, in whatever letters; as written where they are those."""
    lowered = {name.lower(): name for name in ACTIONS}
    read: list[str] = []
    for pattern in patterns:
        usual, early = (
            [name for low, name in lowered.items() if fits_pattern(pattern.lower(), low, early=early)]
            for early in (False, True)
        )
        read += [pattern] if usual == early else early or [NO_ACTION]
    return tuple(read)


NO_ACTION = "s3 names no action"
"""Stands for an action that is none."""
OF_BUCKETS = frozenset(name for name, action in ACTIONS.items() if action.target == "bucket")


def buckets_end_in_slash(statement: Statement, readings: Readings) -> tuple[Statement, ...]:
    """A statement of a user's own permissions, where what is asked of a bucket is asked of the resource `BUCKET/`, and
    a name without wildcards is a resource with a slash behind it too."""
    of_buckets = tuple(dict.fromkeys(one for name in statement.resources for one in _of_buckets(name)))
    of_objects = tuple(dict.fromkeys(one for name in statement.resources for one in _of_objects(name)))
    if set(of_buckets) == set(of_objects) == set(statement.resources):
        return (statement,)
    if not statement.actions:  # whatever they are
        both = tuple(dict.fromkeys((*of_buckets, *of_objects)))
        return (msgspec.structs.replace(statement, resources=both),)
    on_buckets, on_objects = told_apart(statement, OF_BUCKETS, readings)
    return tuple(
        msgspec.structs.replace(part, resources=resources or (NO_RESOURCE,))
        for part, resources in ((on_buckets, of_buckets), (on_objects, of_objects))
        if part is not None
    )


NO_PLACE = "nowhere"
"""Stands for the region of a resource that is not of this store: no bucket's name has one."""
NO_RESOURCE = f"arn:aws:s3:{NO_PLACE}::"
"""Stands for a resource that is none."""


def _of_buckets(pattern: str) -> Iterator[str]:
    """The patterns that a bucket's name fits where with a slash behind it it fits this one.

    >>> [*_of_buckets("notes/*")], [*_of_buckets("note?")], [*_of_buckets("*-a")]
    (['notes/*', 'notes'], ['note'], [])
    """
    if not _WILD.search(pattern):
        yield pattern.removesuffix("/")
        return
    while pattern.endswith("*"):
        yield pattern
        pattern = pattern[:-1]
    if pattern.endswith(("/", "?")):
        yield pattern[:-1]


def _of_objects(pattern: str) -> Iterator[str]:
    yield pattern
    if "/" in pattern and not pattern.endswith("/") and not _WILD.search(pattern):
        yield f"{pattern}/"


_WILD = re.compile(r"[*?]")
