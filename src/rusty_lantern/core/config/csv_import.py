"""Flat exports (CSV) → entries of a dossier, by a small layout file that says which column is which.

    rows: buckets                       # or identities, credentials
    columns:
      name: Bucket Name
      usage.objects: Objects
      usage.bytes: {column: Size, unit: GB}
      versioning: {column: Versions, words: {Enabled: on, Disabled: never}}
      created: {column: Created, form: "%d/%m/%Y"}
      tags.division: Division
    leave-out: [Notes]

Nothing is guessed: a heading that the layout does not name is reported, a cell that makes no sense is an error with its
line and column, and an empty cell says nothing (but that something never happened, where the field can say so).
"""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList, nearest
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, Identity
from rusty_lantern.core.value_types import COUNT, SIZE, InvalidValue, read_moment
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

MOST_ROWS = 1_000_000
SEPARATORS = (",", ";", "\t", "|")


class Column(msgspec.Struct, frozen=True):
    """Where a field is found and how its cells are written."""

    field: str
    heading: str
    unit: str = ""
    form: str = ""
    words: tuple[tuple[str, str], ...] = ()


class Layout(msgspec.Struct, frozen=True):
    """Which column of a flat export is which."""

    rows: str
    columns: tuple[Column, ...]
    left_out: tuple[str, ...] = ()
    separator: str = ""
    encoding: str = ""


class ImportResult(msgspec.Struct, frozen=True):
    """What was read from a file: the entries, and the headings that nothing maps."""

    entries: list[Any]
    unmapped: list[str]


Cell = Callable[[str, Column], Any]


def _text(cell: str, _: Column) -> str:
    return cell


def _moment(cell: str, column: Column) -> datetime:
    if not column.form:
        return read_moment(cell)
    try:
        return datetime.strptime(cell, column.form).replace(tzinfo=UTC)
    except ValueError:
        raise InvalidValue(f'"{cell[:40]}" is not a date written as {column.form}') from None


def _count(cell: str, _: Column) -> int:
    return int(COUNT.read(cell))  # type: ignore[arg-type]


def _size(cell: str, column: Column) -> int:
    return int(SIZE.read(f"{cell} {column.unit}" if column.unit else cell))  # type: ignore[arg-type]


def _switch(cell: str, _: Column) -> bool:
    known = {"yes": True, "true": True, "on": True, "1": True, "no": False, "false": False, "off": False, "0": False}
    if cell.lower() not in known:
        raise InvalidValue(f'"{cell[:40]}" is neither yes nor no')
    return known[cell.lower()]


def _several(cell: str, _: Column) -> list[str]:
    return [part.strip() for part in re.split("[;,]", cell) if part.strip()]


FIELDS: dict[str, dict[str, Cell]] = {
    "buckets": {
        "name": _text, "created": _moment, "region": _text, "owner": _text, "tenant": _text, "division": _text,
        "project": _text, "tier": _text, "usage.objects": _count, "usage.bytes": _size, "quota.bytes": _size,
        "quota.objects": _count, "versioning.state": _text, "encryption.by": _text, "encryption.key": _text,
        "scheduled_deletion": _moment, "scanned": _switch, "tags.*": _text,
    },
    "identities": {
        "name": _text, "resource": _text, "kind": _text, "state": _text, "created": _moment, "mfa": _switch,
        "groups": _several, "may": _several, "tags.*": _text,
    },
    "credentials": {
        "id": _text, "owner": _text, "kind": _text, "state": _text, "created": _moment, "last_used": _moment,
        "expires": _moment, "used_for": _several,
    },
}  # fmt: skip
"""What rows are of → field → how its cell is read. `tags.*`: any tag."""
_KINDS: dict[str, Any] = {"buckets": Bucket, "identities": Identity, "credentials": Credential}
_PLAIN = {"name", "id", "owner", "kind", "resource"}
"""Fields that are no answers (a bucket's owner is one)."""
_NEVER = {"last_used", "expires", "scheduled_deletion", "deleted"}
"""Fields whose empty cell says that it never happened, or will not."""


