"""How a survey shows its progress; whoever runs it says where that goes."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """Where a survey says how far it is."""

    def started(self, store: str, address: str) -> None:
        """A store is begun with."""

    def advanced(self, store: str, done: int, total: int, rate: str) -> None:
        """So many buckets of a store are read, of so many, at this rate."""

    def noted(self, words: str) -> None:
        """Something that whoever runs the survey should know."""


class NoProgress:
    """Says nothing."""

    def started(self, store: str, address: str) -> None:
        """Nothing."""

    def advanced(self, store: str, done: int, total: int, rate: str) -> None:
        """Nothing."""

    def noted(self, words: str) -> None:
        """Nothing."""
