"""YAML read into plain texts with their places, so that every message can name file, line and column.

Scalars stay the texts they were written as: what `on`, `7` or `2026-11-02` mean is for the scale of the fact to
say, not for YAML. Anchors and aliases are refused, which with the bounds on size and depth keeps reading bounded.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

import msgspec
import yaml
from yaml import parse
from yaml.error import MarkedYAMLError, YAMLError
from yaml.events import (
    Event,
    MappingEndEvent,
    NodeEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
    StreamEndEvent,
)  # fmt: skip

from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList, nearest
from rusty_lantern.core.value_types import DURATION, InvalidValue

_LOADER = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
"""The scanner in C where the library was built with it, else the one in Python: it says the same, 20 times slower."""

MAX_BYTES = 4_000_000
MAX_DEPTH = 40


class Node(msgspec.Struct, frozen=True):
    """A text, a list or a mapping, and its place. Exactly one of the three is not None."""

    place: Place
    text: str | None = None
    items: tuple[Node, ...] | None = None
    fields: tuple[tuple[Node, Node], ...] | None = None

    @property
    def kind(self) -> str:
        """What it is, in words."""
        if self.fields is not None:
            return "a mapping"
        return "a list" if self.items is not None else ("nothing" if self.text == "" else "a text")


def read_nodes(document: str, file: str) -> Node:
    """Read one YAML document. Raises `BadInput` with the place of what is wrong."""
    if len(document) > MAX_BYTES:
        raise BadInput(Problem(f"the file is longer than {MAX_BYTES:,} characters", Place(file)))
    try:
        events = parse(document, Loader=_LOADER)
        next(events)  # the stream's start
        if isinstance(next(events), StreamEndEvent):
            raise BadInput(Problem("the file is empty", Place(file, 1, 1)))
        whole = _Nodes(file, events).next(0)
        assert whole is not None
        next(events)  # the document's end
        another = next(events)
    except MarkedYAMLError as error:
        raise BadInput(_not_yaml(error, document, file)) from None
    except (YAMLError, ValueError) as error:
        raise BadInput(Problem(f"not YAML: {str(error).splitlines()[0]}", Place(file))) from None
    if not isinstance(another, StreamEndEvent):
        raise BadInput(Problem("not YAML: here another document begins", _place(file, another), "write one a file"))
    return whole


def _not_yaml(error: MarkedYAMLError, document: str, file: str) -> Problem:
    mark = error.problem_mark or error.context_mark
    place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file)
    why = error.problem or error.context or "it ends too soon"
    lines = document.splitlines()
    here = lines[mark.line][mark.column :] if mark and mark.line < len(lines) else ""
    bracket = "'}'" in why and here.startswith("[")
    return Problem(f"not YAML: {why}", place, "inside { } put a value with brackets in quotes" if bracket else "")


def _place(file: str, event: Event) -> Place:
    mark = event.start_mark
    return Place(file, mark.line + 1, mark.column + 1) if mark else Place(file)


class _Nodes:
    """Puts together what the scanner's events say, one node at a time, to a bounded depth."""

    def __init__(self, file: str, events: Iterator[Event]) -> None:
        self._file = file
        self._events = events

    def next(self, depth: int) -> Node | None:
        """The next node; None at the end of a list or mapping."""
        event = next(self._events)
        if isinstance(event, SequenceEndEvent | MappingEndEvent):
            return None
        place = _place(self._file, event)
        if depth > MAX_DEPTH:
            raise BadInput(Problem(f"nested more than {MAX_DEPTH} deep", place))
        if isinstance(event, NodeEvent) and event.anchor is not None:
            raise BadInput(Problem("anchors and aliases are not used here", place, "write the value out"))
        if isinstance(event, ScalarEvent):
            return Node(place, text="" if event.value in ("", "~") and not event.style else event.value)
        children = iter(lambda: self.next(depth + 1), None)
        if isinstance(event, SequenceStartEvent):
            return Node(place, items=tuple(children))
        return Node(place, fields=tuple(self._pairs(children)))

    def _pairs(self, children: Iterator[Node]) -> Iterator[tuple[Node, Node]]:
        names: dict[str, Place] = {}
        for key in children:
            if key.text is None:
                raise BadInput(Problem("a name must be a text", key.place))
            if key.text in names:
                first = names[key.text]
                remedy = f"the first is at {first.line}:{first.column}; keep one of them"
                raise BadInput(Problem(f'"{key.text}" appears twice', key.place, remedy))
            names[key.text] = key.place
            yield key, next(children)


