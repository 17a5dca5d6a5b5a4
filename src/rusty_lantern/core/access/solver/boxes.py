"""Regions of requests: boxes, and what is left of a box when others are taken away.

A box is a product of sets, one a dimension: it holds the requests whose every coordinate is in its set. Taking a box
B from a box A leaves, dimension by dimension, the part of A that is outside B there and inside B in all dimensions
before: disjoint boxes, whose union is exactly A − B. Nothing is approximated. The pieces are made one by one, so that a
search for a single request stops at the first.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from rusty_lantern.core.access.solver.sets import Budget

Box = Mapping[str, Any]
"""Dimension → set of coordinates. Each value is one of the kinds of `sets`, the same kind in every box."""


def meet(box: Box, limits: Box, work: Budget) -> Box | None:
    """The part of `box` inside `limits` (which may name fewer dimensions); None if that is empty."""
    narrowed = dict(box)
    for dimension, limit in limits.items():
        work.spend(2)
        narrowed[dimension] = narrowed[dimension].meet(limit, work)
        if narrowed[dimension].empty:
            return None
    return narrowed


def without(box: Box, taken: Sequence[Box], work: Budget) -> Iterator[Box]:
    """Disjoint boxes that make up `box` minus every box of `taken`, lazily."""
    stack: list[tuple[Box, int]] = [(box, 0)]
    while stack:
        piece, index = stack.pop()
        if index == len(taken):
            yield piece
            continue
        work.spend(1)
        if any(piece[dimension].apart(limit) for dimension, limit in taken[index].items()):
            stack.append((piece, index + 1))
            continue
        for left in reversed(_take(piece, taken[index], work)):
            stack.append((left, index + 1))


def _take(box: Box, taken: Box, work: Budget) -> list[Box]:
    pieces: list[Box] = []
    inside = box
    for dimension, limit in taken.items():
        work.spend(4)
        overlap = inside[dimension].meet(limit, work)
        if overlap.empty:
            return [box]
        outside = inside[dimension].minus(limit, work)
        if not outside.empty:
            pieces.append({**inside, dimension: outside})
        inside = {**inside, dimension: overlap}
    return pieces
