"""Reading a baseline: sheets, the buckets each applies to, and its requirements, all with their places.

Sheets apply in order; a later sheet overrides an earlier one fact by fact. `anything` lifts a requirement.
"""

from __future__ import annotations

import re
from datetime import datetime
from typing import Literal, get_args

import msgspec

from rusty_lantern.core.baseline.comparisons import Comparison, ImpossibleComparison, read_comparison
from rusty_lantern.core.baseline.includes import Opened, gather, no_files
from rusty_lantern.core.baseline.selectors import All, Subject, read_selector
from rusty_lantern.core.errors import Place, ProblemList
from rusty_lantern.core.facts.registry import UnknownFact, lookup
from rusty_lantern.core.value_types import InvalidValue, read_moment
from rusty_lantern.core.yaml_source import FieldReader, Node

Severity = Literal["critical", "high", "medium", "low"]
SEVERITIES: tuple[Severity, ...] = get_args(Severity)
"""Worst first."""


class Requirement(msgspec.Struct, frozen=True):
    """One fact and what it must be. Without a comparison, an earlier requirement on the fact is lifted."""

    fact: str
    comparison: Comparison | None
    severity: Severity
    because: str
    place: Place
    sheet: str
    remedy: str = ""
    """What to do where it drifts, in the team's own words."""
    begins: datetime | None = None
    """Before this it is not in force."""
    ends: datetime | None = None
    """From this on it is not in force any more."""
    in_a_sample: float = 0.0
    """The share of drift up to which a sample's bound counts as held; 0: a sample alone never does."""

    @property
    def applies_to(self) -> str:
        """The kind of subject that it is judged on; objects are judged with their bucket."""
        kind = lookup(self.fact).subject
        return "bucket" if kind == "object" else kind


class Sheet(msgspec.Struct, frozen=True):
    """A group of requirements and the buckets it applies to."""

    name: str
    place: Place
    of: All
    require: tuple[Requirement, ...]
    off: str = ""
    """Why the sheet is switched off; empty: it is not."""

    def applies_to(self, subject: Subject) -> bool:
        """Whether it may ask anything of a subject."""
        return any(r.applies_to == subject.kind for r in self.require) and self.of.match(subject).yes is not False


class Baseline(msgspec.Struct, frozen=True):
    """What the team requires."""

    title: str
    edition: str
    sheets: tuple[Sheet, ...]
    longest_waiver: int = 0
    """For how many seconds drift may be waived; 0: for as long as a waiver says."""
    sensitive: All | None = None
    """The buckets whose drift comes first within its severity."""


_SHEET = ("sheet", "of", "require", "severity", "off")
_LONG = ("is", "severity", "because", "remedy", "from", "until", "in-a-sample")


def read_baseline(document: str, file: str, opened: Opened = no_files) -> Baseline:
    """Read a baseline, with the files that it includes. Raises `BadInput` with everything that is wrong with it."""
    complaints = ProblemList()
    reader = FieldReader(complaints)
    gathered = gather(document, file, opened, reader)
    top = gathered.top
    sheets: list[Sheet] = []
    if not gathered.sheets and gathered.root.fields is not None and not complaints.complaints:
        node = top.get("sheets")
        place = node.place if node else gathered.root.place
        complaints.add("the baseline has no sheets", place, "sheets: a list of {sheet, of, require}")
    for item in gathered.sheets:
        sheet = _sheet(reader, item)
        twin = next((s for s in sheets if s.name == sheet.name), None)
        if twin:
            where = f"at line {twin.place.line}" + (f" of {twin.place.file}" if twin.place.file != file else "")
            complaints.add(f'a sheet "{sheet.name}" is already used {where}', sheet.place)
        sheets.append(sheet)
    longest = reader.seconds(top.get("longest-waiver"), "longest-waiver", "180 days")
    sensitive = read_selector(reader, top.get("sensitive")) if "sensitive" in top else None
    complaints.settle()
    title = reader.text(top.get("title"), "title", "baseline")
    return Baseline(title, reader.text(top.get("edition"), "edition"), tuple(sheets), longest, sensitive)


