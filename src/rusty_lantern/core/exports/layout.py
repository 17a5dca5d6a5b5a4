"""The layout file of an export: which document holds what, and in which words.

    says: buckets of the tide depot
    not-offered: [policy, acl]
    buckets:
      - documents: ["buckets*.json"]
        rows: $.items[*]
        covers: [versioning]
        fields:
          name: name
          created: {at: timeCreated}
          versioning.state: {at: versions, words: {"true": on, "false": never}}
          rights: {each: "$.grants[*]", of: {to: {is: anyone}, verbs: {at: verbs}}}
        leave-out: [etag]

`docs/exports.md` is the reference.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import msgspec

from rusty_lantern.core.errors import ProblemList, nearest
from rusty_lantern.core.exports.field_types import SECTIONS, FieldType, fields_of
from rusty_lantern.core.exports.json_path import NoPath, compiled
from rusty_lantern.core.model.capabilities import FIELD_WORDS
from rusty_lantern.core.value_types import DURATION, SIZE
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

UNREAD, AS_IT_IS, NOTHING = "unread", "as it is", "nothing"
UNITS = tuple(unit for scale in (DURATION, SIZE) for name, _ in scale.units for unit in (name, f"{name}s"))
_OF_A_VALUE = ("at", "pattern", "words", "otherwise", "unit", "form", "present", "default", "take")


class ValueSpec(msgspec.Struct, frozen=True, kw_only=True):
    """Where one value is found, and how it is written there."""

    at: str = ""
    pattern: str = ""
    """A regular expression that must match; its first group is the value, where it has one."""
    words: tuple[tuple[str, Any], ...] = ()
    """Their word → ours; one that ends in `*` stands for every word that begins so, and `*` in ours for its rest."""
    otherwise: str | None = None
    """Ours for every other word. `unread`: then the field was not read; `nothing`: then nothing is there; `as it is`:
    then theirs is ours. None: another word is a mistake."""
    unit: str = ""
    form: str = ""
    """How a date is written: `seconds` or `milliseconds` since 1970, or a pattern of strftime."""
    present: Any = None
    """What it means that there is anything at all."""
    default: Any = None
    """What it means that there is nothing."""
    take: str = ""
    """Which of several values counts: `first`, `last`, `largest`, `smallest`; empty: there must be one."""


class ConstantSpec(msgspec.Struct, frozen=True):
    """The same value for every row."""

    value: Any


class EachSpec(msgspec.Struct, frozen=True):
    """A list with one item for each thing that a path finds."""

    path: str
    of: Spec


class FlagsSpec(msgspec.Struct, frozen=True):
    """A list of the words whose path finds something that is on."""

    flags: tuple[tuple[str, str], ...]
    default: bool | None = None
    """What it means that there is nothing at a path; None: that nobody knows."""


class AllSpec(msgspec.Struct, frozen=True):
    """A list of what several say; of a single value, what the first says that is there."""

    items: tuple[Spec, ...]


class PartsSpec(msgspec.Struct, frozen=True):
    """An entry with fields of its own; under a name that begins with `*` is an entry whose fields join."""

    parts: tuple[tuple[str, Spec], ...]


Spec = ValueSpec | ConstantSpec | EachSpec | FlagsSpec | AllSpec | PartsSpec


class Part(msgspec.Struct, frozen=True, kw_only=True):
    """What some documents hold about the entries of one section."""

    section: str
    documents: tuple[str, ...]
    rows: str
    joins: str
    """The path to the name of the entry that a row adds to; empty: each row makes an entry."""
    fields: tuple[tuple[str, Spec], ...]
    covers: frozenset[str]
    """The fields that the export always has where they are set: what a row leaves out is not set."""
    covers_every: frozenset[str]
    """The fields that are not set for an entry that no row mentions, since the document lists all that have them."""
    leave_out: tuple[str, ...]
    line: int


class Layout(msgspec.Struct, frozen=True, kw_only=True):
    """A whole layout file."""

    file: str
    says: str
    parts: tuple[Part, ...]
    not_offered: frozenset[str]


def read_layout(document: str, file: str) -> Layout:
    """Read a layout file. Raises `BadInput` with everything that is wrong with it."""
    complaints = ProblemList()
    reader = _Layouts(complaints)
    root = read_nodes(document, file)
    top = reader.fields(root, ("says", "not-offered", *SECTIONS), "a layout")
    parts = [part for section in SECTIONS for part in reader.parts(section, top.get(section))]
    offered = reader.names(top.get("not-offered"), "not-offered", _every_field())
    if root.fields is not None and not parts:
        complaints.add("the layout maps nothing", root.place, f"it needs one of {', '.join(SECTIONS)}")
    complaints.settle()
    says = reader.text(top.get("says"), "says")
    return Layout(file=file, says=says, parts=tuple(parts), not_offered=offered)


def _every_field() -> set[str]:
    lists = {"identities", "groups", "credentials", "encryption_keys", "links", "service", "doors"}
    return {*FIELD_WORDS, *fields_of(SECTIONS["store"][0]), *lists}


class _Layouts(FieldReader):
    """Reads the parts of a layout, and checks each against the types of what it fills."""

    def names(self, node: Node | None, what: str, known: set[str]) -> frozenset[str]:
        """A list of field names."""
        items = self.texts(node, what)
        for item in items:
            if item.text not in known:
                self.complaints.add(
                    f'{what}: there is no field "{item.text}"', item.place, nearest(item.text or "", known)
                )
        return frozenset(item.text or "" for item in items)

    def parts(self, section: str, node: Node | None) -> Iterator[Part]:
        """The parts of one section: a list, or one alone."""
        for one in (node.items if node.items is not None else (node,)) if node is not None else ():
            yield self.part(section, one)

    def part(self, section: str, node: Node) -> Part:
        """One part."""
        known = ("documents", "rows", "joins", "fields", "covers", "covers-every", "leave-out")
        fields = self.fields(node, known, f"a part of {section}")
        entry, named = SECTIONS[section]
        types = fields_of(entry)
        joins = self.path(fields.get("joins"), "joins") if "joins" in fields else ""
        nested = self.nested(list(self.entries(fields.get("fields"), "fields")))
        specs = tuple(self.specs(nested, types, section))
        keyed = named and section != "every-bucket" and not joins and node.fields is not None
        if keyed and named not in dict(specs):
            self.complaints.add(f'a part of {section} needs "{named}"', node.place, f"{named}: PATH, or joins: PATH")
        return Part(
            section=section,
            documents=tuple(item.text or "" for item in self.texts(fields.get("documents"), "documents")),
            rows=self.path(fields.get("rows"), "rows") if "rows" in fields else "$",
            joins=joins,
            fields=specs,
            covers=self.names(fields.get("covers"), "covers", set(types)),
            covers_every=self.names(fields.get("covers-every"), "covers-every", set(types)),
            leave_out=tuple(self.path(item, "leave-out") for item in self.texts(fields.get("leave-out"), "leave-out")),
            line=node.place.line,
        )

    def nested(self, entries: list[tuple[Node, Node]]) -> list[tuple[Node, Node]]:
        """Fields whose names have dots in them, as entries within entries."""
        whole: dict[str, tuple[Node, Node]] = {}
        inner: dict[str, list[tuple[Node, Node]]] = {}
        for key, value in entries:
            name, dot, rest = (key.text or "").partition(".")
            if not dot:
                whole[name] = (key, value)
                continue
            inner.setdefault(name, []).append((Node(key.place, text=rest), value))
            whole[name] = (Node(key.place, text=name), Node(key.place, fields=tuple(inner[name])))
        return list(whole.values())

    def path(self, node: Node | None, what: str) -> str:
        """A path, checked."""
        text = self.text(node, what)
        try:
            compiled(text)
        except NoPath as error:
            self.complaints.add(str(error), node.place if node else None, "write it as $.items[*].name (RFC 9535)")
            return "$"
        return text

    def regex(self, node: Node | None) -> str:
        """A regular expression, checked."""
        text = self.text(node, "pattern")
        try:
            re.compile(text)
        except re.error as error:
            self.complaints.add(f"pattern: {error}", node.place if node else None)
            return ""
        return text

    def specs(
        self, entries: list[tuple[Node, Node]], types: dict[str, FieldType], what: str
    ) -> Iterator[tuple[str, Spec]]:
        """The fields of an entry, each with where it is found."""
        for key, value in entries:
            name = key.text or ""
            if name.startswith("*"):
                yield name, self.spec(value, FieldType("entry"), name)
            elif name in types:
                yield name, self.spec(value, types[name], name)
            else:
                hint = nearest(name, types) or f"known here: {', '.join(types)}"
                self.complaints.add(f'{what} have no "{name}"', key.place, hint)

    def spec(self, node: Node, kind: FieldType, name: str) -> Spec:
        """Where one value is found."""
        if node.text is not None:
            return ValueSpec(at=self.path(node, name))
        if node.items is not None:
            return AllSpec(tuple(self.spec(item, kind, name) for item in node.items))
        keys = {key.text or "" for key, _ in node.fields or ()}
        for word, read in (("is", self.constant), ("each", self.each), ("flags", self.flags), ("at", self.value)):
            if word in keys:
                return read(node, kind, name)
        entry = kind.item if kind.form == "list" and kind.item is not None else kind
        if entry.entry is None:
            self.complaints.add(
                f"{name} is no entry with fields of its own", node.place, "say {at: PATH}, or {is: VALUE}"
            )
            return ConstantSpec(None)
        return PartsSpec(tuple(self.specs(self.nested(list(node.fields or ())), fields_of(entry.entry), name)))

    def constant(self, node: Node, kind: FieldType, name: str) -> Spec:
        """`{is: VALUE}`."""
        return ConstantSpec(plain(self.fields(node, ("is",), name)["is"]))

    def each(self, node: Node, kind: FieldType, name: str) -> Spec:
        """`{each: PATH, of: SPEC}`."""
        fields = self.fields(node, ("each", "of"), name)
        item = kind.item if kind.form == "list" and kind.item is not None else kind
        of = self.spec(fields["of"], item, name) if "of" in fields else ValueSpec(at="$")
        return EachSpec(self.path(fields["each"], "each"), of)

    def flags(self, node: Node, kind: FieldType, name: str) -> Spec:
        """`{flags: {WORD: PATH}, default: …}`."""
        fields = self.fields(node, ("flags", "default"), name)
        default = self.choice(fields.get("default"), "default", ("yes", "no"), "")
        return FlagsSpec(
            tuple((key.text or "", self.path(value, "flags")) for key, value in self.entries(fields["flags"], "flags")),
            None if not default else default == "yes",
        )

    def value(self, node: Node, kind: FieldType, name: str) -> Spec:
        """`{at: PATH, …}`."""
        fields = self.fields(node, _OF_A_VALUE, name)
        return ValueSpec(
            at=self.path(fields["at"], "at"),
            pattern=self.regex(fields.get("pattern")),
            take=self.choice(fields.get("take"), "take", ("first", "last", "largest", "smallest"), ""),
            words=tuple((key.text or "", plain(value)) for key, value in self.entries(fields.get("words"), "words")),
            otherwise=self.text(fields["otherwise"], "otherwise") if "otherwise" in fields else None,
            unit=self.choice(fields.get("unit"), "unit", UNITS, ""),
            form=self.text(fields.get("form"), "form"),
            present=plain(fields["present"]) if "present" in fields else None,
            default=plain(fields["default"]) if "default" in fields else None,
        )


def plain(node: Node) -> Any:
    """A YAML value as Python has it; texts stay texts."""
    if node.items is not None:
        return [plain(item) for item in node.items]
    if node.fields is not None:
        return {key.text or "": plain(value) for key, value in node.fields}
    return node.text
