"""The counts of an object requirement over one table of versions: counts, bytes, a few examples.

Tallies of the parts of a table join to the tally of the whole, in any order; so the same judging runs over one file
or over many parts on many machines.
"""

from __future__ import annotations

import msgspec

from rusty_lantern.core.object_rules.sampling import bound, words

EXAMPLES = 12
"""Keys that are remembered, one for each version: several may be of one key."""
SHOWN = 3
"""Different keys that are shown of them."""


class Tally(msgspec.Struct, frozen=True):
    """One requirement over one table, or part of one."""

    ok: int = 0
    failed: int = 0
    unknown: int = 0
    unsampled: int = 0
    """Of the unknown, those that are only unknown because the sample left them out."""
    bytes: int = 0
    """The sizes of the failed versions together."""
    examples: tuple[str, ...] = ()
    """The first keys, in byte order, of what failed; a key is there once for each version."""

    @property
    def first(self) -> list[str]:
        """The first few different keys of what failed."""
        return list(dict.fromkeys(self.examples))[:SHOWN]

    @property
    def checked(self) -> int:
        """Versions that could be judged."""
        return self.ok + self.failed

    @property
    def unseen(self) -> int:
        """Versions that should have been judged and could not be."""
        return self.unknown - self.unsampled

    @property
    def applies(self) -> int:
        """Versions that the requirement applies to."""
        return self.checked + self.unknown

    def join(self, other: Tally) -> Tally:
        """Both together. Associative and commutative."""
        examples = sorted((*self.examples, *other.examples), key=str.encode)[:EXAMPLES]
        return Tally(
            self.ok + other.ok,
            self.failed + other.failed,
            self.unknown + other.unknown,
            self.unsampled + other.unsampled,
            self.bytes + other.bytes,
            tuple(examples),
        )


def tally_words(tally: Tally, confidence: float = 0.95) -> str:
    """A tally in words, with its bound where it comes from a sample.

    >>> tally_words(Tally(44, 1)), tally_words(Tally(45)), tally_words(Tally(7, 0, 12))
    ('1 of 45 fail', 'all 45 ok', 'all 7 ok, 12 not inspected')
    """
    unseen = f", {tally.unseen:,} not inspected" if tally.unseen else ""
    if not tally.failed and not tally.unsampled:
        return (f"all {tally.checked:,} ok" if tally.checked else "none inspected") + unseen
    said = f"{tally.failed:,} of {tally.checked:,} fail"
    if not tally.unsampled or not tally.checked:
        return said + unseen
    return f"{said}: {words(bound(tally.failed, tally.checked, confidence), confidence)}"
