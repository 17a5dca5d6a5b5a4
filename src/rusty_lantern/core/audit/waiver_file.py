"""waivers.yaml: drift accepted in writing."""

from __future__ import annotations

from datetime import datetime
from fnmatch import fnmatchcase

import msgspec

from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.errors import Place, ProblemList
from rusty_lantern.core.facts.registry import UnknownFact, lookup
from rusty_lantern.core.value_types import InvalidValue, Scale, Value, read_moment
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

ABSENT = "absent"


UNKNOWN = "unknown"


class Waiver(msgspec.Struct, frozen=True):
    """One accepted drift. `observed` is what was accepted, in words; empty: whatever it is."""

    of: str
    fact: str
    observed: str
    because: str
    by: str
    since: datetime
    until: datetime
    place: Place

    def applies_to(self, finding: Finding) -> bool:
        """Whether it is about this requirement on this subject."""
        return self.fact == finding.requirement.fact and fnmatchcase(f"{finding.store}/{finding.name}", self.of)


_FIELDS = ("of", "fact", "observed", "because", "by", "since", "until")


def read_waivers(document: str, file: str) -> list[Waiver]:
    """Read a waivers file. Raises `BadInput` with everything that is wrong with it."""
    root = read_nodes(document, file)
    complaints = ProblemList()
    reader = FieldReader(complaints)
    top = reader.fields(root, ("waivers",), "the waivers file")
    node = top.get("waivers")
    if node is not None and node.items is None and node.text != "":
        complaints.add(f"waivers must be a list, and is {node.kind}", node.place)
    waivers = [_waiver(reader, item) for item in (node.items or () if node else ())]
    complaints.settle()
    return [waiver for waiver in waivers if waiver is not None]


def _waiver(reader: FieldReader, node: Node) -> Waiver | None:
    before = len(reader.complaints.complaints)
    fields = reader.fields(node, _FIELDS, "a waiver")
    for name in _FIELDS:
        if node.fields is not None and name not in fields and name != "observed":
            reader.complaints.add(
                f'a waiver needs "{name}"', node.place, "a waiver has a reason, a role and an end date"
            )
    text = {name: reader.text(fields.get(name), name) for name in _FIELDS}
    moments = {}
    for name in ("since", "until"):
        try:
            moments[name] = read_moment(text[name]) if text[name] else None
        except InvalidValue as error:
            reader.complaints.add(f"{name}: {error}", fields[name].place)
    try:
        scale = lookup(text["fact"]).scale if text["fact"] else None
        if scale is not None and text["observed"] not in ("", UNKNOWN) and lookup(text["fact"]).subject != "object":
            read_observed(scale, text["observed"])
    except UnknownFact as error:
        reader.complaints.add(f'unknown fact "{text["fact"]}"', fields["fact"].place, error.hint)
    except InvalidValue as error:
        remedy = "what the audit shows as observed; or unknown, to accept that it is not known"
        reader.complaints.add(f"observed: {error}", fields["observed"].place, remedy)
    since, until = moments.get("since"), moments.get("until")
    if since and until and until <= since:
        reader.complaints.add("it ends before it begins", fields["until"].place)
    if len(reader.complaints.complaints) > before or since is None or until is None:
        return None
    return Waiver(text["of"], text["fact"], text["observed"], text["because"], text["by"], since, until, node.place)


def read_observed(scale: Scale, words: str) -> Value | None:
    """A value as a waiver writes it; None for absent."""
    return None if words == ABSENT else scale.read(words.removeprefix("at least "))
