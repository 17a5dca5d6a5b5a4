"""The report as data: what its page, its tables and its files are all made of.

For three readers in order: what a manager has to know on one screen, what the administrator does next, what an auditor
wants to see again.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import chain

import msgspec

from rusty_lantern import __version__
from rusty_lantern.archive.chain import HistoryEntry
from rusty_lantern.archive.surveys import Survey
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import read_otherwise
from rusty_lantern.core.audit.public_buckets import WORST_FIRST, required_of
from rusty_lantern.core.baseline.evaluation import STATUSES, Finding, Key, Status
from rusty_lantern.core.baseline.loader import SEVERITIES, Baseline, Requirement
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.registry import AREAS, Area, lookup
from rusty_lantern.core.history.drift_changes import DriftTurns
from rusty_lantern.core.history.drift_history import DriftStarts
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.remedy import Remedy
from rusty_lantern.reports.results.audit import AuditResult, FindingResult, audit_result, finding_result
from rusty_lantern.reports.results.facts import required_words


class PublicAccess(msgspec.Struct, frozen=True, kw_only=True):
    """A bucket that the public gets into: by which verb, how far, by which rule, and a request that would pass."""

    store: str
    bucket: str
    audience: str
    verb: Verb
    level: str
    because: str
    request: str
    bytes: int | None
    required: str
    """Whether the baseline wants it so: `drift`, `waived`, `unknown`, `nothing required` or `as required`."""


class Task(msgspec.Struct, frozen=True, kw_only=True):
    """One thing to do: what, and all the drift that it puts right."""

    words: str
    severity: str
    documents: int
    drift: list[FindingResult]


class Cell(msgspec.Struct, frozen=True, kw_only=True):
    """The state of one bucket in one area: the worst of its requirements there."""

    area: str
    status: str
    severity: str
    count: int


class BucketLine(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket at a glance."""

    store: str
    bucket: str
    steward: str
    cells: list[Cell]


class SurveyLine(msgspec.Struct, frozen=True, kw_only=True):
    """A saved survey: its hash, and whether it is as it was written."""

    survey: str
    sha256: str
    integrity_errors: str


