"""A dossier out of exported documents: rows make entries, other rows add to them by name; what nobody mapped is
reported.

What an export leaves out is *absent* only where the layout says that the export always has it; else it was not read.
A document lists all that there is only where nothing in it lies outside of the rows that were looked for.
"""

from __future__ import annotations

from datetime import datetime
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList
from rusty_lantern.core.exports.completeness import (
    Completeness,
    Looked,
    left_outside,
    lists_nothing,
    taken,
    unmapped_places,
)
from rusty_lantern.core.exports.documents import Document
from rusty_lantern.core.exports.entries import Entry, Section
from rusty_lantern.core.exports.field_types import SECTIONS, FieldType, fields_of
from rusty_lantern.core.exports.json_path import (
    Node,
    Steps,
    find,
    in_general,
    leaves,
    lists_of,
    members_of,
    null_item,
    without_list,
)  # fmt: skip
from rusty_lantern.core.exports.layout import EachSpec, Layout, Part, PartsSpec, Spec
from rusty_lantern.core.exports.values import MISSING, Maker, Unread, Wrong, built
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.unlisted import any_of

MOST_ROWS = 1_000_000
MOST_PROBLEMS = 20
EVERY = "*"
_OF_A_STORE = {*fields_of(Dossier), "identities", "groups", "credentials", "encryption_keys", "links"}