def read_layout(document: str, file: str) -> Layout:
    """Read a layout file. Raises `BadInput` with everything that is wrong with it."""
    root = read_nodes(document, file)
    complaints = ProblemList()
    reader = FieldReader(complaints)
    top = reader.fields(root, ("rows", "columns", "leave-out", "separator", "encoding"), "a layout")
    rows = reader.choice(top.get("rows"), "rows", tuple(FIELDS), "buckets")
    columns = [_column(reader, rows, key, value) for key, value in reader.entries(top.get("columns"), "columns")]
    names = {column.field for column in columns}
    first = "id" if rows == "credentials" else "name"
    if root.fields is not None and first not in names:
        complaints.add(f'a layout of {rows} needs the column of "{first}"', root.place, f"columns: {{{first}: …}}")
    if ("usage.objects" in names) != ("usage.bytes" in names):
        complaints.add("usage needs both usage.objects and usage.bytes", root.place)
    separator = reader.choice(top.get("separator"), "separator", (*SEPARATORS, "tab"), "")
    complaints.settle()
    return Layout(
        rows,
        tuple(columns),
        tuple(item.text or "" for item in reader.texts(top.get("leave-out"), "leave-out")),
        "\t" if separator == "tab" else separator,
        reader.text(top.get("encoding"), "encoding"),
    )


def _column(reader: FieldReader, rows: str, key: Node, value: Node) -> Column:
    name = key.text or ""
    known = FIELDS[rows]
    if name not in known and not (name.startswith("tags.") and "tags.*" in known and len(name) > len("tags.")):
        hint = nearest(name, known) or f"known here: {', '.join(known)}"
        reader.complaints.add(f'{rows} have no "{name}"', key.place, hint)
    if value.fields is None:
        return Column(name, reader.text(value, name))
    parts = reader.fields(value, ("column", "unit", "form", "words"), name)
    words = tuple((word.text or "", said.text or "") for word, said in reader.entries(parts.get("words"), "words"))
    heading = reader.text(parts.get("column"), "column")
    if not heading:
        reader.complaints.add(f"{name} names no column", value.place, "column: HEADING")
    return Column(name, heading, reader.text(parts.get("unit"), "unit"), reader.text(parts.get("form"), "form"), words)


def read_rows(document: bytes, file: str, layout: Layout) -> ImportResult:
    """The entries in a flat export. Raises `BadInput` with the line and column of what makes no sense."""
    rows = _table(_decoded(document, file, layout), file, layout)
    number, headings = next(rows, (0, []))
    if not headings:
        raise BadInput(Problem("the file is empty", Place(file)))
    missing = [column for column in layout.columns if column.heading not in headings]
    if missing:
        problems = [
            Problem(f'no column is headed "{m.heading}"', Place(file, 1), nearest(m.heading, headings)) for m in missing
        ]
        raise BadInput(*problems)
    twice = next((h for h in headings if headings.count(h) > 1 and h in {c.heading for c in layout.columns}), None)
    if twice:
        raise BadInput(Problem(f'two columns are headed "{twice}"', Place(file, 1), "which one counts?"))
    places = [(column, headings.index(column.heading)) for column in layout.columns]
    mapped = {column.heading for column in layout.columns} | set(layout.left_out)
    complaints = ProblemList()
    entries = []
    for number, row in rows:
        if len(row) != len(headings):
            complaints.add(f"{len(row)} cells, and there are {len(headings)} headings", Place(file, number))
        else:
            entries.append(_entry(layout.rows, places, row, Place(file, number), complaints))
        if len(complaints.complaints) > 20 or len(entries) > MOST_ROWS:
            complaints.add(f"no more is read after {number:,} lines", Place(file, number))
            break
    complaints.settle()
    return ImportResult(
        [entry for entry in entries if entry is not None], [h for h in headings if h and h not in mapped]
    )


