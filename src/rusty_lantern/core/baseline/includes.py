"""A baseline of several files, and values that have a name.

    include: [common/exposure.yaml]     # its sheets come before this file's own
    values: {long: 7 years}             # `at least $long` below means `at least 7 years`; `$$` is a plain `$`

A file that is included sees the values of the file that includes it, which win over its own; and the including file
sees those that an included one defines. Every text keeps the place where it was written.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from posixpath import dirname, normpath

import msgspec

from rusty_lantern.core.errors import BadInput, Problem, ProblemList, nearest
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

MOST_FILES = 64
Opened = Callable[[str], str]
"""A file's text by its path from the baseline's folder. Raises `BadInput`."""

_TOP = ("title", "edition", "longest-waiver", "sensitive", "values", "include", "sheets")
_NAMED = re.compile(r"\$(\$|[a-z][a-z0-9-]*)")


class CombinedBaseline(msgspec.Struct):
    """The files of a baseline put together: the fields of the first, and the sheets of all, in order."""

    root: Node
    top: dict[str, Node]
    sheets: list[Node]


def no_files(path: str) -> str:
    """For a baseline in one file."""
    raise BadInput(Problem(f"{path} cannot be included here"))


def gather(document: str, file: str, opened: Opened, reader: FieldReader) -> CombinedBaseline:
    """Read a baseline's file and those that it includes. Raises `BadInput` for a file that is no YAML at all."""
    return _Gatherer(opened, reader).read(document, file, {}, ())


class _Gatherer:
    """Reads the files; each may be included once."""

    def __init__(self, opened: Opened, reader: FieldReader) -> None:
        self.opened = opened
        self.reader = reader
        self.seen: set[str] = set()
        self.values: dict[str, str] = {}

    @property
    def complaints(self) -> ProblemList:
        return self.reader.complaints

    def read(self, document: str, file: str, outer: Mapping[str, str], above: tuple[str, ...]) -> CombinedBaseline:
        self.seen.add(file)
        root = read_nodes(document, file)
        top = self.reader.fields(root, _TOP, "the baseline" if not above else "an included file")
        own = {
            key.text or "": value.text or ""
            for key, value in self.reader.entries(top.get("values"), "values")
            if self._is_value(key, value)
        }
        values = own | dict(outer)
        sheets: list[Node] = []
        for path in self.reader.texts(top.get("include"), "include"):
            sheets += self._included(path, file, values, (*above, file))
        self.values = own | self.values | dict(outer)
        known = self.values | values
        node = top.get("sheets")
        if node is not None and node.items is None and node.text != "":
            self.complaints.add(f"sheets must be a list, and is {node.kind}", node.place)
        sheets += [self._filled(item, known) for item in (node.items if node else None) or ()]
        return CombinedBaseline(root, top, sheets)

    def _is_value(self, key: Node, value: Node) -> bool:
        if not re.fullmatch(r"[a-z][a-z0-9-]*", key.text or ""):
            self.complaints.add(f'"{key.text}" cannot name a value', key.place, "small letters, digits and dashes")
            return False
        if value.text is None:
            self.complaints.add(f"the value {key.text} must be a text, and is {value.kind}", value.place)
            return False
        return True

    def _included(self, path: Node, file: str, values: Mapping[str, str], above: tuple[str, ...]) -> list[Node]:
        written = path.text or ""
        target = normpath(f"{dirname(file)}/{written}" if dirname(file) else written)
        if written.startswith("/") or target.startswith(".."):
            self.complaints.add(f"{written} is outside the baseline's folder", path.place)
            return []
        if target in above:
            self.complaints.add(f"{written} includes itself, by way of {' and '.join(above)}", path.place)
            return []
        if target in self.seen:
            self.complaints.add(f"{written} is included twice", path.place, "once is enough: its sheets are in force")
            return []
        if len(self.seen) >= MOST_FILES:
            self.complaints.add(f"more than {MOST_FILES} files", path.place)
            return []
        try:
            return self.read(self.opened(target), target, values, above).sheets
        except BadInput as error:
            for complaint in error.complaints:
                self.complaints.add(complaint.what, complaint.place or path.place, complaint.remedy)
            return []

    def _filled(self, node: Node, values: Mapping[str, str]) -> Node:
        """The node with the named values in its texts written out."""
        if node.text is not None:
            if "$" not in node.text:
                return node
            return msgspec.structs.replace(node, text=_NAMED.sub(lambda m: self._value(m, node, values), node.text))
        if node.items is not None:
            return msgspec.structs.replace(node, items=tuple(self._filled(item, values) for item in node.items))
        pairs = tuple((key, self._filled(value, values)) for key, value in node.fields or ())
        return msgspec.structs.replace(node, fields=pairs)

    def _value(self, match: re.Match[str], node: Node, values: Mapping[str, str]) -> str:
        name = match[1]
        if name == "$":
            return "$"
        if name not in values:
            hint = nearest(name, values) or "values: {NAME: …} defines it; $$ is a plain $"
            self.complaints.add(f'no value is called "{name}"', node.place, hint)
            return match[0]
        return values[name]