class Assembled(msgspec.Struct, frozen=True):
    """What came of an export."""

    dossier: Dossier
    rows: int
    unmapped: dict[str, list[str]]
    """File → places that the layout does not cover, list places put as `*`."""
    unmatched: list[str]
    """What the layout wants documents for, and none was given."""


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
        self.sections: dict[str, Section] = {name: Section() for name in SECTIONS}
        self.makers = [Maker() for _ in documents]
        self.used = [False for _ in documents]
        self.rows_of: list[set[Steps]] = [set() for _ in documents]
        self.looked: list[Looked] = []
        self.unmatched: list[str] = []
        self.rows = 0

    def part(self, part: Part) -> None:
        """Take in everything that one part of the layout finds."""
        section, looked = self.sections[part.section], Looked(part)
        for number, document in enumerate(self.documents):
            if part.documents and not any(_fits(document.file, pattern) for pattern in part.documents):
                continue
            self.used[number] = True
            looked.documents.append(number)
            whole = Node(document.value, (), document.value)
            before, alike = self.rows, set[Steps]()
            for row in find(part.rows, whole):
                self.rows += 1
                self.rows_of[number].add(row.steps)
                self._leave_out(part, row, alike, self.makers[number])
                if self.rows > MOST_ROWS or len(self.complaints.complaints) >= MOST_PROBLEMS:
                    raise BadInput(*self.complaints.complaints, Problem("no more is read", Place(document.file)))
                self._row(part, section, row, document.file, self.makers[number])
            self._holes(looked, whole, document.file)
            if self.rows == before and not lists_nothing(document.value):
                # What it says is not what was looked for: a refusal, or another shape.
                looked.tells = False
                self.unmatched.append(
                    f"{part.section} (line {part.line}): {part.rows} finds nothing in {document.file}"
                )
        if not looked.documents:
            self.unmatched.append(
                f"{part.section} (line {part.line}): no document is called {' or '.join(part.documents)}"
            )
            return
        self.looked.append(looked)
        if looked.tells:
            section.given = section.given or not part.joins

    def _holes(self, looked: Looked, whole: Node, file: str) -> None:
        """Note what should be a row, or have rows, and is nothing."""
        null, without = null_item(looked.part.rows, whole), without_list(looked.part.rows, whole)
        if null is not None:
            self.complaints.add(f"at {null.pointer}: null is here, where an entry is wanted", Place(file))
        if without is not None:
            looked.hole = (
                looked.hole or f"{file} has none of the lists that {looked.part.rows} is of at {without.pointer}"
            )

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

    def _row(self, part: Part, section: Section, row: Node, file: str, maker: Maker) -> None:
        try:
            entry = self._entry_of(part, section, row, file, maker)
            if entry is None:
                return
            mine = Maker()
            made, lost, silent = self._fields(part, row, mine)
            if self._says_nothing_known(part, row, mine, maker):
                why = f"{file} says nothing of it that the layout knows, at {row.pointer}"
                entry.lost |= {name: why for name, _ in part.fields if name != EVERY}
                maker.used |= mine.used
                return
            maker.used |= mine.used
            self._add(entry, made, row)
            entry.lost |= lost
            entry.silent |= silent
            entry.covered |= part.covers
        except Wrong as error:
            self.complaints.add(str(error), Place(file))

    def _says_nothing_known(self, part: Part, row: Node, mine: Maker, maker: Maker) -> bool:
        """Whether a row that adds to an entry, or is of the whole store, says something, and nothing that was looked
        for: a refusal in its place."""
        if not part.joins and part.section not in ("store", "every-bucket"):
            return False
        place = in_general(row.steps)
        if any(steps[: len(place)] == place for steps in mine.used):
            return False
        return any(not taken((*place, *steps), maker.used) for steps in leaves(row.value))

    def _fields(self, part: Part, row: Node, maker: Maker) -> tuple[dict[str, Any], dict[str, str], set[str]]:
        """Field → its value, field → why it was not read, and the fields that the row says nothing of."""
        entry, _ = SECTIONS[part.section]
        types = fields_of(entry)
        made: dict[str, Any] = {}
        lost: dict[str, str] = {}
        silent: set[str] = set()
        for name, spec in part.fields:
            try:
                if name == EVERY:
                    made |= maker.parts(PartsSpec(((name, spec),)), FieldType("entry", entry=entry), row)[0]
                    continue
                value = maker.make(spec, types[name], row)
            except Unread as error:
                if name == EVERY or not types[name].answer:
                    raise Wrong(row, str(error)) from None
                lost[name] = str(error)
                continue
            if value is not MISSING:
                made[name] = value
            elif types[name].answer:
                silent.add(name)
            elif types[name].form == "list" and name not in part.covers:
                made[name] = self._empty(name, spec, row)
        return made, lost, silent

    def _empty(self, name: str, spec: Spec, row: Node) -> list[Any]:
        """No items, where the list is there and is empty. Raises `Wrong`."""
        if isinstance(spec, EachSpec) and any(True for _ in lists_of(spec.path, row)):
            return []
        raise Wrong(row, f'"{name}" is not here; under covers: {name}, that means none')

    def _entry_of(self, part: Part, section: Section, row: Node, file: str, maker: Maker) -> Entry | None:
        """The entry that a row makes, or adds to; None where it adds to one that there is not."""
        named = SECTIONS[part.section][1]
        if not named or part.section == "every-bucket":
            name = EVERY if part.section in ("store", "every-bucket") else f"{len(section.entries)}"
            return section.entries.setdefault(name, Entry(row, file))
        if part.joins:
            names = list(find(part.joins, row))
            if len(names) != 1:
                raise Wrong(row, f"one name is wanted to join by, and {part.joins} finds {len(names)}")
            maker.use(names[0])
            entry = section.entries.get(str(names[0].value))
            if entry is None:
                raise Wrong(names[0], f'there is no "{str(names[0].value)[:80]}" among the {part.section} to join to')
            return entry
        entry = Entry(row, file)
        name = maker.make(dict(part.fields)[named], FieldType("text"), row)
        if name is MISSING:
            raise Wrong(row, f'"{named}" is missing here')
        if name in section.entries:
            raise Wrong(row, f'"{name[:80]}" is there already')
        section.entries[name] = entry
        return entry

    def _add(self, entry: Entry, made: dict[str, Any], row: Node) -> None:
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
                fields[name.replace("-", "_")] = self._listed(name)
        buckets = (
            sorted(self._built("buckets"), key=lambda bucket: bucket.name) if self.sections["buckets"].given else []
        )
        if self.sections["buckets"].given:
            more = self._completeness.more("buckets")
            fields["listing"] = Answer("failed", None, more) if more else Answer("known", len(buckets))
        elif unmatched := [words for words in self.unmatched if words.startswith("buckets ")]:
            fields["listing"] = Answer("failed", None, f"the export lists no bucket: {unmatched[0]}")
        every = self._built("every-bucket")
        whole = self.sections["store"].entries.get(EVERY)
        if whole is not None:
            fields |= whole.states(fields_of(Dossier), set())
            fields |= {name: Answer("known", value) for name, value in whole.fields.items()}
        for name in sorted(self.layout.not_offered & _OF_A_STORE):
            fields.setdefault(name, Answer("unsupported"))
        return Dossier(store=store, taken=moment, buckets=buckets, every_bucket=every[0] if every else None, **fields)

    @cached_property
    def _places_outside(self) -> list[str]:
        """Of each document the first place that is in no row; empty where there is none."""
        return [
            left_outside(document.value, rows, maker.used)
            for document, rows, maker in zip(self.documents, self.rows_of, self.makers, strict=True)
        ]

    @cached_property
    def _completeness(self) -> Completeness:
        outside = [
            place and f"{document.file} has more than the layout takes, at {place}: map it, or leave it out"
            for document, place in zip(self.documents, self._places_outside, strict=True)
        ]
        return Completeness(self.looked, outside)

    def _listed(self, section: str) -> Answer[Any]:
        """All entries of a section. Where there may be more identities, one represents them."""
        more = self._completeness.more(section)
        if not more:
            return Answer("known", self._built(section))
        lost: Answer[Any] = Answer("failed", None, more)
        return Answer("known", [*self._built(section), any_of("user", lost)]) if section == "identities" else lost

    def _built(self, section: str) -> list[Any]:
        """The entries of a section."""
        entry, named = SECTIONS[section]
        types = fields_of(entry)
        made = []
        covered, doubted = self._completeness.covered(section), self._completeness.doubted(section)
        offered = {name: Answer[Any]("unsupported") for name in self.layout.not_offered if name in types}
        for name, gathered in self.sections[section].entries.items():
            if plain := gathered.doubt(doubted, types):
                self.complaints.add(plain, Place(gathered.file))
            states = (offered if section == "buckets" else {}) | gathered.states(types, covered)
            fields = gathered.fields | ({"name": EVERY} if section == "every-bucket" else {})
            if named and named not in fields:
                fields[named] = name
            try:
                made.append(built(FieldType("entry", entry=entry), fields, gathered.row, states))
            except Wrong as error:
                self.complaints.add(str(error), Place(gathered.file))
        return made

    def unmapped(self) -> dict[str, list[str]]:
        """The places of each document that the layout does not cover."""
        places_of = {}
        documents = zip(self.documents, self.makers, self.used, self._places_outside, strict=True)
        for document, maker, used, outside in documents:
            if not used:
                places_of[document.file] = ["/"]
                continue
            places = unmapped_places(document.value, maker.used, outside)
            if places:
                places_of[document.file] = places
        return places_of


def _fits(file: str, pattern: str) -> bool:
    """Whether a document is of this name; the folders before it count where the pattern names some."""
    return fnmatchcase(file if "/" in pattern else file.rpartition("/")[2], pattern)
