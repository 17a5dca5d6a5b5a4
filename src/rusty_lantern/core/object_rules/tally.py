"""The counts of an object requirement over one table of versions: counts, bytes, a few examples.

Tallies of the parts of a table join to the tally of the whole, in any order; so the same judging runs over one file
or over many parts on many machines.
"""

from __future__ import annotations

import msgspec

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
