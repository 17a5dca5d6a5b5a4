"""Sets of *sets of texts*, for condition keys that carry several values at once (tag keys).

A member is a finite set S of texts. One `Family` says: every value of S is in `every`, and for each listed `some` at
least one value of S is in it. Such families are closed under intersection; the complement of one is a union of them, so
`MultivalueSet` is a union of families. The empty S is what a request without the key carries.
"""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, TextSet, complement


class Family(msgspec.Struct, frozen=True, eq=False):
    """All S with S ⊆ `every` and S ∩ t ≠ ∅ for each t in `some`."""

    every: TextSet = ALL_TEXTS
    some: tuple[TextSet, ...] = ()

    def meet(self, other: Family, work: Budget) -> Family:
        """The sets in both families."""
        return Family(self.every.meet(other.every, work), self.some + other.some)

    def pick(self, work: Budget) -> frozenset[str] | None:
        """A smallest readable member, or None."""
        picked = [self.every.meet(texts, work).pick() for texts in self.some]
        return None if None in picked else frozenset(value for value in picked if value is not None)


class MultivalueSet(msgspec.Struct, frozen=True, eq=False):
    """A union of families."""

    families: tuple[Family, ...]

    def meet(self, other: MultivalueSet, work: Budget) -> MultivalueSet:
        """Members of both."""
        pairs = [a.meet(b, work) for a in self.families for b in other.families]
        work.spend(4 * len(pairs))
        return MultivalueSet(tuple(f for f in pairs if f.pick(work) is not None))

    def join(self, other: MultivalueSet, work: Budget) -> MultivalueSet:
        """Members of either."""
        return MultivalueSet(self.families + other.families)

    def minus(self, other: MultivalueSet, work: Budget) -> MultivalueSet:
        """Members of this one and not of `other`: not(S ⊆ e and S∩t≠∅ …) is S∩¬e≠∅ or S⊆¬t or …"""
        left = self
        for family in other.families:
            parts = [] if family.every.everything else [Family(some=(complement(family.every),))]
            parts += [Family(every=complement(texts)) for texts in family.some]
            left = left.meet(MultivalueSet(tuple(parts)), work)
        return left

    def apart(self, other: MultivalueSet) -> bool:
        """Never plain without working it out."""
        return False

    @property
    def empty(self) -> bool:
        """Whether there is no member. Empty families are dropped as they arise."""
        return not self.families

    def holds(self, values: frozenset[str]) -> bool:
        """Whether this set of texts is a member."""
        return any(
            all(f.every.holds(v) for v in values) and all(any(t.holds(v) for v in values) for t in f.some)
            for f in self.families
        )


ANY_SEVERAL = MultivalueSet((Family(),))
