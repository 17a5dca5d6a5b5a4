"""Which buckets a resource pattern reaches, and what it leaves of itself once a bucket's name is read."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence

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
