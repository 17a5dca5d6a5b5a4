"""A team's own examples of its baseline: "a bucket like this must drift on that". A baseline is code, and is tested.

examples:
  - example: a payroll bucket that anyone may read
    store: harbour                  # optional
    bucket:                         # in dossier form, as for `lantern try`
      name: payroll-2027
      tags: {class: personal}
      grants: [{to: anyone, permission: read}]
    drifts: [exposure.list]         # exactly these; add `also: allowed` if others may
    holds: [exposure.write]
    unknown: []
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.baseline.evaluation import Cascade, Finding, evaluate
from rusty_lantern.core.baseline.finding_words import observed_words
from rusty_lantern.core.baseline.loader import Baseline, in_force
from rusty_lantern.core.baseline.selectors import Subject
from rusty_lantern.core.config.declared_bucket import declared
from rusty_lantern.core.errors import Place, ProblemList, nearest
from rusty_lantern.core.facts.registry import UnknownFact, lookup
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

_FIELDS = ("example", "store", "bucket", "as-of", "drifts", "holds", "unknown", "also")


class Example(msgspec.Struct, frozen=True):
    """One example: a bucket, and what must come of judging it."""

    name: str
    place: Place
    store: str
    bucket: Bucket
    drifts: tuple[Node, ...] | None
    holds: tuple[Node, ...]
    unknown: tuple[Node, ...]
    others: bool
    """Whether it may drift on more than is named."""


class Outcome(msgspec.Struct, frozen=True):
    """How an example went: what is not as it says, with places; empty where all is."""

    example: Example
    wrong: tuple[tuple[Place, str], ...]


def read_examples(document: str, file: str) -> list[Example]:
    """Read a file of examples. Raises `BadInput` with everything that is wrong with it."""
    complaints = ProblemList()
    reader = FieldReader(complaints)
    root = read_nodes(document, file)
    top = reader.fields(root, ("examples",), "the file of examples")
    node = top.get("examples")
    if node is None or not node.items:
        complaints.add("there are no examples", node.place if node else root.place, "{example, bucket, drifts}")
    examples = [_example(reader, item) for item in (node.items or () if node else ())]
    complaints.settle()
    return [example for example in examples if example is not None]


def _example(reader: FieldReader, node: Node) -> Example | None:
    fields = reader.fields(node, _FIELDS, "an example")
    if node.fields is None:
        return None
    name = reader.text(fields.get("example"), "example")
    if not name:
        reader.complaints.add("an example needs a name", node.place, "example: what it shows")
    if "bucket" not in fields:
        reader.complaints.add(f'the example "{name}" has no bucket', node.place)
        return None
    bucket = declared(fields["bucket"], reader.complaints)
    also = reader.choice(fields.get("also"), "also", ("allowed", "not"), "not")
    lists = {part: tuple(reader.texts(fields.get(part), part)) for part in ("drifts", "holds", "unknown")}
    for fact in (mark for marks in lists.values() for mark in marks):
        try:
            lookup(fact.text or "")
        except UnknownFact as error:
            reader.complaints.add(f'unknown fact "{fact.text}"', fact.place, error.hint)
    return Example(
        name,
        node.place,
        reader.text(fields.get("store"), "store", bucket.store or "any-store"),
        bucket.whole(),
        lists["drifts"] if "drifts" in fields else None,
        lists["holds"],
        lists["unknown"],
        also == "allowed",
    )


def run(baseline: Baseline, examples: Sequence[tuple[Example, Subject]], moment: datetime) -> list[Outcome]:
    """Judge every example, by the subject that its bucket is."""
    cascade = Cascade(in_force(baseline, moment))
    return [_outcome(cascade, example, subject) for example, subject in examples]


def _outcome(cascade: Cascade, example: Example, subject: Subject) -> Outcome:
    judged = {j.requirement.fact: j for j in evaluate(cascade, subject)}
    wrong: list[tuple[Place, str]] = []
    for status, marks in (("drift", example.drifts or ()), ("ok", example.holds), ("unknown", example.unknown)):
        for mark in marks:
            finding = judged.get(mark.text or "")
            if finding is None:
                why = nearest(mark.text or "", judged) or "no sheet that applies to this bucket requires it"
                wrong.append((mark.place, f"{mark.text} is not required of it: {why}"))
            elif finding.status != status:
                wrong.append((mark.place, _otherwise(finding, status)))
    if example.drifts is not None and not example.others:
        named = {mark.text for mark in example.drifts}
        for fact, finding in judged.items():
            if finding.status == "drift" and fact not in named:
                wrong.append((example.place, f"{_otherwise(finding, 'ok')}; add it to `drifts`, or `also: allowed`"))
    return Outcome(example, tuple(wrong))


def _otherwise(finding: Finding, expected: str) -> str:
    required = finding.requirement.comparison.words if finding.requirement.comparison else "anything"
    why = f" ({finding.reason})" if finding.reason else ""
    place = finding.requirement.place
    return (
        f"{finding.requirement.fact} is {finding.status}, expected {expected}: it is {observed_words(finding)}{why}, "
        f"required {required} at {place}"
    )
