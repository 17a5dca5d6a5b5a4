"""Judging: each requirement that applies to a bucket, compared with what was observed.

`unknown` is never `ok`: a requirement whose fact has no settled answer, or whose sheet may or may not apply to the
bucket, is unknown with its reason, and is counted wherever drift is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import UNSETTLED, Answer, Fact, Partly, lost
from rusty_lantern.core.baseline.comparisons import Comparison
from rusty_lantern.core.baseline.loader import Baseline, Requirement
from rusty_lantern.core.baseline.selectors import All, Match, Subject
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.objects import needs_old_versions
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.model.bucket_contents import Table
from rusty_lantern.core.object_rules.sampling import bound
from rusty_lantern.core.object_rules.tally import Tally, tally_words
from rusty_lantern.core.value_types import Value

Status = Literal["ok", "drift", "waived", "unknown"]
STATUSES: tuple[Status, ...] = ("ok", "drift", "waived", "unknown")
Key = tuple[str, str, str, str]
"""What a finding is about: store, kind of subject, its name, fact."""


class RequirementInForce(msgspec.Struct, frozen=True):
    """A requirement in force on a bucket, and what it displaced. `sure`: whether its sheet certainly applies."""

    requirement: Requirement
    sure: bool = True
    hangs_on: str = ""
    """What it hangs on whether its sheet applies, where that is not sure."""
    displaced: tuple[Requirement, ...] = ()
    of_objects: bool = False
    """Whether it is judged on each object."""


class Weight(msgspec.Struct, frozen=True, order=True):
    """How far a drift reaches: what comes first within a severity has the greater weight."""

    sensitive: bool = False
    """Whether the baseline calls what is in the bucket sensitive."""
    audience: int = 0
    """How far the public gets in: 0 not at all, 1 through a restriction, 2 from everywhere."""
    verbs: int = 0
    """How many verbs the public may use."""
    bytes: int = 0


NO_WEIGHT = Weight()


class Finding(msgspec.Struct, frozen=True, gc=False):
    """One requirement on one subject: what was asked, what was seen, and what follows."""

    store: str
    name: str
    """The bucket's name, or how another subject is called."""
    requirement: Requirement
    observed: Fact
    status: Status
    reason: str = ""
    tally: Tally | None = None
    """For a requirement on objects: how many versions it held for."""
    confidence: float = 0.95
    """With what confidence a bound is stated, where only a sample was looked at."""
    kind: str = "bucket"
    weight: Weight = NO_WEIGHT
    """Of what drifts."""

    @property
    def key(self) -> Key:
        """What it is about."""
        return self.store, self.kind, self.name, self.requirement.fact


def required_of(baseline: Baseline, subject: Subject, promised: Sequence[Requirement] = ()) -> list[RequirementInForce]:
    """The requirements in force on a subject, after the cascade, in the order in which facts were first required.

    `promised`: what is asked of it without any sheet; sheets override it.
    """
    force: dict[str, list[RequirementInForce]] = {r.fact: [RequirementInForce(r)] for r in promised}
    for sheet in baseline.sheets:
        fits, hangs_on = sheet.of.match(subject)
        if fits is False:
            continue
        for requirement in sheet.require:
            if requirement.applies_to != subject.kind:
                continue
            earlier = force.get(requirement.fact, [])
            displaced = tuple(r.requirement for r in earlier)
            of_objects = lookup(requirement.fact).subject == "object"
            mine = RequirementInForce(requirement, bool(fits), hangs_on, displaced, of_objects)
            force[requirement.fact] = [mine] if fits else [*earlier, mine]
    return [required for stack in force.values() for required in stack if required.requirement.comparison is not None]


