"""A dossier out of exported documents: rows make entries, other rows add to them by name; what nobody mapped is
reported.

What an export leaves out is *absent* only where the layout says that the export always has it; else it was not read.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList
from rusty_lantern.core.exports.field_types import SECTIONS, FieldType, fields_of
from rusty_lantern.core.exports.json_path import Node, Steps, find, in_general, leaves, members_of
from rusty_lantern.core.exports.layout import Layout, Part, PartsSpec
from rusty_lantern.core.exports.values import MISSING, Maker, Unread, Wrong, built
from rusty_lantern.core.model.dossier import Dossier

MOST_ROWS = 1_000_000
MOST_PROBLEMS = 20
EVERY = "*"
_OF_A_STORE = {*fields_of(Dossier), "identities", "groups", "credentials", "encryption_keys", "links"}


class Document(msgspec.Struct, frozen=True):
    """One exported document: its file's name, and what is in it."""

    file: str
    value: Any


class Assembled(msgspec.Struct, frozen=True):
    """What came of an export."""

    dossier: Dossier
    rows: int
    unmapped: dict[str, list[str]]
    """File → places that the layout does not cover, list places put as `*`."""
    unmatched: list[str]
    """What the layout wants documents for, and none was given."""


@dataclass
class _Entry:
    """One entry while its fields are gathered."""

    row: Node
    file: str
    fields: dict[str, Any] = field(default_factory=dict)
    lost: dict[str, str] = field(default_factory=dict)
    covered: set[str] = field(default_factory=set)


@dataclass
class _Section:
    entries: dict[str, _Entry] = field(default_factory=dict)
    given: bool = False
    """Whether a document was given whose rows are its entries."""
    covered: set[str] = field(default_factory=set)
    """Fields that documents cover for every entry, also for those that none of their rows mentions."""


def assemble(documents: list[Document], layout: Layout, store: str, moment: datetime) -> Assembled:
    """The dossier that documents make by a layout. Raises `BadInput` with file and pointer of what makes no sense."""
    work = _Assembly(documents, layout)
    for joins in (False, True):
        for part in layout.parts:
            if bool(part.joins) is joins:
                work.part(part)
    work.complaints.settle()
    dossier = work.dossier(store, moment)
    work.complaints.settle()
    return Assembled(dossier, work.rows, work.unmapped(), work.unmatched)


