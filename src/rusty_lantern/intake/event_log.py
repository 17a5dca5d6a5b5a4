"""Event files, streamed: our own JSON Lines and CSV, other layouts by a mapping file, and common web-log lines.

A line that is no event is skipped, counted and named; what is kept in memory does not grow with the files. Of our own
layout, and of a mapping without dots, whole blocks are read as columns, and only lines of actions that are looked for
become objects; where a block cannot be read so, it is read line by line.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple
from urllib.parse import unquote_to_bytes

import msgspec

from rusty_lantern.core.errors import BadInput, Place, Problem, ProblemList
from rusty_lantern.core.history.event import Event
from rusty_lantern.core.value_types import InvalidValue, read_moment
from rusty_lantern.core.yaml_source import FieldReader, read_nodes
from rusty_lantern.intake.request_line import read_request
from rusty_lantern.intake.unreadable import unreadable

BLOCK = 16 << 20
LONGEST_LINE = 1 << 20
NEWLINE = b"\n"
FIELDS = ("time", "actor", "action", "bucket", "key", "address", "outcome", "about", "store")


class Layout(msgspec.Struct, frozen=True):
    """How a file is laid out: `json`, `csv` or `web-log`; field → its name there (with dots: inside); other words for
    actions."""

    reads: str = ""
    fields: dict[str, str] = {}
    actions: dict[str, str] = {}

    def name(self, field: str) -> str:
        """What a field is called there."""
        return self.fields.get(field, field)


def read_layout(document: str, file: str) -> Layout:
    """Read a mapping file. Raises `BadInput` with everything that is wrong with it.

    reads: json                # or csv, web-log; otherwise by the file's name
    fields: {time: eventTime, actor: userIdentity.arn, bucket: requestParameters.bucketName}
    actions: {set-policy: PutBucketPolicy}
    """
    complaints = ProblemList()
    reader = FieldReader(complaints)
    top = reader.fields(read_nodes(document, file), ("reads", "fields", "actions"), "the mapping file")
    reads = reader.choice(top.get("reads"), "reads", ("json", "csv", "web-log"), "")
    names, actions = {}, {}
    for key, value in reader.entries(top.get("fields"), "fields"):
        if key.text not in FIELDS:
            complaints.add(f'no event has a field "{key.text}"', key.place, f"fields: {', '.join(FIELDS)}")
        names[key.text or ""] = value.text or ""
    for key, value in reader.entries(top.get("actions"), "actions"):
        actions[key.text or ""] = value.text or ""
    complaints.settle()
    return Layout(reads, names, actions)


@dataclass
class Events:
    """What was read: how many lines, and how many of them were no events, with the first of these."""

    lines: int = 0
    bytes: int = 0
    skipped: int = 0
    first_skipped: str = ""
    _line: int = field(default=0, repr=False)

    def skip(self, place: str, why: str) -> None:
        """Count a line that is no event."""
        self.skipped += 1
        self.first_skipped = self.first_skipped or f"{place}: {why}"


def stream(path: Path, layout: Layout, actions: frozenset[str], tally: Events) -> Iterator[Event]:
    """The events of a file whose action is looked for. Raises `BadInput` if the file cannot be read."""
    wanted = actions | {written for written, meant in layout.actions.items() if meant in actions}
    reads = layout.reads or {".csv": "csv", ".log": "web-log"}.get(path.suffix, "json")
    try:
        with path.open("rb") as opened:
            if reads == "csv":
                yield from _csv(opened, path.name, layout, wanted, tally)
            else:
                read = _web_log if reads == "web-log" else _json
                yield from _blocks(opened, path.name, layout, wanted, tally, read)
    except OSError as error:
        raise unreadable(path, error) from None


Read = Callable[[bytes, str, int, Layout, frozenset[str], Events], Iterator[Event]]


def _blocks(
    opened: BinaryIO, name: str, layout: Layout, wanted: frozenset[str], tally: Events, read: Read
) -> Iterator[Event]:
    """Whole lines, many at a time."""
    rest, line = b"", 1
    while fresh := opened.read(BLOCK):
        tally.bytes += len(fresh)
        block = rest + fresh
        end = block.rfind(b"\n") + 1
        if not end and len(block) > LONGEST_LINE:
            raise BadInput(Problem("a line is longer than 1 MiB", Place(name, line), "is this an event file?"))
        rest = block[end:]
        if end:
            yield from read(block[:end], name, line, layout, wanted, tally)
            lines = block.count(b"\n", 0, end)
            line, tally.lines = line + lines, tally.lines + lines
    if rest.strip():
        yield from read(rest, name, line, layout, wanted, tally)
        tally.lines += 1


# --- JSON Lines


def _json(block: bytes, name: str, line: int, layout: Layout, wanted: frozenset[str], tally: Events) -> Iterator[Event]:
    if any("." in layout.name(field) for field in FIELDS):
        yield from _lines(block, name, line, layout, wanted, tally)
        return
    import pyarrow as pa
    import pyarrow.compute as pc
    from pyarrow import json

    schema = pa.schema([(layout.name(field), pa.string()) for field in FIELDS])
    options = json.ParseOptions(explicit_schema=schema, unexpected_field_behavior="ignore")
    try:
        table = json.read_json(io.BytesIO(block), json.ReadOptions(block_size=len(block) + 1), options)
    except pa.ArrowInvalid:
        yield from _lines(block, name, line, layout, wanted, tally)
        return
    seen = table.column(layout.name("action"))
    for row in table.filter(pc.is_in(seen, pa.array(sorted(wanted)))).to_pylist():
        event = _event({field: row.get(layout.name(field)) or "" for field in FIELDS}, layout, "", tally, name)
        if event is not None:
            yield event


def _lines(
    block: bytes, name: str, first: int, layout: Layout, wanted: frozenset[str], tally: Events
) -> Iterator[Event]:
    """Line by line: slower, but names the line that is wrong."""
    for number, text in enumerate(block.split(b"\n"), first):
        if not text.strip():
            continue
        place = f"{name}:{number}"
        try:
            entry = msgspec.json.decode(text, type=dict[str, Any])
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            tally.skip(place, f"not an event: {error}")
            continue
        fields = {field: _inside(entry, layout.name(field)) for field in FIELDS}
        if fields["action"] in wanted:
            event = _event(fields, layout, place, tally, name)
            if event is not None:
                yield event


def _inside(value: Any, path: str) -> str:
    for part in path.split("."):
        value = value.get(part) if isinstance(value, dict) else None
    return "" if value is None or isinstance(value, dict | list) else str(value)


def _event(fields: dict[str, str], layout: Layout, place: str, tally: Events, name: str) -> Event | None:
    try:
        moment = read_moment(fields["time"])
    except InvalidValue as error:
        tally.skip(place or name, f"time: {error}")
        return None
    rest = {field: fields[field] for field in FIELDS if field not in ("time", "action")}
    return Event(moment, action=layout.actions.get(fields["action"], fields["action"]), line=place or name, **rest)


# --- CSV


def _csv(opened: BinaryIO, name: str, layout: Layout, wanted: frozenset[str], tally: Events) -> Iterator[Event]:
    import pyarrow as pa
    import pyarrow.compute as pc
    from pyarrow import csv

    def bad_row(row: Any) -> str:
        tally.skip(name, f"a row of {row.actual_columns} cells where there are {row.expected_columns}")
        return "skip"

    names = {field: layout.name(field) for field in FIELDS}
    try:
        reader = csv.open_csv(
            opened,
            csv.ReadOptions(block_size=BLOCK),
            csv.ParseOptions(newlines_in_values=False, invalid_row_handler=bad_row),
            csv.ConvertOptions(column_types={n: pa.string() for n in names.values()}, strings_can_be_null=False),
        )
        for batch in reader:
            tally.bytes += batch.nbytes
            tally.lines += batch.num_rows
            missing = [n for n in (names["time"], names["action"]) if n not in batch.schema.names]
            if missing:
                heads = ", ".join(batch.schema.names[:12])
                raise BadInput(Problem(f"no column {missing[0]}", Place(name, 1), f"columns: {heads}"))
            kept = batch.filter(pc.is_in(batch.column(names["action"]), pa.array(sorted(wanted))))
            for row in kept.to_pylist():
                event = _event({f: str(row.get(n) or "") for f, n in names.items()}, layout, "", tally, name)
                if event is not None:
                    yield event
    except pa.ArrowInvalid as error:
        raise BadInput(Problem(f"not CSV: {str(error).splitlines()[0]}", Place(name))) from None


# --- servers' own logs

_REQUEST = re.compile(rb' \[([^\]\n]{20,36})\] "(PUT|POST|DELETE) ([^" \n]{1,8192})[^"\n]*" (\d{3})')
"""The part of a common web-log line from its time on; three words stand before it, of which the first is the client's
address and the last the user. A server or a collector may put more before these."""
LONGEST_HEAD, LONGEST_TIME = 1024, 40
"""Bytes of a line before its time, and of the time, at the most."""
_CHANGING = re.compile(rb'"(?=PUT |POST |DELETE )')
_OF_SWIFT = re.compile(
    rb"(?<!\S)(\S{1,64}+) \S{1,64}+ (\d\d/\w{3}/\d{4}(?:/\d\d){3}) "
    rb"(PUT|POST|DELETE) ([^ \n]{1,8192}+) HTTP/[\d.]+ (\d{3})"
)
"""A line of a Swift proxy's log: it names no user. Source: the server's manual, proxy logs."""
_SWIFT_TIME = re.compile(rb" \d\d/\w{3}/\d{4}/\d\d/\d\d/\d\d [A-Z]+ /")


class _Entry(NamedTuple):
    """One line: where it is in the block, and its parts."""

    start: int
    address: bytes
    actor: bytes
    at: bytes
    method: bytes
    target: bytes
    status: bytes


def _entries(block: bytes) -> Iterator[_Entry]:
    """The lines of requests that change something; most do not, so these are looked for first."""
    for method in _CHANGING.finditer(block):
        at = method.start()
        bracket = block.rfind(b" [", max(0, at - LONGEST_TIME), at)
        request = _REQUEST.match(block, bracket) if bracket >= 0 else None
        if request is None or request.start(2) != at + 1:
            continue
        head = block[max(0, bracket - LONGEST_HEAD) : bracket].rpartition(NEWLINE)[2].split(b" ")
        if len(head) >= len(("address", "identity", "user")):
            yield _Entry(bracket, head[-3], head[-1], *request.groups())


def _of_swift(block: bytes) -> Iterator[_Entry]:
    for entry in _OF_SWIFT.finditer(block):
        address, at, method, target, status = entry.groups()
        yield _Entry(entry.start(), address, b"-", at, method, unquote_to_bytes(target), status)


def _web_log(
    block: bytes, name: str, first: int, layout: Layout, wanted: frozenset[str], tally: Events
) -> Iterator[Event]:
    number, counted = first, 0
    of_swift = _SWIFT_TIME.search(block, 0, 1 << 16) is not None
    for entry in _of_swift(block) if of_swift else _entries(block):
        address, actor, at, method, target, status = (part.decode("utf-8", "replace") for part in entry[1:])
        done = read_request(method, target, status)
        if done.action not in wanted:
            continue
        number, counted = number + block.count(NEWLINE, counted, entry.start), entry.start
        place = f"{name}:{number}"
        try:
            moment = _moment(at)
        except ValueError:
            tally.skip(place, f'"{at}" is no time')
            continue
        action = layout.actions.get(done.action, done.action)
        by = "" if actor == "-" else actor
        yield Event(moment, by, action, done.bucket, done.key, address, status, done.about, line=place)


def _moment(at: str) -> datetime:
    """The time of a line: with an offset, perhaps parts of a second; of a Swift proxy in UTC. Raises `ValueError`."""
    if "/" in at[11:]:
        return datetime.strptime(at, "%d/%b/%Y/%H/%M/%S").replace(tzinfo=UTC)
    form = "%d/%b/%Y:%H:%M:%S.%f %z" if "." in at else "%d/%b/%Y:%H:%M:%S %z"
    return datetime.strptime(at, form).astimezone(UTC)
