"""The results that `--json` prints: typed, stable, with published JSON Schemas (`docs/schemas/`).

Each is built from the core's own objects by one function; nothing here judges.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from datetime import datetime

import msgspec

from rusty_lantern.archive.surveys import Survey
from rusty_lantern.core.access.verbs import VERBS
from rusty_lantern.core.advice import advice
from rusty_lantern.core.assess import Audit, BucketView
from rusty_lantern.core.baseline.choosing import spoken
from rusty_lantern.core.baseline.judge import STATUSES, Judgement, observed_words, required_of, show_fact, tally_words
from rusty_lantern.core.baseline.sheets import SEVERITIES, Baseline
from rusty_lantern.core.evidence import Evidence
from rusty_lantern.core.facts import Fact, lookup
from rusty_lantern.core.sampling import bound
from rusty_lantern.core.scales import show_moment
from rusty_lantern.core.standings import Key, Since, key_of
from rusty_lantern.core.tally import Tally
from rusty_lantern.core.waivers import Waived

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
    """A requirement in force on a bucket, where it stands, and how it was judged."""

    fact: str
    required: str
    severity: str
    because: str
    sheet: str
    place: str
    displaced: list[str]
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


class BucketRow(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket of `lantern buckets --json`. A value of null comes with its reason in `unknown`."""

    store: str
    bucket: str
    place: Value
    created: Value
    objects: Value
    bytes: Value
    exposure: dict[str, str]
    """Verb → the widest verdict, for verbs that are not closed."""
    versioning: Value
    encryption: Value
    lock: str
    steward: Value
    unknown: dict[str, str]


class BucketsResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern buckets --json`."""

    survey: str
    as_of: datetime
    buckets: list[BucketRow]
    total_objects: int
    total_bytes: int
    complete: bool
    """Whether every bucket's objects and bytes are known; if not, the totals are lower bounds."""
    unread: list[str]


class TallyResult(msgspec.Struct, frozen=True, kw_only=True):
    """A requirement on objects, counted: versions checked, held, drifted, unknown; where only a sample was looked at,
    `at_least` and `at_most` bound the share that drifted, at that confidence."""

    checked: int
    held: int
    drifted: int
    unknown: int
    unsampled: int
    """Of the unknown, those that only the sample left out."""
    drifted_bytes: int
    examples: list[str]
    sampled: bool
    at_least: float | None = None
    at_most: float | None = None
    confidence: float | None = None
    words: str = ""


class JudgementResult(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement that did not simply hold. `subject` says what kind of thing `name` is."""

    store: str
    subject: str
    name: str
    bucket: str
    """The same as `name` where the subject is a bucket, otherwise empty."""
    fact: str
    required: str
    observed: str
    value: Value
    note: str
    severity: str
    because: str
    remedy: str
    sheet: str
    place: str
    reason: str
    evidence: Evidence
    objects: TallyResult | None = None
    since: datetime | None = None
    """When the first survey was taken of the unbroken row in which it drifted; null for what did not drift."""
    since_or_before: bool = False
    """Whether it may have drifted before that: earlier surveys were not judged by this baseline."""
    reach: ReachResult | None = None


class ReachResult(msgspec.Struct, frozen=True, kw_only=True):
    """How far drift on a bucket reaches; within a severity, what reaches further comes first."""

    sensitive: bool
    public: str
    """How far the public gets into the bucket by any verb: closed, narrow or open."""
    verbs: int
    bytes: int


class AuditResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern audit --json`."""

    survey: str
    taken: datetime
    as_of: datetime
    baseline: str
    edition: str
    buckets: int
    only: list[str]
    """STORE/BUCKET patterns, where the survey was limited to them."""
    counts: dict[str, int]
    drift_by_severity: dict[str, int]
    held: dict[str, int]
    """Store → how many requirements held."""
    drift: list[JudgementResult]
    unknown: list[JudgementResult]
    waived: list[JudgementResult]
    """Drift that was accepted; `reason` says until when, by whom and why."""
    waivers: list[WaiverResult]
    unread: dict[str, str]
    """Stores whose buckets could not be listed, and why."""
    notes: list[str]


class WaiverResult(msgspec.Struct, frozen=True, kw_only=True):
    """How one waiver stands: `in force`, `ends soon`, `ended`, `not yet`, `too long`, or `unused`."""

    of: str
    fact: str
    observed: str
    because: str
    by: str
    since: datetime
    until: datetime
    place: str
    standing: str
    covers: int


_MOVING = re.compile("[\x7f-\x9f\u2028-\u202e\u2066-\u2069]")
"""What JSON lets stand as it is, and a terminal would obey."""


def encode(result: msgspec.Struct) -> str:
    """A result as indented JSON text, safe to show on a terminal too."""
    written = msgspec.json.format(msgspec.json.encode(result), indent=2).decode()
    return _MOVING.sub(lambda found: f"\\u{ord(found[0]):04x}", written)


def _json(fact: Fact) -> Value:
    return show_moment(fact.value) if isinstance(fact.value, datetime) else fact.value


def fact_result(name: str, fact: Fact) -> FactResult:
    """A fact as a result."""
    words, unit = show_fact(name, fact), lookup(name).unit
    note = fact.reason or fact.note
    return FactResult(
        fact=name, state=fact.state, value=_json(fact), unit=unit, words=words, note=note, evidence=fact.evidence
    )


def show_result(
    survey: Survey, view: BucketView, judgements: list[Judgement] | None, baseline: Baseline | None
) -> ShowResult:
    """Everything about one bucket; with a baseline, what it requires too."""
    required = None
    if judgements is not None and baseline is not None:
        displaced = {
            r.requirement.place: r.displaced
            for r in required_of(baseline, spoken(view.dossier.store, view.bucket, view.fact))
        }
        required = [
            RequiredResult(
                fact=j.requirement.fact,
                required=_words(j),
                severity=j.requirement.severity,
                because=j.requirement.because,
                sheet=j.requirement.sheet,
                place=str(j.requirement.place),
                displaced=[f"{d.sheet}, {d.place}" for d in displaced[j.requirement.place]],
                status=j.status,
                observed=observed_words(j),
                note=j.reason or j.observed.note,
            )
            for j in judgements
        ]
    return ShowResult(
        survey=survey.name,
        as_of=view.moment,
        store=view.dossier.store,
        bucket=view.bucket.name,
        facts=[fact_result(name, fact) for name, fact in view.facts().items()],
        required=required,
    )


def _words(judgement: Judgement) -> str:
    comparison = judgement.requirement.comparison
    return comparison.words if comparison else "anything"


def bucket_row(view: BucketView) -> BucketRow:
    """One line of `buckets`."""
    names = (
        "place",
        "created",
        "objects",
        "bytes",
        "versioning",
        "encryption.at-rest",
        "lock.enabled",
        "tags.steward",
    )
    facts = {name: view.fact(name) for name in names}
    exposed = {verb: view.fact(f"exposure.{verb}") for verb in VERBS}
    unknown = {name: fact.reason for name, fact in facts.items() if not fact.settled}
    unknown |= {f"exposure.{verb}": fact.reason for verb, fact in exposed.items() if not fact.settled}
    return BucketRow(
        store=view.dossier.store,
        bucket=view.bucket.name,
        place=_json(facts["place"]),
        created=_json(facts["created"]),
        objects=_json(facts["objects"]),
        bytes=_json(facts["bytes"]),
        exposure={verb: str(f.value or "unknown") for verb, f in exposed.items() if f.value != "closed"},
        versioning=_json(facts["versioning"]),
        encryption=_json(facts["encryption.at-rest"]),
        lock=_lock_words(view),
        steward=_json(facts["tags.steward"]),
        unknown=unknown,
    )


def _lock_words(view: BucketView) -> str:
    enabled, mode, keep = (view.fact(f"lock.{name}") for name in ("enabled", "mode", "keep"))
    if not enabled.settled:
        return "unknown"
    if enabled.value != "on":
        return "off"
    return (
        f"{mode.value} {lookup('lock.keep').scale.show(keep.value)}" if mode.value and keep.value else "on, no default"
    )


def buckets_result(survey: Survey, moment: datetime, rows: list[BucketRow]) -> BucketsResult:
    """The list of buckets with totals."""
    return BucketsResult(
        survey=survey.name,
        as_of=moment,
        buckets=rows,
        total_objects=sum(row.objects for row in rows if isinstance(row.objects, int)),
        total_bytes=sum(row.bytes for row in rows if isinstance(row.bytes, int)),
        complete=all(isinstance(row.objects, int) for row in rows),
        unread=[d.store for d in survey.dossiers if not d.listing.settled],
    )


def audit_result(
    survey: Survey, moment: datetime, baseline: Baseline, audit: Audit, since: Mapping[Key, Since] | None = None
) -> AuditResult:
    """An audit as a result."""
    begun = since or {}
    counts = audit.counts()
    severities = Counter(j.requirement.severity for j in audit.of("drifted"))
    return AuditResult(
        survey=survey.name,
        taken=survey.manifest.taken,
        as_of=moment,
        baseline=baseline.title,
        edition=baseline.edition,
        buckets=audit.buckets,
        only=survey.manifest.only,
        counts={status: counts[status] for status in STATUSES},
        drift_by_severity={severity: severities[severity] for severity in SEVERITIES},
        held=dict(sorted(Counter(j.store for j in audit.judgements if j.status == "held").items())),
        drift=[judgement_result(j, begun.get(key_of(j))) for j in audit.of("drifted")],
        unknown=[judgement_result(j) for j in audit.of("unknown")],
        waived=[judgement_result(j, begun.get(key_of(j))) for j in audit.of("waived")],
        waivers=[waiver_result(waived) for waived in audit.waivers],
        unread=dict(audit.unread),
        notes=audit.idle_sheets,
    )


def waiver_result(waived: Waived) -> WaiverResult:
    """How a waiver stands, as a result."""
    waiver = waived.waiver
    return WaiverResult(
        of=waiver.of, fact=waiver.fact, observed=waiver.observed, because=waiver.because, by=waiver.by,
        since=waiver.since, until=waiver.until, place=str(waiver.place), standing=waived.standing, covers=waived.covers,
    )  # fmt: skip


def judgement_result(judgement: Judgement, since: Since | None = None) -> JudgementResult:
    """One judgement as a result."""
    requirement, observed = judgement.requirement, judgement.observed
    weight, drifted = judgement.weight, judgement.status == "drifted"
    reach = ReachResult(
        sensitive=weight.sensitive,
        public=("closed", "narrow", "open")[weight.audience],
        verbs=weight.verbs,
        bytes=weight.bytes,
    )
    return JudgementResult(
        store=judgement.store,
        subject=judgement.kind,
        name=judgement.name,
        bucket=judgement.name if judgement.kind == "bucket" else "",
        fact=requirement.fact,
        required=_words(judgement),
        observed=observed_words(judgement),
        value=_json(observed),
        note=observed.note,
        severity=requirement.severity,
        because=requirement.because,
        remedy=requirement.remedy or (advice(judgement) if drifted else ""),
        sheet=requirement.sheet,
        place=str(requirement.place),
        reason=judgement.reason,
        evidence=observed.evidence,
        objects=tally_result(judgement.tally, judgement.confidence) if judgement.tally else None,
        since=since.taken if since else None,
        since_or_before=bool(since and since.or_before),
        reach=reach if drifted and judgement.kind == "bucket" else None,
    )


def tally_result(tally: Tally, confidence: float) -> TallyResult:
    """A tally as a result."""
    sampled = tally.unsampled > 0 and tally.checked > 0
    low, high = bound(tally.drifted, tally.checked, confidence) if sampled else (None, None)
    return TallyResult(
        checked=tally.checked,
        held=tally.held,
        drifted=tally.drifted,
        unknown=tally.unknown,
        unsampled=tally.unsampled,
        drifted_bytes=tally.bytes,
        examples=tally.first,
        sampled=sampled,
        at_least=low,
        at_most=high,
        confidence=confidence if sampled else None,
        words=tally_words(tally, confidence),
    )