class _Assembly:
    def __init__(self, documents: list[Document], layout: Layout) -> None:
        self.documents = documents
        self.layout = layout
        self.complaints = ProblemList()
        self.sections: dict[str, _Section] = {name: _Section() for name in SECTIONS}
        self.makers = [Maker() for _ in documents]
        self.used = [False for _ in documents]
        self.unmatched: list[str] = []
        self.rows = 0

    def part(self, part: Part) -> None:
        """Take in everything that one part of the layout finds."""
        section = self.sections[part.section]
        matched, tells = False, True
        for number, document in enumerate(self.documents):
            if part.documents and not any(_fits(document.file, pattern) for pattern in part.documents):
                continue
            matched = self.used[number] = True
            whole = Node(document.value, (), document.value)
            before, alike = self.rows, set[Steps]()
            for row in find(part.rows, whole):
                self.rows += 1
                self._leave_out(part, row, alike, self.makers[number])
                if self.rows > MOST_ROWS or len(self.complaints.complaints) >= MOST_PROBLEMS:
                    raise BadInput(*self.complaints.complaints, Problem("no more is read", Place(document.file)))
                self._row(part, section, row, document.file, self.makers[number])
            if self.rows == before and any(True for _ in leaves(document.value)):
                # It says something, and none of it is what was looked for: a refusal, or another shape.
                tells = False
                self.unmatched.append(
                    f"{part.section} (line {part.line}): {part.rows} finds nothing in {document.file}"
                )
        if not matched:
            self.unmatched.append(
                f"{part.section} (line {part.line}): no document is called {' or '.join(part.documents)}"
            )
            return
        if tells:
            section.given = section.given or not part.joins
            section.covered |= part.covers_every

    def _leave_out(self, part: Part, row: Node, alike: set[Steps], maker: Maker) -> None:
        """Note what the layout leaves out of a row. Paths that name members alone are the same in rows of one kind."""
        shape = in_general(row.steps)
        for path in part.leave_out:
            members = members_of(path)
            if members and shape not in alike:
                maker.used.add((*shape, *members))
            elif not members:
                for node in find(path, row):
                    maker.use(node)
        alike.add(shape)

    def _row(self, part: Part, section: _Section, row: Node, file: str, maker: Maker) -> None:
        try:
            entry = self._entry_of(part, section, row, file, maker)
            if entry is None:
                return
            made, lost = self._fields(part, row, maker)
            self._add(entry, made, row)
            entry.lost |= lost
            entry.covered |= part.covers
        except Wrong as error:
            self.complaints.add(str(error), Place(file))

    def _fields(self, part: Part, row: Node, maker: Maker) -> tuple[dict[str, Any], dict[str, str]]:
        entry, _ = SECTIONS[part.section]
        types = fields_of(entry)
        made: dict[str, Any] = {}
        lost: dict[str, str] = {}
        for name, spec in part.fields:
            try:
                if name == EVERY:
                    made |= maker.parts(PartsSpec(((name, spec),)), FieldType("entry", entry=entry), row)[0]
                    continue
                value = maker.make(spec, types[name], row)
            except Unread as error:
                lost[name] = str(error)
                continue
            if value is not MISSING:
                made[name] = value
        return made, lost

    def _entry_of(self, part: Part, section: _Section, row: Node, file: str, maker: Maker) -> _Entry | None:
        """The entry that a row makes, or adds to; None where it adds to one that there is not."""
        named = SECTIONS[part.section][1]
        if not named or part.section == "every-bucket":
            name = EVERY if part.section in ("store", "every-bucket") else f"{len(section.entries)}"
            return section.entries.setdefault(name, _Entry(row, file))
        if part.joins:
            names = list(find(part.joins, row))
            if len(names) != 1:
                raise Wrong(row, f"one name is wanted to join by, and {part.joins} finds {len(names)}")
            maker.use(names[0])
            entry = section.entries.get(str(names[0].value))
            if entry is None:
                raise Wrong(names[0], f'there is no "{str(names[0].value)[:80]}" among the {part.section} to join to')
            return entry
        entry = _Entry(row, file)
        name = maker.make(dict(part.fields)[named], FieldType("text"), row)
        if name is MISSING:
            raise Wrong(row, f'"{named}" is missing here')
        if name in section.entries:
            raise Wrong(row, f'"{name[:80]}" is there already')
        section.entries[name] = entry
        return entry

    def _add(self, entry: _Entry, made: dict[str, Any], row: Node) -> None:
        for name, value in made.items():
            had = entry.fields.get(name)
            if had is None:
                entry.fields[name] = value
            elif isinstance(had, list) and isinstance(value, list):
                entry.fields[name] = had + value
            elif had != value:
                raise Wrong(row, f"{name} has two different values")

    def dossier(self, store: str, moment: datetime) -> Dossier:
        """What was gathered, as a dossier."""
        fields: dict[str, Any] = {}
        for name in ("identities", "groups", "credentials", "encryption-keys", "links"):
            if self.sections[name].given:
                fields[name.replace("-", "_")] = Answer("known", self._built(name))
        buckets = (
            sorted(self._built("buckets"), key=lambda bucket: bucket.name) if self.sections["buckets"].given else []
        )
        if self.sections["buckets"].given:
            fields["listing"] = Answer("known", len(buckets))
        elif unmatched := [words for words in self.unmatched if words.startswith("buckets ")]:
            fields["listing"] = Answer("failed", None, f"the export lists no bucket: {unmatched[0]}")
        every = self._built("every-bucket")
        whole = self.sections["store"].entries.get(EVERY)
        if whole is not None:
            fields |= self._states(whole, fields_of(Dossier), set())
            fields |= {name: Answer("known", value) for name, value in whole.fields.items()}
        for name in sorted(self.layout.not_offered & _OF_A_STORE):
            fields.setdefault(name, Answer("unsupported"))
        return Dossier(store=store, taken=moment, buckets=buckets, every_bucket=every[0] if every else None, **fields)

    def _built(self, section: str) -> list[Any]:
        """The entries of a section."""
        entry, named = SECTIONS[section]
        types = fields_of(entry)
        made = []
        offered = {name: Answer[Any]("unsupported") for name in self.layout.not_offered if name in types}
        for name, gathered in self.sections[section].entries.items():
            states = (offered if section == "buckets" else {}) | self._states(
                gathered, types, self.sections[section].covered
            )
            fields = gathered.fields | ({"name": EVERY} if section == "every-bucket" else {})
            if named and named not in fields:
                fields[named] = name
            try:
                made.append(built(FieldType("entry", entry=entry), fields, gathered.row, states))
            except Wrong as error:
                self.complaints.add(str(error), Place(gathered.file))
        return made

    def _states(self, entry: _Entry, types: dict[str, FieldType], covered: set[str]) -> dict[str, Answer[Any]]:
        """The states of fields without a value: what the export covers is absent, what has no word was not read."""
        absent = {name for name in entry.covered | covered if name not in entry.fields and types[name].answer}
        states: dict[str, Answer[Any]] = {name: Answer("absent") for name in absent}
        for name, why in entry.lost.items():
            entry.fields.pop(name, None)
            states[name] = Answer("failed", None, why)
        return states

    def unmapped(self) -> dict[str, list[str]]:
        """The places of each document that the layout does not cover."""
        places_of = {}
        for document, maker, used in zip(self.documents, self.makers, self.used, strict=True):
            if not used:
                places_of[document.file] = ["/"]
                continue
            places = dict.fromkeys(steps for steps in leaves(document.value) if not _taken(steps, maker.used))
            if places:
                places_of[document.file] = ["/" + "/".join(map(str, steps)) for steps in places]
        return places_of


def _taken(steps: Steps, used: set[Steps]) -> bool:
    return any(steps[:length] in used for length in range(len(steps) + 1))


def _fits(file: str, pattern: str) -> bool:
    """Whether a document is of this name; the folders before it count where the pattern names some."""
    return fnmatchcase(file if "/" in pattern else file.rpartition("/")[2], pattern)


def documents_of(files: Iterator[tuple[str, bytes]]) -> list[Document]:
    """Documents of JSON, and of JSON Lines (a list then), in the order given. Raises `BadInput`."""
    return [Document(name, _decoded(name, body)) for name, body in files]


def _decoded(name: str, body: bytes) -> Any:
    body = body.removeprefix(b"\xef\xbb\xbf")
    if name.endswith((".jsonl", ".ndjson")):
        rows = []
        for number, line in enumerate(body.split(b"\n"), 1):
            if line.strip():
                rows.append(_json(name, line, number))
        return rows
    return _json(name, body, 0)


def _json(name: str, body: bytes, line: int) -> Any:
    try:
        return msgspec.json.decode(body)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        at = line or _line_of(error, body)
        raise BadInput(Problem(f"not JSON: {str(error)[:160]}", Place(name, at))) from None


def _line_of(error: Exception, body: bytes) -> int:
    position = re.search(r"byte (\d+)", str(error))
    return body.count(b"\n", 0, int(position[1])) + 1 if position else 0