class FieldReader:
    """Takes fields out of a mapping and notes what is missing, of the wrong kind, or unknown."""

    def __init__(self, complaints: ProblemList) -> None:
        self.complaints = complaints

    def fields(self, node: Node, known: tuple[str, ...], what: str) -> dict[str, Node]:
        """The mapping's known fields by name; others are noted with the nearest right spelling."""
        if node.fields is None:
            self.complaints.add(f"{what} must be a mapping, and is {node.kind}", node.place)
            return {}
        values: dict[str, Node] = {}
        for key, value in node.fields:
            assert key.text is not None
            if key.text in known:
                values[key.text] = value
            else:
                hint = nearest(key.text, known) or f"known here: {', '.join(known)}"
                self.complaints.add(f'unknown "{key.text}" in {what}', key.place, hint)
        return values

    def entries(self, node: Node | None, what: str) -> Iterator[tuple[Node, Node]]:
        """The names and values of a mapping whose names are free."""
        if node is None:
            return
        if node.fields is None:
            self.complaints.add(f"{what} must be a mapping, and is {node.kind}", node.place)
            return
        yield from node.fields

    def text(self, node: Node | None, what: str, default: str = "") -> str:
        """A text, or `default` where there is none."""
        if node is None:
            return default
        if node.text is None:
            self.complaints.add(f"{what} must be a text, and is {node.kind}", node.place)
            return default
        return node.text

    def texts(self, node: Node | None, what: str) -> list[Node]:
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

    def whole(self, node: Node | None, what: str, default: int, least: int = 1) -> int:
        """A whole number of at least `least`, or `default` where there is none."""
        if node is None:
            return default
        text = node.text or ""
        if not text.isdigit() or int(text) < least or len(text) > 12:
            self.complaints.add(f"{what} must be a whole number from {least}", node.place)
            return default
        return int(text)

    def seconds(self, node: Node | None, what: str, example: str, default: int = 0) -> int:
        """A duration in seconds, or `default` where there is none; `example`: how one is written."""
        try:
            return int(str(DURATION.read(node.text or ""))) if node is not None else default
        except InvalidValue as error:
            self.complaints.add(f"{what}: {error}", node.place if node else None, f"write it as {example}")
            return default

    def choice(self, node: Node | None, what: str, options: tuple[str, ...], default: str) -> str:
        """One of a few words, or `default` where there is none."""
        text = self.text(node, what, default)
        if node is not None and text not in options:
            hint = nearest(text, options) or f"one of {', '.join(options)}"
            self.complaints.add(f'{what} cannot be "{text}"', node.place, hint)
            return default
        return text


_NOT_PLAIN = r"[^ -~\u00a0-\u2027\u202a-\ud7ff\ue000-\ufefe\uff00-\ufffd\U00010000-\U0010ffff]"
"""What YAML takes for a line break or does not take at all. Compiled when something is quoted: that takes a while."""


def quoted(text: str) -> str:
    """A text as a quoted scalar, the same in JSON and YAML."""
    return re.sub(_NOT_PLAIN, lambda sign: f"\\u{ord(sign[0]):04x}", json.dumps(text, ensure_ascii=False))


def escaped(name: str) -> str:
    """A name as a pattern that fits nothing else."""
    return re.sub(r"([*?\[])", r"[\1]", name)
