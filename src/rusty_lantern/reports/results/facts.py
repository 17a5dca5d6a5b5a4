"""The facts of one bucket as a result, and how results are written as JSON."""

from __future__ import annotations

import re
from datetime import datetime

import msgspec

from rusty_lantern.archive.surveys import Survey
from rusty_lantern.core.answer import Evidence, Fact
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.evaluation import Finding, required_of
from rusty_lantern.core.baseline.finding_words import MOST_NAMES, observed_words, show_fact
from rusty_lantern.core.baseline.loader import Baseline, Requirement
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_sets import NAMES
from rusty_lantern.core.value_types import show_moment, show_names

Value = str | int | None
"""A fact's value in JSON: a moment is ISO 8601 text, a quantity a whole number of the register's unit."""


class FactResult(msgspec.Struct, frozen=True, kw_only=True):
    """A fact: its state, its value in the register's unit, the same in words, a note, and the evidence."""

    fact: str
    state: str
    value: Value
    unit: str
    words: str
    note: str
    evidence: Evidence


class RequiredResult(msgspec.Struct, frozen=True, kw_only=True):
    """A requirement in force on a bucket, its place, and how it was judged."""

    fact: str
    required: str
    severity: str
    because: str
    sheet: str
    line: str
    overrides: list[str]
    status: str
    observed: str
    note: str


class ShowResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern show --json`."""

    survey: str
    as_of: datetime
    store: str
    bucket: str
    facts: list[FactResult]
    required: list[RequiredResult] | None


_MOVING = re.compile("[\x7f-\x9f\u2028-\u202e\u2066-\u2069]")
"""What JSON leaves as it is, and a terminal would obey."""


def encode(result: msgspec.Struct) -> str:
    """A result as indented JSON text, safe to show on a terminal too."""
    written = msgspec.json.format(msgspec.json.encode(result), indent=2).decode()
    return _MOVING.sub(lambda sign: f"\\u{ord(sign[0]):04x}", written)


def as_json(fact: Fact) -> Value:
    """A fact's value as JSON has it."""
    return show_moment(fact.value) if isinstance(fact.value, datetime) else fact.value


def fact_result(name: str, fact: Fact) -> FactResult:
    """A fact as a result."""
    words, unit = _words(name, fact), lookup(name).unit
    note = fact.reason or fact.note
    return FactResult(
        fact=name, state=fact.state, value=as_json(fact), unit=unit, words=words, note=note, evidence=fact.evidence
    )


def _words(name: str, fact: Fact) -> str:
    """A fact in words; of many names, the first."""
    names = sorted(NAMES.members(fact.value)) if lookup(name).scale == NAMES and fact.value else []
    return show_names(names, MOST_NAMES) if len(names) > MOST_NAMES else show_fact(name, fact)


def show_result(
    survey: Survey, view: BucketSubject, findings: list[Finding] | None, baseline: Baseline | None
) -> ShowResult:
    """Everything about one bucket; with a baseline, what it requires too."""
    required = None
    if findings is not None and baseline is not None:
        displaced = {r.requirement.place: r.displaced for r in required_of(baseline, view)}
        required = [
            RequiredResult(
                fact=j.requirement.fact,
                required=required_words(j.requirement),
                severity=j.requirement.severity,
                because=j.requirement.because,
                sheet=j.requirement.sheet,
                line=str(j.requirement.place),
                overrides=[f"{d.sheet}, {d.place}" for d in displaced[j.requirement.place]],
                status=j.status,
                observed=observed_words(j),
                note=j.reason or j.observed.note,
            )
            for j in findings
        ]
    return ShowResult(
        survey=survey.name,
        as_of=view.moment,
        store=view.dossier.store,
        bucket=view.bucket.name,
        facts=[fact_result(name, fact) for name, fact in view.facts().items()],
        required=required,
    )


def required_words(requirement: Requirement) -> str:
    """What is required, in words."""
    return requirement.comparison.words if requirement.comparison else "anything"
