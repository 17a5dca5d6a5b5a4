"""Which buckets a resource pattern reaches, and what it leaves of itself once a bucket's name is read."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec

from rusty_lantern.core.access.policy.document import Statement
from rusty_lantern.core.access.policy.names import partition_free
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.solver.verdict_cache import NAMES


def without_resources(statement: Statement) -> Statement:
    """A statement without its resources and its name, and so is what caps it."""
    title = statement.place if statement.faults else ""
    cap = without_resources(statement.within) if statement.within else None
    return msgspec.structs.replace(statement, resources=(), sid="", place=title, within=cap)


def literal_start(pattern: str) -> str:
    """The text before the first wildcard or variable."""
    return pattern[: min((pattern.find(c) for c in "*?$" if c in pattern), default=len(pattern))]


def rests_after(pattern: str, name: str) -> frozenset[str]:
    """What a glob can still match after it has matched all of `name`.

    >>> sorted(rests_after("permit-*/x", "permit-scans"))
    ['*/x', '/x']
    """
    places = _close(pattern, {0})
    for char in name:
        places = _close(
            pattern,
            {
                place if pattern[place] == "*" else place + 1
                for place in places
                if place < len(pattern) and pattern[place] in ("*", "?", char)
            },
        )
    return frozenset(pattern[place:] for place in places)


def _close(pattern: str, places: set[int]) -> set[int]:
    """Places that can be reached without reading anything more: a `*` may match nothing."""
    closed = set(places)
    for place in places:
        reached = place
        while reached < len(pattern) and pattern[reached] == "*":
            reached += 1
            closed.add(reached)
    return closed


class Reached:
    """The buckets of these names, in order, that patterns reach, with what each pattern leaves; kept by pattern."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names
        self._known = frozenset(names)
        self._kept: dict[str, list[tuple[str, object]]] = {}

    def by(self, resource: str) -> list[tuple[str, object]]:
        """Each bucket that a pattern reaches, and what is left of it there."""
        if resource not in self._kept:
            self._kept[resource] = list(self._reached(resource))
        return self._kept[resource]

    def _reached(self, written: str) -> Iterator[tuple[str, object]]:
        try:
            resource = partition_free(written)
        except NotUnderstood:
            resource = "?" + written
        if resource == "*":
            yield from ((bucket, "*") for bucket in self.names)
            return
        if not resource.startswith(NAMES):
            if NAMES.startswith(literal_start(resource)):
                yield from ((bucket, (resource, bucket)) for bucket in self.names)
            return
        pattern = resource.removeprefix(NAMES)
        literal = literal_start(pattern)
        if "${" in pattern.partition("/")[0]:
            yield from ((bucket, (pattern, bucket)) for bucket in self.names if bucket.startswith(literal))
            return
        if "/" in literal or literal == pattern:
            bucket, slash, rest = pattern.partition("/")
            if bucket in self._known:
                yield bucket, slash + rest
            return
        if pattern in ("*", "*/*"):
            yield from ((bucket, pattern) for bucket in self.names)
            return
        start = bisect_left(self.names, literal)
        while start < len(self.names) and self.names[start].startswith(literal):
            bucket = self.names[start]
            rests = rests_after(pattern, bucket)
            if rests:
                yield bucket, rests
            start += 1


Rest = tuple[object, ...]
"""What the resource patterns of statements leave of themselves once a bucket's name is read."""
NOTHING: Rest = ()
MOST_KEPT = 1_000_000
"""Of how many pairs of a statement and a bucket what is left is kept; some 100 MB."""


class _Left(NamedTuple):
    """What one statement leaves in each bucket that it reaches, and those that it may allow something on."""

    rests: Mapping[str, Rest]
    allowing: frozenset[str]


class Rests:
    """What statements leave in each of these buckets. Whoever asks keeps the statements: they are known by `is`."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names
        self._reached = Reached(names)
        self._shapes: dict[Statement, int] = {}
        self._shape_of: dict[int, int] = {}
        self._left_of: dict[object, _Left] = {}
        self._kept = 0
        self._rest: dict[Rest, Rest] = {}
        """Each rest once: those that are equal are one object, and are compared as such."""
        self._joined: dict[tuple[int, int], Rest] = {}

    def of(self, statements: Iterable[Statement]) -> tuple[dict[str, Rest], set[str]]:
        """Bucket → what the resource patterns leave of themselves once its name is read; those they cannot reach
        are left out. Beside it, the buckets that one of the statements may allow something on."""
        if len(self._rest) > MOST_KEPT:  # both at once: what is joined is known by what is kept
            self._rest.clear()
            self._joined.clear()
        left = sorted(map(self._left, statements), key=lambda one: -len(one.rests))
        rests = dict(left[0].rests) if left else {}
        for one in left[1:]:  # most reach few buckets: the many are copied as they are
            for bucket, rest in one.rests.items():
                before = rests.get(bucket)
                rests[bucket] = rest if before is None else self._both(before, rest)
        return rests, set().union(*(one.allowing for one in left))

    def _both(self, before: Rest, rest: Rest) -> Rest:
        key = (id(before), id(rest))
        if key not in self._joined:
            both = before + rest
            self._joined[key] = self._rest.setdefault(both, both)
        return self._joined[key]

    def _left(self, statement: Statement) -> _Left:
        """What one statement, and what caps it, leave of themselves; most are kept, by what they say."""
        resources, cap = [statement.resources], statement.within
        while cap is not None:
            resources.append(cap.resources)
            cap = cap.within
        key = (self._shape(statement), *resources)
        left = self._left_of.get(key) or self._left_anew(statement)
        if self._kept + len(left.rests) <= MOST_KEPT and key not in self._left_of:
            self._kept += len(left.rests)
            self._left_of[key] = left
        return left

    def _left_anew(self, statement: Statement) -> _Left:
        number, by_bucket = self._shape(statement), dict[str, list[object]]()
        for bucket, rest in self._left_by(statement):
            by_bucket.setdefault(bucket, []).append((number, rest))
        allowing = frozenset(by_bucket) if statement.effect != "Deny" else frozenset[str]()
        cap = statement.within
        while cap is not None:
            for bucket, rest in self._left_by(cap):
                by_bucket.setdefault(bucket, []).append((number, "capped by", self._shape(cap), rest))
            cap = cap.within
        written = ((bucket, tuple(left)) for bucket, left in by_bucket.items())
        return _Left({bucket: self._rest.setdefault(left, left) for bucket, left in written}, allowing)

    def _left_by(self, statement: Statement) -> Iterator[tuple[str, object]]:
        """Bucket → what is left of each resource of one statement, without what caps it."""
        if statement.resources_negated or not statement.resources:
            yield from ((bucket, bucket if statement.resources_negated else "") for bucket in self.names)
            return
        for resource in statement.resources:
            if statement.stars_end_early:  # what fits then is a part of what fits else, and another one in each bucket
                yield from ((bucket, (rest, bucket)) for bucket, rest in self._reached.by(resource))
            else:
                yield from self._reached.by(resource)

    def _shape(self, statement: Statement) -> int:
        """What a statement says but for its resources and its name, as a number."""
        if id(statement) not in self._shape_of:
            self._shape_of[id(statement)] = self._shapes.setdefault(without_resources(statement), len(self._shapes))
        return self._shape_of[id(statement)]
