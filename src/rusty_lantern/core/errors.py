"""Messages to a person: what was wrong, where, why, what to do."""

from __future__ import annotations

from difflib import get_close_matches
from types import MappingProxyType
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping


class Place(msgspec.Struct, frozen=True, order=True):
    """A place in a file: a file name, and a line and a column counted from 1 (0: the whole file)."""

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        if not self.line:
            return self.file
        return f"{self.file}:{self.line}:{self.column}" if self.column else f"{self.file}:{self.line}"


class Problem(msgspec.Struct, frozen=True):
    """One thing wrong with an input, and what would put it right."""

    what: str
    place: Place | None = None
    remedy: str = ""

    def __str__(self) -> str:
        head = f"{self.place}: {self.what}" if self.place else self.what
        return f"{head}\n  {self.remedy}" if self.remedy else head


class LanternError(Exception):
    """An error that is shown to the user as it is, and ends the program with `exit_code`."""

    exit_code = 2

    def __init__(self, *complaints: Problem) -> None:
        super().__init__("\n".join(str(c) for c in complaints))
        self.complaints = complaints

    def __reduce__(self) -> tuple[type[LanternError], tuple[Problem, ...]]:
        """It may be raised in another process."""
        return type(self), self.complaints


class BadInput(LanternError):
    """Something the user wrote or asked for cannot be used as it is."""


class Damaged(LanternError):
    """Something kept on disk is not what was written."""


class ProblemList:
    """Gathers complaints while a file is read, so that its author sees all of them at once."""

    def __init__(self) -> None:
        self.complaints: list[Problem] = []

    def add(self, what: str, place: Place | None = None, remedy: str = "") -> None:
        """Note one more complaint."""
        self.complaints.append(Problem(what, place, remedy))

    def settle(self) -> None:
        """Raise `BadInput` with everything that was noted, if anything was."""
        if self.complaints:
            raise BadInput(*self.complaints)


def nearest(word: str, known: Iterable[str], in_full: Mapping[str, str] = MappingProxyType({})) -> str:
    """A hint with the known word most like `word`, or an empty text; `in_full` says what else to call a word.

    >>> nearest("versionning", ["versioning", "region"])
    'did you mean "versioning"?'
    """
    matches = get_close_matches(word, list(known), n=1, cutoff=0.6)
    return f'did you mean "{in_full.get(matches[0], matches[0])}"?' if matches else ""


def defect(error: Exception) -> str:
    """The words for a fault of this program."""
    return f"a defect of lantern ({type(error).__name__}): please report it"
