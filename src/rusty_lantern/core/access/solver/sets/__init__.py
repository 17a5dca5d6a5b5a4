"""Sets of texts, of ordered values (addresses, dates, numbers), of finite values, and of several texts at once.

Each kind offers the same few operations: `meet` (intersection), `join` (union), `minus`, `empty`, `pick` (one
readable member) and `holds`. Work is counted; past its limit `OverBudget` is raised and the verdict is unknown.
"""

from __future__ import annotations

from typing import Any, Generic, Protocol, Self, TypeVar


class OverBudget(Exception):
    """The work allowed for one decision is spent."""


class Budget:
    """Counts the steps of one decision, and remembers what it has worked out. One step is about a microsecond."""

    __slots__ = ("left", "memo")

    def __init__(self, steps: int, memo: dict[object, Any] | None = None) -> None:
        """`memo`: what was worked out before, to be shared by decisions on the same rules."""
        self.left = steps
        self.memo: dict[object, Any] = {} if memo is None else memo
        """Results by what they were made from; a key may hold an `id` only of what the result keeps alive."""

    def spend(self, steps: int) -> None:
        """Take `steps` off. Raises `OverBudget` when none are left."""
        self.left -= steps
        if self.left < 0:
            raise OverBudget


class ValueSet(Protocol):
    """What every kind of set can do."""

    def meet(self, other: Self, work: Budget) -> Self:
        """Members of both."""

    def join(self, other: Self, work: Budget) -> Self:
        """Members of either."""

    def minus(self, other: Self, work: Budget) -> Self:
        """Members of this one and not of `other`."""

    def apart(self, other: Self) -> bool:
        """Whether it is plain, at next to no cost, that they have no member in common. False says nothing."""

    @property
    def empty(self) -> bool:
        """Whether there is no member."""


S = TypeVar("S", bound=ValueSet)


class FiniteSet(frozenset[str]):
    """A set of a few named values, such as actions."""

    __slots__ = ()

    def meet(self, other: FiniteSet, work: Budget) -> FiniteSet:
        """Members of both."""
        return FiniteSet(self & other)

    def join(self, other: FiniteSet, work: Budget) -> FiniteSet:
        """Members of either."""
        return FiniteSet(self | other)

    def minus(self, other: FiniteSet, work: Budget) -> FiniteSet:
        """Members of this one and not of `other`."""
        return FiniteSet(self - other)

    def apart(self, other: FiniteSet) -> bool:
        """Whether they have no member in common."""
        return self.isdisjoint(other)

    @property
    def empty(self) -> bool:
        """Whether there is no member."""
        return not self


class OptionalSet(Generic[S]):
    """Values of a condition key, with *absent* (the request does not carry the key) as a member of its own."""

    __slots__ = ("absent", "values")

    def __init__(self, values: S, *, absent: bool) -> None:
        self.values = values
        self.absent = absent

    def meet(self, other: OptionalSet[S], work: Budget) -> OptionalSet[S]:
        """Members of both."""
        return OptionalSet(self.values.meet(other.values, work), absent=self.absent and other.absent)

    def join(self, other: OptionalSet[S], work: Budget) -> OptionalSet[S]:
        """Members of either."""
        return OptionalSet(self.values.join(other.values, work), absent=self.absent or other.absent)

    def minus(self, other: OptionalSet[S], work: Budget) -> OptionalSet[S]:
        """Members of this one and not of `other`."""
        return OptionalSet(self.values.minus(other.values, work), absent=self.absent and not other.absent)

    def apart(self, other: OptionalSet[S]) -> bool:
        """Whether it is plain that they have no member in common."""
        return not (self.absent and other.absent) and self.values.apart(other.values)

    @property
    def empty(self) -> bool:
        """Whether neither absent nor any value is a member."""
        return not self.absent and self.values.empty

    def __repr__(self) -> str:
        return f"Maybe({self.values!r}, absent={self.absent})"