class Cascade:
    """A baseline whose cascade is worked out once for all subjects that the same sheets apply to."""

    def __init__(self, baseline: Baseline) -> None:
        self.baseline = baseline
        self._by_kind: dict[str, tuple[Baseline, list[All]]] = {}
        self._known: dict[tuple[str, tuple[Match, ...]], list[RequirementInForce]] = {}

    def required_of(self, subject: Subject, promised: tuple[Requirement, ...] = ()) -> list[RequirementInForce]:
        """The requirements in force on a subject."""
        baseline, choices = self._of_kind(subject.kind)
        if promised:
            return required_of(baseline, subject, promised)
        key = (subject.kind, tuple([choice.match(subject) for choice in choices]))
        if key not in self._known:
            self._known[key] = required_of(baseline, subject)
        return self._known[key]

    def _of_kind(self, kind: str) -> tuple[Baseline, list[All]]:
        """The baseline, but for sheets that require nothing of subjects of this kind; and what its sheets choose by,
        but for those that choose everything."""
        if kind not in self._by_kind:
            sheets = [s for s in self.baseline.sheets if any(r.applies_to == kind for r in s.require)]
            choices = [sheet.of for sheet in sheets if sheet.of.parts]
            self._by_kind[kind] = msgspec.structs.replace(self.baseline, sheets=sheets), choices
        return self._by_kind[kind]


Tallies = Mapping[tuple[str, str], Mapping[Place, Tally]]
"""Store and bucket → the counts of each requirement on its objects, by its place, over the bucket's version table."""


class Weights(dict[str, Weight]):
    """Name of a subject → how far whatever drifts on it reaches. What is no bucket has no weight."""

    def __missing__(self, name: str) -> Weight:
        return NO_WEIGHT


def evaluate(
    cascade: Cascade,
    subject: Subject,
    tallies: Tallies = MappingProxyType({}),
    promised: tuple[Requirement, ...] = (),
    weights: Weights | None = None,
) -> list[Finding]:
    """Every requirement in force on a subject, held against its facts; those on objects, against its tallies."""
    reach = Weights() if weights is None else weights
    return [
        finding
        for required in cascade.required_of(subject, promised)
        for finding in _findings(required, subject, reach, tallies)
    ]


def _findings(required: RequirementInForce, subject: Subject, weights: Weights, tallies: Tallies) -> list[Finding]:
    if not required.of_objects:
        return [_finding(required, subject, subject.fact(required.requirement.fact), weights)]
    if not subject.table.settled:
        return [_finding(required, subject, lost(subject.table), weights)]
    mine = tallies.get((subject.store, subject.name), {}).get(required.requirement.place, Tally(unknown=1))
    return _of_objects(required, subject, weights, mine)


def _finding(required: RequirementInForce, subject: Subject, fact: Fact, weights: Weights) -> Finding:
    status, reason = _status(required, fact)
    name, kind = subject.label, subject.kind
    weight = weights[name] if status == "drift" else NO_WEIGHT
    return Finding(subject.store, name, required.requirement, fact, status, reason, None, 0.95, kind, weight)


class JudgedAlike(msgspec.Struct):
    """One requirement on subjects that it is in force on alike: the findings, and the names of those that are ok
    without one."""

    requirement: Requirement
    findings: list[Finding]
    ok: list[str]


def evaluate_alike(
    in_force: Sequence[RequirementInForce],
    subjects: Sequence[Subject],
    facts_of: Callable[[str], Sequence[Fact]],
    weights: Weights,
    tallies: Tallies = MappingProxyType({}),
) -> Iterator[JudgedAlike]:
    """The same as `evaluate`, for subjects of one store and kind that the same requirements are in force on: one
    requirement after the other.

    `facts_of`: the facts of a name, of all these subjects in their order.
    """
    names = [subject.label for subject in subjects]
    for required in in_force:
        requirement = required.requirement
        if required.of_objects:
            findings = [one for subject in subjects for one in _findings(required, subject, weights, tallies)]
            yield JudgedAlike(requirement, findings, [])
        else:
            yield _judge(required, subjects, names, facts_of(requirement.fact), weights)