class RequirementCount(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement of the baseline, and how many subjects have each status."""

    line: str
    sheet: str
    fact: str
    required: str
    ok: int
    drift: int
    waived: int
    unknown: int


class ReportResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern report`: everything that is in it."""

    tool: str
    estate: str
    audit: AuditResult
    only_for: str
    """The extract that was asked for, `FACT=VALUE`; empty: the whole."""
    maybe_for: list[str]
    """Buckets that may belong to the extract, and are not in it: that fact of them is unknown."""
    public_access: list[PublicAccess]
    tasks: list[Task]
    areas: list[str]
    buckets_by_area: list[BucketLine]
    requirements: list[RequirementCount]
    """Every requirement that applies to something, in the order of the baseline."""
    ok: list[FindingResult]
    """Empty where the tables beside the page were not asked for."""
    surveys: list[SurveyLine]


def report_result(
    survey: Survey,
    estate: str,
    moment: datetime,
    baseline: Baseline,
    judged: Audit,
    views: Sequence[BucketSubject],
    since: DriftStarts,
    remedies: Sequence[tuple[Remedy, Sequence[Key]]],
    kept: Sequence[HistoryEntry],
    turned: DriftTurns | None,
    only_for: str = "",
    maybe_for: Sequence[str] = (),
    *,
    whole: bool = True,
) -> ReportResult:
    """Put the report together. `remedies`: each with the drift that it is for; `whole`: also list what is ok, which the
    page only counts."""
    audit = audit_result(survey, moment, baseline, judged, since, turned)
    return ReportResult(
        tool=f"rusty-lantern {__version__}",
        estate=estate,
        audit=audit,
        only_for=only_for,
        maybe_for=list(maybe_for),
        public_access=_public_access(views, judged),
        tasks=_tasks(audit, remedies),
        areas=list(AREAS),
        buckets_by_area=list(_by_area(views, judged)),
        requirements=_requirements(judged),
        ok=[finding_result(j) for j in judged.of("ok")] if whole else [],
        surveys=[SurveyLine(survey=one.name, sha256=one.digest, integrity_errors=one.wrong) for one in kept],
    )


def _requirements(judged: Audit) -> list[RequirementCount]:
    counts: dict[tuple[Place, str, str], Counter[Status]] = {}
    required: dict[tuple[Place, str, str], Requirement] = {}
    every: Iterable[tuple[Requirement, Status, int]] = chain(
        ((finding.requirement, finding.status, 1) for finding in judged.findings),
        ((requirement, "ok", number) for requirement, number in judged.met.by_requirement()),
    )
    for requirement, status, number in every:
        key = (requirement.place, requirement.sheet, requirement.fact)
        required[key] = requirement
        counts.setdefault(key, Counter())[status] += number
    return [
        RequirementCount(
            line=str(place), sheet=sheet, fact=fact, required=required_words(required[place, sheet, fact]),
            ok=numbers["ok"], drift=numbers["drift"], waived=numbers["waived"], unknown=numbers["unknown"],
        )
        for (place, sheet, fact), numbers in sorted(counts.items(), key=lambda one: _by_line(*one[0]))
    ]  # fmt: skip


def _by_line(place: Place, sheet: str, fact: str) -> tuple[str, int, str]:
    return place.file, place.line, fact


def _public_access(views: Sequence[BucketSubject], judged: Audit) -> list[PublicAccess]:
    """Every door that is not closed to the public: the widest audience of each verb, worst first."""
    doors = []
    for view in views:
        wide = {verb for level in ("open", "restricted") for verb in view.levels.get(level, ())}
        if not wide:
            continue
        other_ways = [one.changes.items() for one in read_otherwise(view) if one.of_store]
        own_way = {place: other for changes in other_ways for place, (_, other) in changes}
        for verb in (verb for verb in VERBS if verb in wide):
            levels = {audience: view.verdicts[audience, verb] for audience in AUDIENCES}
            by_level = {levels[audience].level: audience for audience in reversed(AUDIENCES)}
            audience = by_level["open" if "open" in by_level else "restricted"]
            verdict, store, bucket = levels[audience], view.dossier.store, view.bucket.name
            other = own_way.get(f"{audience}.{verb}")
            otherwise = f", as this store reads it; {other} by the common reading" if other else ""
            unsure = f"; by {AUDIENCES[0]}: unknown" if levels[AUDIENCES[0]].level == "unknown" else ""
            doors.append(
                PublicAccess(
                    store=store, bucket=bucket, audience=audience, verb=verb, level=verdict.level,
                    because=verdict.because + otherwise + unsure,
                    request=verdict.witness.request if verdict.witness else "",
                    bytes=view.bucket.usage.value.bytes if view.bucket.usage.value else None,
                    required=_required(judged.scope.on_public.get((store, bucket), {}), verb),
                )
            )  # fmt: skip

    def how_bad(one: PublicAccess) -> tuple[object, ...]:
        return _REQUIRED.index(one.required), one.level != "open", WORST_FIRST.index(one.verb), one.store, one.bucket

    return sorted(doors, key=how_bad)


_REQUIRED = ("drift", "nothing required", "unknown", "waived", "as required")


def _required(statuses: Mapping[str, Status], verb: Verb) -> str:
    return {None: "nothing required", "ok": "as required"}.get(status := required_of(statuses, verb), str(status))


def _tasks(audit: AuditResult, remedies: Sequence[tuple[Remedy, Sequence[Key]]]) -> list[Task]:
    """Drift grouped by what puts it right, in the order of the audit: the worst, and what reaches furthest, first."""
    by_key = {(d.store, d.subject, d.name, d.fact): d for d in audit.drift}
    groups: dict[str, list[FindingResult]] = {}
    documents: Counter[str] = Counter()
    for remedy, keys in remedies:
        groups.setdefault(remedy.words, []).extend(by_key[key] for key in keys if key in by_key)
        documents[remedy.words] += len(remedy.documents)
    tasks = [
        Task(
            words=words,
            severity=min((d.severity for d in drift), key=_severity),
            documents=documents[words],
            drift=drift,
        )
        for words, drift in groups.items()
        if drift
    ]
    places = {id(one): place for place, one in enumerate(audit.drift)}
    return sorted(tasks, key=lambda task: min(places[id(one)] for one in task.drift))


_RANKS = {str(severity): rank for rank, severity in enumerate(SEVERITIES)}


def _severity(word: str) -> int:
    return _RANKS[word]


def _by_area(views: Sequence[BucketSubject], judged: Audit) -> Iterator[BucketLine]:
    mine: dict[tuple[str, str], dict[Area, list[Finding]]] = {}
    buckets = [finding for finding in judged.findings if finding.kind == "bucket"]
    areas = {fact: lookup(fact).area for fact in {finding.requirement.fact for finding in buckets}}
    for finding in buckets:
        by_area = mine.setdefault((finding.store, finding.name), {})
        by_area.setdefault(areas[finding.requirement.fact], []).append(finding)
    for view in views:
        by_area = mine.get((view.store, view.name), {})
        steward = view.fact("tags.steward").value
        cells = [_cell(area, by_area.get(area, [])) for area in AREAS]
        yield BucketLine(store=view.store, bucket=view.name, steward=str(steward or ""), cells=cells)


def _cell(area: Area, findings: Sequence[Finding]) -> Cell:
    for status in ("drift", "unknown", "waived"):
        here = [finding.requirement.severity for finding in findings if finding.status == status]
        if here:
            return Cell(area=area, status=status, severity=min(here, key=_severity), count=len(here))
    return Cell(area=area, status="ok", severity="", count=0)


def rows_of(result: ReportResult) -> list[dict[str, object]]:
    """Every requirement on every subject, as flat rows: what the tables beside the page hold."""
    audit = result.audit
    groups = {"drift": audit.drift, "unknown": audit.unknown, "waived": audit.waived, "ok": result.ok}
    return [
        {
            "status": status, "severity": one.severity, "store": one.store, "subject": one.subject, "name": one.name,
            "fact": one.fact, "required": one.required, "observed": one.observed,
            "since": one.since, "reason": one.reason or one.note, "because": one.because, "remedy": one.remedy,
            "sheet": one.sheet, "line": one.line, "question": one.evidence.question, "answer": one.evidence.answer,
        }
        for status in STATUSES
        for one in sorted(groups[status], key=lambda o: (_severity(o.severity), o.store, o.name, o.fact))
    ]  # fmt: skip
