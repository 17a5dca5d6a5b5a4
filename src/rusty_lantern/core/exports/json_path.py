"""Paths into JSON documents (RFC 9535), and what they find with its place (a JSON pointer, RFC 6901).

A path is relative to the row that is being read; each `^` before it goes out to the mapping around it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

import jsonpath
import msgspec
from jsonpath.exceptions import JSONPathError

Steps = tuple[str | int, ...]
_PLAIN = re.compile(r"\$?\.?([A-Za-z_]\w*(?:\.[A-Za-z_]\w*)*)")
"""A path that only names one member within another."""


class NoPath(ValueError):
    """A text is no path; the message says why."""


class Node(msgspec.Struct, frozen=True):
    """A value of a document, the steps that lead to it, and the whole document."""

    value: Any
    steps: Steps = ()
    root: Any = None

    @property
    def around(self) -> Node:
        """The mapping that it is in; the whole document where there is none."""
        steps = self.steps
        while steps:
            steps = steps[:-1]
            value = self.root
            for step in steps:
                value = value[step]
            if isinstance(value, dict):
                return Node(value, steps, self.root)
        return Node(self.root, (), self.root)

    @property
    def pointer(self) -> str:
        """Its place as a JSON pointer; `/` for the whole document."""
        return "".join(f"/{str(step).replace('~', '~0').replace('/', '~1')}" for step in self.steps) or "/"


@lru_cache(maxsize=4_096)
def compiled(path: str) -> tuple[int, tuple[str, ...], Any]:
    """How many mappings out a path begins, its members where it is plain, and else the query. Raises `NoPath`."""
    inner = path.lstrip("^")
    out = len(path) - len(inner)
    inner = inner.removeprefix(".") or "$"
    plain = _PLAIN.fullmatch(inner)
    if plain is not None:
        return out, tuple(plain[1].split(".")), None
    try:
        return out, (), jsonpath.compile(inner if inner[:1] == "$" else f"$.{inner}")
    except JSONPathError as error:
        raise NoPath(f'"{path}" is no path: {str(error).splitlines()[0]}') from None


def members_of(path: str) -> tuple[str, ...]:
    """The members that a path names, one within another; none where it is more than that."""
    out, members, _ = compiled(path)
    return members if not out else ()


_ITEMS = re.compile(r"(.*)\.(\w+)\[\*\]")
"""A path to all items of the list that a member is."""


def lists_of(path: str, row: Node) -> Iterator[Node]:
    """The lists whose items a path finds, where it ends with all items of a list."""
    if path.endswith("[*]"):
        yield from (node for node in find(path.removesuffix("[*]"), row) if isinstance(node.value, list))


def null_item(path: str, row: Node) -> Node | None:
    """The first null in the place of an item that a path should find."""
    nulls = (
        Node(None, (*node.steps, number), node.root)
        for node in lists_of(path, row)
        for number, item in enumerate(node.value)
        if item is None
    )
    return next(nulls, None)


def without_list(path: str, whole: Node) -> Node | None:
    """The first mapping that should have the list whose items a path finds, and does not."""
    items = _ITEMS.fullmatch(path)
    around = find(items[1], whole) if items else ()
    return next((n for n in around if items and isinstance(n.value, dict) and n.value.get(items[2]) is None), None)


def in_general(steps: Steps) -> Steps:
    """Steps with places in lists put as `*`."""
    return tuple("*" if isinstance(step, int) else step for step in steps)


def find(path: str, row: Node) -> Iterator[Node]:
    """What a path finds from a row, null left out."""
    out, members, query = compiled(path)
    start = row
    for _ in range(out):
        start = start.around
    if members:
        value, steps = start.value, start.steps
        for member in members:
            if not isinstance(value, dict) or member not in value:
                return
            value = value[member]
        if value is not None:
            yield Node(value, (*steps, *members), row.root)
        return
    for match in query.finditer(start.value):
        if match.obj is not None:
            yield Node(match.obj, (*start.steps, *match.parts), row.root)


def leaves(value: Any, steps: Steps = ()) -> Iterator[Steps]:
    """The steps to every value that is no list and no mapping, places in lists put as `*`."""
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from leaves(inner, (*steps, name))
    elif isinstance(value, list):
        for inner in value:
            yield from leaves(inner, (*steps, "*"))
    elif value is not None:
        yield steps
