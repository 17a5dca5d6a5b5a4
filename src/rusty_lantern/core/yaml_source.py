"""YAML read into plain texts with their places, so that every message can name file, line and column.

Scalars stay the texts they were written as: what `on`, `7` or `2026-11-02` mean is for the scale of the fact to
say, not for YAML. Anchors and aliases are refused, which with the bounds on size and depth keeps reading bounded.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

import msgspec
from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.nodes import MappingNode, ScalarNode, SequenceNode

from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList, nearest

MAX_BYTES = 4_000_000
MAX_DEPTH = 40


class Marked(msgspec.Struct, frozen=True):
    """A text, a list or a mapping, and where it stands. Exactly one of the three is not None."""

    place: Place
    text: str | None = None
    items: tuple[Marked, ...] | None = None
    fields: tuple[tuple[Marked, Marked], ...] | None = None

    @property
    def kind(self) -> str:
        """What it is, in words."""
        if self.fields is not None:
            return "a mapping"
        return "a list" if self.items is not None else ("nothing" if self.text == "" else "a text")


def read_marked(document: str, file: str) -> Marked:
    """Read one YAML document. Raises `BadInput` with the place of what is wrong."""
    if len(document) > MAX_BYTES:
        raise BadInput(Problem(f"the file is longer than {MAX_BYTES:,} characters", Place(file)))
    try:
        node = YAML(typ="safe", pure=True).compose(document)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file)
        what = error.problem or error.context or "not YAML"
        remedy = "inside { } put a value with brackets in quotes" if "got '['" in what else ""
        raise BadInput(Problem(f"not YAML: {what}", place, remedy)) from None
    except (YAMLError, ValueError) as error:
        raise BadInput(Problem(f"not YAML: {str(error).splitlines()[0]}", Place(file))) from None
    except RecursionError:
        raise BadInput(Problem("nested too deeply", Place(file))) from None
    if node is None:
        raise BadInput(Problem("the file is empty", Place(file, 1, 1)))
    return _mark(node, file, 0, set())


def _mark(node: Any, file: str, depth: int, seen: set[int]) -> Marked:
    place = Place(file, node.start_mark.line + 1, node.start_mark.column + 1)
    if depth > MAX_DEPTH:
        raise BadInput(Problem(f"nested more than {MAX_DEPTH} deep", place))
    if node.anchor is not None or id(node) in seen:
        raise BadInput(Problem("anchors and aliases are not used here", place, "write the value out"))
    seen.add(id(node))
    if isinstance(node, ScalarNode):
        empty = node.value in ("", "~") and node.style is None
        return Marked(place, text="" if empty else node.value)
    if isinstance(node, SequenceNode):
        return Marked(place, items=tuple(_mark(child, file, depth + 1, seen) for child in node.value))
    assert isinstance(node, MappingNode)
    pairs = []
    names: set[str] = set()
    for key_node, value_node in node.value:
        key = _mark(key_node, file, depth + 1, seen)
        if key.text is None:
            raise BadInput(Problem("a name must be a text", key.place))
        if key.text in names:
            raise BadInput(Problem(f'"{key.text}" appears twice', key.place))
        names.add(key.text)
        pairs.append((key, _mark(value_node, file, depth + 1, seen)))
    return Marked(place, fields=tuple(pairs))


class Reader:
    """Takes fields out of a mapping and notes what is missing, of the wrong kind, or unknown."""

    def __init__(self, complaints: ProblemList) -> None:
        self.complaints = complaints

    def fields(self, node: Marked, known: tuple[str, ...], what: str) -> dict[str, Marked]:
        """The mapping's known fields by name; others are noted with the nearest right spelling."""
        if node.fields is None:
            self.complaints.add(f"{what} must be a mapping, and is {node.kind}", node.place)
            return {}
        found: dict[str, Marked] = {}
        for key, value in node.fields:
            assert key.text is not None
            if key.text in known:
                found[key.text] = value
            else:
                hint = nearest(key.text, known) or f"known here: {', '.join(known)}"
                self.complaints.add(f'unknown "{key.text}" in {what}', key.place, hint)
        return found

    def entries(self, node: Marked | None, what: str) -> Iterator[tuple[Marked, Marked]]:
        """The names and values of a mapping whose names are free."""
        if node is None:
            return
        if node.fields is None:
            self.complaints.add(f"{what} must be a mapping, and is {node.kind}", node.place)
            return
        yield from node.fields

    def text(self, node: Marked | None, what: str, default: str = "") -> str:
        """A text, or `default` where there is none."""
        if node is None:
            return default
        if node.text is None:
            self.complaints.add(f"{what} must be a text, and is {node.kind}", node.place)
            return default
        return node.text

    def texts(self, node: Marked | None, what: str) -> list[Marked]:
        """A list of texts (or a single one), each with its place."""
        if node is None:
            return []
        if node.items is None:
            if node.text is None:
                self.complaints.add(f"{what} must be a list of texts, and is {node.kind}", node.place)
                return []
            return [node]
        for item in node.items:
            if item.text is None:
                self.complaints.add(f"{what} must hold texts, and here is {item.kind}", item.place)
        return [item for item in node.items if item.text is not None]

    def whole(self, node: Marked | None, what: str, default: int, least: int = 1) -> int:
        """A whole number of at least `least`, or `default` where there is none."""
        if node is None:
            return default
        text = node.text or ""
        if not text.isdigit() or int(text) < least or len(text) > 12:
            self.complaints.add(f"{what} must be a whole number from {least}", node.place)
            return default
        return int(text)

    def choice(self, node: Marked | None, what: str, options: tuple[str, ...], default: str) -> str:
        """One of a few words, or `default` where there is none."""
        text = self.text(node, what, default)
        if node is not None and text not in options:
            hint = nearest(text, options) or f"one of {', '.join(options)}"
            self.complaints.add(f'{what} cannot be "{text}"', node.place, hint)
            return default
        return text


_PLAIN = re.compile(r"[^ -~\u00a0-\u2027\u202a-\ud7ff\ue000-\ufefe\uff00-\ufffd\U00010000-\U0010ffff]")
"""What YAML takes for a line break or does not take at all."""


def quoted(text: str) -> str:
    """A text as a quoted scalar, the same in JSON and YAML."""
    return _PLAIN.sub(lambda found: f"\\u{ord(found[0]):04x}", json.dumps(text, ensure_ascii=False))


def escaped(name: str) -> str:
    """A name as a pattern that fits nothing else."""
    return re.sub(r"([*?\[])", r"[\1]", name)