def _decoded(document: bytes, file: str, layout: Layout) -> str:
    marks = {b"\xef\xbb\xbf": "utf-8-sig", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}
    encoding = layout.encoding or next((e for mark, e in marks.items() if document.startswith(mark)), "utf-8")
    try:
        return document.decode(encoding)
    except LookupError:
        raise BadInput(Problem(f'no encoding is called "{encoding}"', Place(file))) from None
    except UnicodeDecodeError as error:
        line = document.count(b"\n", 0, error.start) + 1
        remedy = "name it in the layout file: encoding: cp1252"
        raise BadInput(Problem(f"byte {error.start} is not {encoding}", Place(file, line), remedy)) from None


def _table(text: str, file: str, layout: Layout) -> Iterator[tuple[int, list[str]]]:
    """Rows with the line in which each ends; blank ones are passed over."""
    lines = text.splitlines(keepends=True)
    first = lines[0] if lines else ""
    separator = layout.separator or max(SEPARATORS, key=first.count)
    reader = csv.reader(lines, delimiter=separator, strict=True)
    try:
        for row in reader:
            if any(cell.strip() for cell in row):
                yield reader.line_num, [cell.strip() for cell in row]
    except csv.Error as error:
        raise BadInput(Problem(f"not a table: {error}", Place(file, reader.line_num))) from None


def _entry(rows: str, places: list[tuple[Column, int]], row: list[str], place: Place, complaints: ProblemList) -> Any:
    fields: dict[str, Any] = {}
    before = len(complaints.complaints)
    for column, at in places:
        cell = dict(column.words).get(row[at], row[at])
        kind = FIELDS[rows].get(column.field, _text)
        try:
            value = kind(cell, column) if cell else None
        except InvalidValue as error:
            complaints.add(str(error), Place(place.file, place.line, at + 1), f"column {column.heading}")
            continue
        if value is not None or column.field in _NEVER:
            fields[column.field] = value
    if len(complaints.complaints) > before:
        return None
    try:
        return msgspec.convert(_nested(rows, fields), _KINDS[rows])
    except msgspec.ValidationError as error:
        complaints.add(str(error).replace("`", ""), place, "words: {THEIRS: OURS} says what a cell means")
        return None


def _nested(rows: str, fields: dict[str, Any]) -> dict[str, Any]:
    """Fields with their dots taken apart, as answers."""
    whole: dict[str, Any] = {}
    for name, value in fields.items():
        outer, dot, inner = name.partition(".")
        if dot:
            whole.setdefault(outer, {})[inner] = value
        else:
            whole[outer] = value
    plain = _PLAIN - {"owner"} if rows == "buckets" else _PLAIN
    return {
        name: value if name in plain else {"state": "absent"} if value is None else {"value": value}
        for name, value in whole.items()
    }


def join_rows(dossier: Dossier, layout: Layout, imported: ImportResult) -> Dossier:
    """A dossier with the entries added. Raises `BadInput` where one of that name is there already."""
    if layout.rows == "buckets":
        names = {bucket.name for bucket in dossier.buckets}
        _refuse_twice([e.name for e in imported.entries], names)
        buckets = sorted([*dossier.buckets, *imported.entries], key=lambda bucket: bucket.name)
        return msgspec.structs.replace(dossier, buckets=buckets, listing=Answer("known", len(buckets)))
    had = getattr(dossier, layout.rows).value or []
    _refuse_twice([_title(entry) for entry in imported.entries], {_title(entry) for entry in had})
    return msgspec.structs.replace(dossier, **{layout.rows: Answer("known", [*had, *imported.entries])})


def _title(entry: Any) -> str:
    return str(entry.id if isinstance(entry, Credential) else entry.name)


def _refuse_twice(names: list[str], had: set[str]) -> None:
    for name in names:
        if name in had:
            raise BadInput(Problem(f'"{name}" is there already', remedy="one row for each, in one file"))
        had.add(name)
