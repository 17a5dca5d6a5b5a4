"""The results of `lantern objects` and `lantern retention`, as `--json` prints them."""

from __future__ import annotations

from datetime import datetime

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.object_rules.retention import Protection
from rusty_lantern.objects.retention_summary import RetentionSummary
from rusty_lantern.objects.violations import Prefix
from rusty_lantern.reports.results.audit import TallyResult, tally_result
from rusty_lantern.reports.results.of_survey import OfSurvey


class ObjectRow(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement on the objects of one bucket."""

    store: str
    bucket: str
    fact: str
    required: str
    severity: str
    status: str
    reason: str
    line: str
    objects: TallyResult
    prefixes: list[Prefix] | None = None
    """With `--fact`: where the drift is."""


class TableRow(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket's version table: how far its objects were looked at. Without one, `reason` says why."""

    store: str
    bucket: str
    inspection: str
    """listed, sample or all; none where there is no table."""
    versions: int | None
    inspected: int | None
    reused: int
    reason: str
    left_out: str
    """Why old versions may be missing; empty where they are not."""


class ObjectsResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern objects --json`."""

    tables: list[TableRow]
    requirements: list[ObjectRow]


class VersionRow(msgspec.Struct, frozen=True, kw_only=True):
    """One version of a key: what protects it, until when, and who can delete it now."""

    version: str
    current: bool
    delete_marker: bool
    size: int
    written: datetime | None
    protected_by: str
    until: datetime | None
    legal_hold: bool | None
    deletable_by: str
    inspected: str


class RetentionRow(msgspec.Struct, frozen=True, kw_only=True):
    """The retention of one bucket's versions."""

    store: str
    bucket: str
    default_retention: str
    retention: RetentionSummary
    way_around: str
    """How locked versions can be deleted all the same; empty where no way is known."""
    sentence: str
    """When the bucket can be emptied, in words."""
    bypass_holders: list[str]
    """Everybody who surely can bypass governance, by name; the public as `anyone` and `any-account`."""
    bypass_unknown: str
    """Why somebody else perhaps can; empty where all are known."""
    drift: list[ObjectRow]
    others: dict[str, str]
    """Fact of retention → `ok`, `waived` or `unknown`, of the requirements that do not drift."""
    inspected: int
    versions: int
    left_out: str
    """Why old versions may be missing, so that all this is of the current ones alone; empty where they are not."""


class RetentionResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern retention --json`."""

    buckets: list[RetentionRow]
    unread: list[TableRow]
    key: str | None = None
    history: list[VersionRow] | None = None
    """With `--key`: every version of that key, the newest first."""


def table_row(view: BucketSubject) -> TableRow:
    """How far a bucket's objects were looked at."""
    table = view.bucket.table.value
    return TableRow(
        store=view.dossier.store,
        bucket=view.bucket.name,
        inspection=table.looked if table else "none",
        versions=table.versions if table else None,
        inspected=table.inspected if table else None,
        reused=table.reused if table else 0,
        reason=view.bucket.table.reason,
        left_out=view.left_out,
    )


def object_row(finding: Finding, prefixes: list[Prefix] | None = None) -> ObjectRow:
    """One requirement on objects that was counted."""
    requirement = finding.requirement
    assert finding.tally is not None
    return ObjectRow(
        store=finding.store,
        bucket=finding.name,
        fact=requirement.fact,
        required=requirement.comparison.words if requirement.comparison else "anything",
        severity=requirement.severity,
        status=finding.status,
        reason=finding.reason,
        line=str(requirement.place),
        objects=tally_result(finding.tally, finding.confidence),
        prefixes=prefixes,
    )


def version_row(version: ObjectVersion, protection: Protection) -> VersionRow:
    """One version with what protects it."""
    return VersionRow(
        version=version.version,
        current=version.current,
        delete_marker=version.marker,
        size=version.size,
        written=version.written,
        protected_by="delete-marker"
        if version.marker
        else "expired"
        if protection.expired and protection.protected_by == "unprotected"
        else protection.protected_by,
        until=version.until if version.mode else None,
        legal_hold=version.hold,
        deletable_by=protection.deletable_by,
        inspected=version.inspected,
    )


def sentence(summary: RetentionSummary, moment: datetime, way_around: str = "", left_out: str = "") -> str:
    """When a bucket can be emptied, in a few sentences. `way_around`: how locked versions can be deleted too;
    `left_out`: why old versions are missing, so that all of it is of the current ones alone."""
    if left_out:
        return f"Of the current objects alone, since {left_out}: {sentence(summary, moment, way_around)}"
    earliest = summary.earliest_deletion
    real = [group for group in summary.groups if group.retention != "delete-marker"]
    total = sum(group.versions for group in real)
    now = sum(group.versions for group in real if group.deletable_by == "delete-permission")
    if way_around:
        return f"{now:,} of {total:,} versions are deletable now, locked ones too ({way_around})."
    said = [f"{now:,} of {total:,} versions are deletable now"]
    if earliest.by_delete_permission is not None:
        said.append(f"The last retention ends {_day(earliest.by_delete_permission, moment)}")
        if earliest.by_bypass is None:
            said.append("Principals with bypass-retention can delete all now")
        elif earliest.by_bypass == earliest.by_delete_permission:
            said.append("Nobody can delete everything before")
        else:
            said.append(f"Principals with bypass-retention can delete all from {_day(earliest.by_bypass, moment)}")
    if earliest.legal_holds:
        holds = "hold ends" if earliest.legal_holds == 1 else "holds end"
        said.append(f"{earliest.legal_holds:,} legal {holds} only when removed")
    if earliest.unknown:
        said.append(f"{earliest.unknown:,} versions were not inspected, so it may be later")
    return ". ".join(said) + "."


def _day(then: datetime, moment: datetime) -> str:
    """A day with its distance."""
    days = (then - moment).days
    far = f"{days / 365:,.0f} years" if days > 730 else f"{days:,} days"
    return f"{then:%Y-%m-%d} (in {far})"