def _sheet(reader: FieldReader, node: Node) -> Sheet:
    fields = reader.fields(node, _SHEET, "a sheet")
    name = reader.text(fields.get("sheet"), "sheet")
    if node.fields is not None and not name:
        reader.complaints.add("a sheet needs a name", node.place, "sheet: every bucket")
    severity = _severity(reader, fields.get("severity"), "medium")
    requirements = [
        requirement
        for key, value in reader.entries(fields.get("require"), "require")
        if (requirement := _requirement(reader, name, key, value, severity)) is not None
    ]
    if node.fields is not None and "require" not in fields:
        reader.complaints.add(f'sheet "{name}" requires nothing', node.place, "require: {FACT: what it must be}")
    off = reader.text(fields.get("off"), "off")
    if "off" in fields and not off:
        reader.complaints.add(f'sheet "{name}" is switched off without a reason', fields["off"].place, "off: WHY")
    return Sheet(name, node.place, read_selector(reader, fields.get("of")), tuple(requirements), off)


def _severity(reader: FieldReader, node: Node | None, default: Severity) -> Severity:
    chosen = reader.choice(node, "severity", SEVERITIES, default)
    return next(severity for severity in SEVERITIES if severity == chosen)


def _requirement(reader: FieldReader, sheet: str, key: Node, value: Node, severity: Severity) -> Requirement | None:
    name = key.text or ""
    complaints = reader.complaints
    try:
        definition = lookup(name)
    except UnknownFact as error:
        complaints.add(f'unknown fact "{name}"', key.place, error.hint or "docs/facts.md lists the facts")
        return None
    because, remedy, tolerated = "", "", 0.0
    begins = ends = None
    words = value
    if value.fields is not None:
        fields = reader.fields(value, _LONG, name)
        severity = _severity(reader, fields.get("severity"), severity)
        because, remedy = (reader.text(fields.get(part), part) for part in ("because", "remedy"))
        begins, ends = (_moment(reader, fields.get(part), part) for part in ("from", "until"))
        if begins and ends and ends <= begins:
            complaints.add(f"the requirement on {name} ends before it begins", fields["until"].place)
        tolerated = _tolerated(reader, name, fields.get("in-a-sample"))
        if "is" not in fields:
            complaints.add(f'the requirement on {name} lacks "is"', value.place)
            return None
        words = fields["is"]
    if words.text is None:
        remedy = "write `one of [a, b]` for several" if words.items is not None else ""
        complaints.add(f"the requirement on {name} must be a text, and is {words.kind}", words.place, remedy)
        return None
    if words.text == "anything":
        return Requirement(name, None, severity, because, key.place, sheet, remedy, begins, ends)
    try:
        comparison = read_comparison(words.text, definition.scale)
    except ImpossibleComparison as error:
        complaints.add(f"{name}: {error}", words.place)
        return None
    return Requirement(name, comparison, severity, because, key.place, sheet, remedy, begins, ends, tolerated)


def _moment(reader: FieldReader, node: Node | None, what: str) -> datetime | None:
    try:
        return read_moment(reader.text(node, what)) if node is not None else None
    except InvalidValue as error:
        reader.complaints.add(f"{what}: {error}", node.place if node else None)
        return None


def in_force(baseline: Baseline, moment: datetime) -> Baseline:
    """The baseline in force at a moment: without sheets that are switched off, and without requirements that have
    not begun or have ended."""
    sheets = [
        msgspec.structs.replace(sheet, require=tuple(r for r in sheet.require if _stands(r, moment)))
        for sheet in baseline.sheets
        if not sheet.off
    ]
    return msgspec.structs.replace(baseline, sheets=tuple(sheets))


def _stands(requirement: Requirement, moment: datetime) -> bool:
    begun = requirement.begins is None or requirement.begins <= moment
    return begun and (requirement.ends is None or moment < requirement.ends)


def _tolerated(reader: FieldReader, fact: str, node: Node | None) -> float:
    if node is None:
        return 0.0
    match = re.fullmatch(r"at most ([0-9]{1,2}(?:\.[0-9]{1,4})?)\s*%", node.text or "")
    if not fact.startswith("objects."):
        reader.complaints.add(f"{fact} is never sampled", node.place, "in-a-sample goes with facts of objects")
    elif match is None:
        reader.complaints.add("in-a-sample must be a share", node.place, "write it as in-a-sample: at most 1 %")
    return float(match[1]) / 100 if match else 0.0
