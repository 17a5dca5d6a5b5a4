"""What a resource pattern leaves of itself once a bucket's name is read."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.policy.document import Statement


def without_resources(statement: Statement) -> Statement:
    """A statement without its resources and its name, and so is what caps it."""
    title = statement.place if statement.faults else ""
    cap = without_resources(statement.within) if statement.within else None
    return msgspec.structs.replace(statement, resources=(), sid="", place=title, within=cap)


def literal_start(pattern: str) -> str:
    """What stands before the first wildcard or variable."""
    return pattern[: min((pattern.find(c) for c in "*?$" if c in pattern), default=len(pattern))]


def rests_after(pattern: str, name: str) -> frozenset[str]:
    """What a glob can still match after it has matched all of `name`.

    >>> sorted(_after("permit-*/x", "permit-scans"))
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
    """Places that can be stood at without reading anything more: a `*` may match nothing."""
    found = set(places)
    for place in places:
        reached = place
        while reached < len(pattern) and pattern[reached] == "*":
            reached += 1
            found.add(reached)
    return found
