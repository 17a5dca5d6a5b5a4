"""Whether exported documents tell all that there is.

A document lists everything only where nothing in it lies outside of the rows that were looked for: a mark that the
list goes on, a row of another shape, a null in the place of one, a refusal.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from rusty_lantern.core.exports.json_path import Node, Steps, in_general, leaves
from rusty_lantern.core.exports.layout import Part


@dataclass
class Looked:
    """What came of looking for the rows of one part."""

    part: Part
    documents: list[int] = field(default_factory=list)
    """The numbers of those that it was looked for in."""
    tells: bool = True
    """Whether each of them has such rows, or says that there are none."""
    hole: str = ""
    """Where a list is missing in them that should be there."""

    def more(self, outside: list[str]) -> str:
        """Why its documents may have more than was read; empty where they have not. `outside`: the same by document."""
        return self.hole or next((outside[number] for number in self.documents if outside[number]), "")


@dataclass
class Completeness:
    """What the documents of an export tell all of."""

    looked: list[Looked]
    outside: list[str]
    """Of each document, why it may not tell all that there is; empty where it does."""

    def covered(self, section: str) -> set[str]:
        """The fields of which a section's documents list every entry that has one."""
        mine = [one for one in self.looked if one.part.section == section]
        whole = [one for one in mine if one.tells and not one.more(self.outside)]
        covered = {name for one in whole for name in one.part.covers_every}
        return covered - {name for one in mine if one not in whole for name in one.part.covers_every}

    def more(self, section: str) -> str:
        """Why a section may have entries that were not read; empty where its documents list them all."""
        making = (one for one in self.looked if one.part.section == section and not one.part.joins)
        return next((why for one in making if (why := one.more(self.outside))), "")

    def doubted(self, section: str) -> dict[str, str]:
        """Fields that further rows may add to, which were not read → why."""
        joining = [one for one in self.looked if one.part.section == section and one.part.joins]
        return {name: why for one in joining if (why := one.more(self.outside)) for name, _ in one.part.fields}


def lists_nothing(value: Any) -> bool:
    """Whether a document without the rows that were looked for has a list, and nothing is in it.

    >>> lists_nothing({"items": []}), lists_nothing({}), lists_nothing({"items": None}), lists_nothing({"code": 403})
    (True, False, False, False)
    """
    return _has_a_list(value) and not any(True for _ in leaves(value))


def _has_a_list(value: Any) -> bool:
    inner = value.values() if isinstance(value, dict) else ()
    return isinstance(value, list) or any(_has_a_list(one) for one in inner)


def left_outside(value: Any, rows: set[Steps], used: set[Steps]) -> str:
    """The first place (a JSON pointer) that is in no row, and that the layout neither maps nor leaves out; empty where
    there is none. What a layout leaves out of rows does not excuse an item that is no row."""
    lists = {row[:-1] for row in rows if row and isinstance(row[-1], int)}
    for steps in _outside(value, rows, ()):
        item = next((steps[: length + 1] for length in range(len(steps)) if steps[:length] in lists), None)
        if item is not None or not taken(in_general(steps), used):
            return Node(None, item or steps).pointer
    return ""


def unmapped_places(value: Any, used: set[Steps], outside: str) -> list[str]:
    """The places that a layout does not cover (list places put as `*`), and the first that is in no row."""
    places = dict.fromkeys(steps for steps in leaves(value) if not taken(steps, used))
    pointers = ["/" + "/".join(map(str, steps)) for steps in places]
    return list(dict.fromkeys([*pointers, *filter(None, [outside])]))


def _outside(value: Any, rows: set[Steps], steps: Steps) -> Iterator[Steps]:
    """The places of what is in no row: of values, and of what is empty or null in a list."""
    if steps in rows:
        return
    if isinstance(value, dict) and value:
        for name, inner in value.items():
            yield from _outside(inner, rows, (*steps, name))
    elif isinstance(value, list) and value:
        for number, inner in enumerate(value):
            yield from _outside(inner, rows, (*steps, number))
    elif (steps and isinstance(steps[-1], int)) or not (value is None or isinstance(value, dict | list)):
        yield steps


def taken(steps: Steps, used: set[Steps]) -> bool:
    """Whether a place, or what it is in, was taken."""
    return any(steps[:length] in used for length in range(len(steps) + 1))