def _judge(
    required: RequirementInForce,
    subjects: Sequence[Subject],
    names: Sequence[str],
    facts: Sequence[Fact],
    weights: Weights,
) -> JudgedAlike:
    """Sort subjects into those that are ok and those that there is something to say of. The loop is the work of an
    audit: each value is compared once, and what is known and accepted costs nothing more."""
    requirement = required.requirement
    judged = JudgedAlike(requirement, [], [])
    met, missed, accepted = judged.ok.append, judged.findings.append, _Accepted(requirement.comparison)
    store, kind, not_accepted = subjects[0].store, subjects[0].kind, _not_accepted(required)
    for name, fact in zip(names, facts, strict=True):
        value = fact.value
        if value is not None and fact.state == "known":
            if accepted[value]:
                met(name)
                continue
            status, reason = not_accepted
        else:
            status, reason = _status(required, fact)
            if status == "ok":
                met(name)
                continue
        weight = weights[name] if status == "drift" else NO_WEIGHT
        missed(Finding(store, name, requirement, fact, status, reason, None, 0.95, kind, weight))
    return judged


class _Accepted(dict[Value, bool]):
    """Value → whether a comparison accepts it; found out once a value."""

    def __init__(self, comparison: Comparison | None) -> None:
        super().__init__()
        self.comparison = comparison

    def __missing__(self, value: Value) -> bool:
        accepted = self[value] = self.comparison is not None and self.comparison.accepts(value)
        return accepted


def _of_objects(required: RequirementInForce, subject: Subject, weights: Weights, tally: Tally) -> list[Finding]:
    """The finding from a tally; none where the requirement applies to no version."""
    left_out = subject.left_out if needs_old_versions(required.requirement.fact) else ""
    if not tally.applies and not left_out:
        return []
    table = subject.table
    status, reason = _of_tally(required.requirement, tally, table.value, left_out)
    if status == "drift" and not required.sure:
        status, reason = "unknown", f"whether the sheet applies depends on {required.hangs_on}"
    note = f"first: {', '.join(tally.first)}" if tally.examples else ""
    evidence = subject.old_versions.evidence if left_out and status == "unknown" else table.evidence
    fact: Fact = Answer("known", None, note, evidence)
    confidence = table.value.confidence if table.value else 0.95
    name = subject.label
    weight = weights[name] if status == "drift" else NO_WEIGHT
    return [Finding(subject.store, name, required.requirement, fact, status, reason, tally, confidence, weight=weight)]


def _of_tally(requirement: Requirement, tally: Tally, table: Table | None, left_out: str) -> tuple[Status, str]:
    if tally.failed:
        return "drift", ""
    if left_out:
        return "unknown", left_out
    if tally.unseen:
        return "unknown", f"{tally.unseen:,} of {tally.applies:,} versions could not be inspected, or do not say"
    if not tally.unsampled:
        return "ok", ""
    confidence = table.confidence if table else 0.95
    if tally.checked and bound(0, tally.checked, confidence)[1] <= requirement.in_a_sample:
        return "ok", ""
    return "unknown", f"only a sample was inspected: {tally_words(tally, confidence)}"


def _status(required: RequirementInForce, fact: Fact) -> tuple[Status, str]:
    comparison = required.requirement.comparison
    assert comparison is not None
    if fact.state in UNSETTLED:
        return _of_part(required, comparison, fact) if isinstance(fact, Partly) else ("unknown", fact.reason)
    return ("ok", "") if comparison.holds(fact) else _not_accepted(required)


def _not_accepted(required: RequirementInForce) -> tuple[Status, str]:
    """The status where what was seen does not satisfy the requirement."""
    if not required.sure:
        return "unknown", f"whether the sheet applies depends on {required.hangs_on}"
    return "drift", ""


def _of_part(required: RequirementInForce, comparison: Comparison, fact: Partly[Any]) -> tuple[Status, str]:
    """What a part of a fact settles already: what it breaks is broken, and what holds of each possible value holds."""
    held = {comparison.holds(Answer("known", value)) for value in fact.among}
    if held == {True}:
        return "ok", ""
    broken = held == {False} or (fact.certain is not None and comparison.broken_by(fact.certain))
    return ("drift" if broken and required.sure else "unknown"), fact.reason
