"""The results that `--json` prints: typed, stable, with published JSON Schemas (`docs/schemas/`).

Each is built from the core's own objects by one function; nothing here judges.
"""

from __future__ import annotations

from datetime import datetime

import msgspec

from rusty_lantern.archive.surveys import Survey
from rusty_lantern.core.answer import Evidence
from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.waivers import WaiverState
from rusty_lantern.core.baseline.evaluation import STATUSES, Finding, Weight
from rusty_lantern.core.baseline.finding_words import observed_words
from rusty_lantern.core.baseline.loader import Baseline
from rusty_lantern.core.history.drift_changes import DriftTurns
from rusty_lantern.core.history.drift_history import DriftStart, DriftStarts
from rusty_lantern.core.object_rules.sampling import bound
from rusty_lantern.core.object_rules.tally import Tally, tally_words
from rusty_lantern.core.remediation.advice import advice
from rusty_lantern.reports.results.facts import Value, as_json, required_words
from rusty_lantern.reports.results.of_survey import OfSurvey
from rusty_lantern.reports.results.overview import OverviewResult, overview_result


class TallyResult(msgspec.Struct, frozen=True, kw_only=True):
    """A requirement on objects, counted: versions checked, held, drifted, unknown; where only a sample was looked at,
    `at_least` and `at_most` bound the share that drifted, at that confidence."""

    checked: int
    ok: int
    failed: int
    unknown: int
    unsampled: int
    """Of the unknown, those that only the sample left out."""
    failed_bytes: int
    examples: list[str]
    sampled: bool
    at_least: float | None = None
    at_most: float | None = None
    confidence: float | None = None
    words: str = ""


class FindingResult(msgspec.Struct, frozen=True, kw_only=True):
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
    line: str
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
    """How far the public gets into the bucket by any verb: closed, restricted or open."""
    verbs: int
    bytes: int


class AuditResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern audit --json`."""

    taken: datetime
    baseline: str
    edition: str
    buckets: int
    counts: dict[str, int]
    drift_by_severity: dict[str, int]
    ok: dict[str, int]
    """Store → how many requirements are ok."""
    drift: list[FindingResult]
    unknown: list[FindingResult]
    waived: list[FindingResult]
    """Drift that is waived; `reason` says until when, by whom and why."""
    waivers: list[WaiverResult]
    notes: list[str]
    too_old: str
    """How old the survey is, where that is more than `--max-age`; what happened since is not in it. Else empty."""
    overview: OverviewResult
    """The same on one screen."""

    @property
    def drift_known(self) -> bool:
        """Whether there is surely no drift besides what is listed: something was checked, and all of it is known."""
        return not self.unchecked and not self.counts["unknown"] and not self.unread_stores

    @property
    def unchecked(self) -> str:
        """Why nothing was checked at all; empty where something was."""
        if any(self.counts.values()):
            return ""
        read = "these subjects" if not self.unread_stores else "what was read"
        return f"nothing was checked: the baseline requires nothing of {read}"


class WaiverResult(msgspec.Struct, frozen=True, kw_only=True):
    """The state of one waiver: `in force`, `ends soon`, `ended`, `not yet`, `too long`, or `unused`."""

    of: str
    fact: str
    observed: str
    because: str
    by: str
    since: datetime
    until: datetime
    line: str
    status: str
    covers: int


def audit_result(
    survey: Survey,
    moment: datetime,
    baseline: Baseline,
    audit: Audit,
    since: DriftStarts | None = None,
    turned: DriftTurns | None = None,
    *,
    most: int | None = None,
    too_old: str = "",
) -> AuditResult:
    """An audit as a result. `turned`: how drift changed since the survey before; None where there is none. `most`: the
    overview, with no more subjects than these; without, each drift and each unknown too."""
    begun = since or DriftStarts()
    counts = audit.counts()
    return AuditResult(
        survey=survey.name,
        taken=survey.manifest.taken,
        as_of=moment,
        baseline=baseline.title,
        edition=baseline.edition,
        buckets=audit.buckets,
        only=survey.manifest.only,
        only_of=survey.manifest.only_of,
        counts={status: counts[status] for status in STATUSES},
        drift_by_severity=audit.drift_by_severity(),
        ok=dict(sorted(audit.met.by_store().items())),
        drift=[finding_result(j, begun.get(j.key)) for j in audit.of("drift")] if most is None else [],
        unknown=[finding_result(j) for j in audit.of("unknown")] if most is None else [],
        waived=[finding_result(j, begun.get(j.key)) for j in audit.of("waived")],
        waivers=[waiver_result(waived) for waived in audit.waivers],
        unread_stores=dict(audit.unread),
        notes=audit.idle_sheets,
        too_old=too_old,
        overview=overview_result(audit.overview(), moment, turned, [store for store, _ in audit.unread], most),
    )


def waiver_result(waived: WaiverState) -> WaiverResult:
    """The state of a waiver, as a result."""
    waiver = waived.waiver
    return WaiverResult(
        of=waiver.of, fact=waiver.fact, observed=waiver.observed, because=waiver.because, by=waiver.by,
        since=waiver.since, until=waiver.until, line=str(waiver.place), status=waived.status, covers=waived.covers,
    )  # fmt: skip


def finding_result(finding: Finding, since: DriftStart | None = None) -> FindingResult:
    """One judgement as a result."""
    requirement, observed = finding.requirement, finding.observed
    drifted = finding.status == "drift"
    return FindingResult(
        store=finding.store,
        subject=finding.kind,
        name=finding.name,
        bucket=finding.name if finding.kind == "bucket" else "",
        fact=requirement.fact,
        required=required_words(finding.requirement),
        observed=observed_words(finding),
        value=as_json(observed),
        note=observed.note,
        severity=requirement.severity,
        because=requirement.because,
        remedy=requirement.remedy or (advice(finding) if drifted else ""),
        sheet=requirement.sheet,
        line=str(requirement.place),
        reason=finding.reason,
        evidence=observed.evidence,
        objects=tally_result(finding.tally, finding.confidence) if finding.tally else None,
        since=since.taken if since else None,
        since_or_before=bool(since and since.or_before),
        reach=_reach(finding.weight) if drifted and finding.kind == "bucket" else None,
    )


def _reach(weight: Weight) -> ReachResult:
    public = ("closed", "restricted", "open")[weight.audience]
    return ReachResult(sensitive=weight.sensitive, public=public, verbs=weight.verbs, bytes=weight.bytes)


def tally_result(tally: Tally, confidence: float) -> TallyResult:
    """A tally as a result."""
    sampled = tally.unsampled > 0 and tally.checked > 0
    low, high = bound(tally.failed, tally.checked, confidence) if sampled else (None, None)
    return TallyResult(
        checked=tally.checked,
        ok=tally.ok,
        failed=tally.failed,
        unknown=tally.unknown,
        unsampled=tally.unsampled,
        failed_bytes=tally.bytes,
        examples=tally.first,
        sampled=sampled,
        at_least=low,
        at_most=high,
        confidence=confidence if sampled else None,
        words=tally_words(tally, confidence),
    )
