"""The first screen of an audit as a result: deadlines, what is public, what drifts, what is unknown, what to do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime

import msgspec

from rusty_lantern.core.audit.overview import Deadline, Overview, PublicBucket, SubjectDrift, UnknownReason

_SHOWN_BY = {
    "credential": "lantern credentials",
    "identity": "lantern credentials",
    "encryption-key": "lantern encryption",
    "link": "lantern links",
    "mirror": "lantern mirrors",
    "store": "lantern reach",
}
"""Kind of subject other than a bucket → the command that says what to do about it."""
_DEADLINES = {
    "encryption key": "lantern encryption",
    "access key": "lantern credentials",
    "share link": "lantern links",
    "certificate": "lantern reach",
}
MOST_STEPS = 3


class DeadlineRow(msgspec.Struct, frozen=True, kw_only=True):
    """Something that is lost or ends by itself; `days`: from the audit's moment, rounded down."""

    when: datetime
    days: int
    kind: str
    store: str
    name: str
    what: str
    depends: str
    command: str


class PublicRow(msgspec.Struct, frozen=True, kw_only=True):
    """A bucket that the public gets into now."""

    store: str
    bucket: str
    open: list[str]
    accounts_only: list[str]
    """Those of `open` that any authenticated account has, and nobody without credentials."""
    restricted: list[str]
    waived: list[str]
    drift: bool
    """Whether the baseline wants one of these verbs closed, and no waiver covers it."""
    command: str


class SubjectRow(msgspec.Struct, frozen=True, kw_only=True):
    """A subject that has drift."""

    kind: str
    store: str
    name: str
    severity: str
    count: int
    causes: list[str]
    command: str


class UnknownRow(msgspec.Struct, frozen=True, kw_only=True):
    """Why something is unknown, of whom, and what settles it."""

    reason: str
    subjects: list[str]
    facts: int
    settled_by: str


class StepRow(msgspec.Struct, frozen=True, kw_only=True):
    """A command to run next, and why."""

    command: str
    why: str


class OverviewResult(msgspec.Struct, frozen=True, kw_only=True):
    """An audit on one screen."""

    deadlines: list[DeadlineRow]
    public: list[PublicRow]
    closed_buckets: int
    undetermined_buckets: list[str]
    """`STORE/BUCKET` of which no public access is known, and yet not every way is known to be closed."""
    subjects: list[SubjectRow]
    unknown: list[UnknownRow]
    next_steps: list[StepRow]
    new: int | None
    """How many drifts are new since the survey before; null where there is none."""
    worse: int | None
    resolved: int | None


def overview_result(found: Overview, moment: datetime, turned: Mapping[str, int] | None) -> OverviewResult:
    """An overview as a result. `turned`: how drift changed since the survey before; None where there is none."""
    ends = [_deadline(one, moment) for one in found.deadlines]
    public = [_public(one) for one in found.public]
    subjects = [_subject(one) for one in found.drift]
    changed = turned or {}
    return OverviewResult(
        deadlines=ends,
        public=public,
        closed_buckets=found.closed,
        undetermined_buckets=list(found.undetermined),
        subjects=subjects,
        unknown=[_unknown(one) for one in found.unknown],
        next_steps=list(_steps(ends, public, subjects))[:MOST_STEPS],
        new=changed.get("new", 0) if turned is not None else None,
        worse=changed.get("worse", 0) if turned is not None else None,
        resolved=changed.get("resolved", 0) if turned is not None else None,
    )


def _deadline(one: Deadline, moment: datetime) -> DeadlineRow:
    command = _DEADLINES.get(one.kind, f"lantern show {one.store}/{one.name} --required")
    return DeadlineRow(
        when=one.when, days=(one.when - moment).days, kind=one.kind, store=one.store, name=one.name, what=one.what,
        depends=one.depends, command=command,
    )  # fmt: skip


def _public(one: PublicBucket) -> PublicRow:
    what = "remedy" if one.required else "exposure"
    return PublicRow(
        store=one.store, bucket=one.name, open=list(one.open), accounts_only=list(one.accounts_only),
        restricted=list(one.restricted),
        waived=list(one.waived), drift=one.required, command=f"lantern {what} {one.store}/{one.name}",
    )  # fmt: skip


def _subject(one: SubjectDrift) -> SubjectRow:
    return SubjectRow(
        kind=one.kind, store=one.store, name=one.name, severity=one.severity, count=one.count,
        causes=list(one.causes), command=_SHOWN_BY.get(one.kind, f"lantern remedy {one.store}/{one.name}"),
    )  # fmt: skip


def _unknown(one: UnknownReason) -> UnknownRow:
    return UnknownRow(reason=one.reason, subjects=list(one.subjects), facts=one.facts, settled_by=one.settled_by)


def _steps(ends: list[DeadlineRow], public: list[PublicRow], subjects: list[SubjectRow]) -> Iterator[StepRow]:
    """The most urgent first: what will be lost, what is public and must not be, what else is worst; each once."""
    told: set[str] = set()
    first = next((one for one in ends if one.what == "scheduled for deletion"), None)
    wanted = [(first.command, f"{first.kind} {first.name} is deleted {in_days_from(first.days)}")] if first else []
    wanted += [
        (one.command, f"{one.store}/{one.bucket} is public: {', '.join(one.open)}") for one in public if one.drift
    ]
    wanted += [(one.command, f"{one.severity}: {one.causes[0]}") for one in subjects]
    groups = [wanted[: 1 if first else 0], [w for w in wanted if "is public" in w[1]], wanted]
    for group in groups:
        for command, why in group:
            if command not in told:
                told.add(command)
                yield StepRow(command=command, why=why)
                break


def in_days_from(days: int) -> str:
    """A distance in days, in words.

    >>> in_days_from(0), in_days_from(1), in_days_from(9)
    ('today', 'in 1 day', 'in 9 days')
    """
    return "today" if days <= 0 else "in 1 day" if days == 1 else f"in {days:,} days"
