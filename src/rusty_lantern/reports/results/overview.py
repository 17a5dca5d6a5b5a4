"""The first screen of an audit as a result: deadlines, what is public, what drifts, what is unknown, what to do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.audit.overview import Deadline, Overview, SubjectDrift
from rusty_lantern.core.audit.public_buckets import PublicBucket, requirement_words
from rusty_lantern.core.audit.unknown_reasons import UnknownReason
from rusty_lantern.core.history.drift_changes import DriftTurns
from rusty_lantern.core.value_types import show_names

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
    affects: str
    command: str


class PublicRow(msgspec.Struct, frozen=True, kw_only=True):
    """A bucket that the public gets into now."""

    store: str
    bucket: str
    open: list[str]
    accounts_only: list[str]
    """Those of `open` that any authenticated account has, and that are closed or unknown without credentials."""
    restricted: list[str]
    unknown: list[str]
    """The verbs that more of the public may have than is known."""
    waived: list[str]
    without_requirement: list[str]
    """Those of which the baseline requires nothing."""
    drift: bool
    """Whether the baseline wants one of these verbs closed, and no waiver covers it."""
    required: str
    """Whether the baseline wants it so: `drift`, `waived`, `unknown`, `nothing required` or `as required`."""
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
    """How many requirements are unknown for this reason."""
    fact_names: list[str]
    """The facts that they are about."""
    settled_by: str


class StepRow(msgspec.Struct, frozen=True, kw_only=True):
    """A command to run next, and why."""

    command: str
    why: str


class SinceRow(msgspec.Struct, frozen=True, kw_only=True):
    """How many drifts turned in which way since an earlier survey, as `lantern changes` counts."""

    taken: datetime
    """When that survey was taken."""
    new: int
    worse: int
    resolved: int
    now_known: int
    """Drift now, where it was unknown then."""
    no_longer_known: int
    """Drift then, and unknown now: it may drift still."""


class OverviewResult(msgspec.Struct, frozen=True, kw_only=True):
    """An audit on one screen."""

    deadlines: list[DeadlineRow]
    public: list[PublicRow]
    closed_buckets: int
    undetermined_buckets: list[str]
    """`STORE/BUCKET` of which no public access is known, and yet not every way is known to be closed."""
    undetermined_stores: list[str]
    """Stores whose buckets could not be listed."""
    let_in: list[str]
    """`STORE/BUCKET (VERBS)`: the store let requests without credentials in, though no rule that is known says so."""
    subjects: list[SubjectRow]
    subjects_in_all: int
    """How many subjects have drift."""
    unknown: list[UnknownRow]
    next_steps: list[StepRow]
    since: SinceRow | None
    """How drift turned since the survey before; null where there is none."""

    @property
    def all_determined(self) -> bool:
        """Whether of every bucket of every store the public access is known."""
        return not self.undetermined_buckets and not self.undetermined_stores


def overview_result(
    overview: Overview, moment: datetime, turned: DriftTurns | None, unread: Sequence[str] = (), most: int | None = None
) -> OverviewResult:
    """An overview as a result. `turned`: how drift changed since the survey before; None where there is none.
    `unread`: stores whose buckets could not be listed; `most`: how many subjects that drift are shown, if not all."""
    ends = [_deadline(one, moment) for one in overview.deadlines]
    public = [_public(one) for one in overview.public]
    subjects = [_subject(one) for one in overview.drift[:most]]
    return OverviewResult(
        deadlines=ends,
        public=public,
        closed_buckets=overview.closed,
        undetermined_buckets=list(overview.undetermined),
        undetermined_stores=list(unread),
        let_in=[f"{title} ({', '.join(verbs)})" for title, verbs in overview.let_in],
        subjects=subjects,
        subjects_in_all=len(overview.drift),
        unknown=[_unknown(one) for one in overview.unknown],
        next_steps=list(_steps(ends, public, subjects, unread))[:MOST_STEPS],
        since=_since(turned) if turned is not None else None,
    )


def _since(turned: DriftTurns) -> SinceRow:
    counts = turned.counts
    return SinceRow(
        taken=turned.since, new=counts["new"], worse=counts["worse"], resolved=counts["resolved"],
        now_known=counts["now known"], no_longer_known=counts["no longer known"],
    )  # fmt: skip


def _deadline(one: Deadline, moment: datetime) -> DeadlineRow:
    command = _DEADLINES.get(one.kind, f"lantern show {one.store}/{one.name} --required")
    return DeadlineRow(
        when=one.when, days=(one.when - moment).days, kind=one.kind, store=one.store, name=one.name, what=one.what,
        affects=one.affects, command=command,
    )  # fmt: skip


def _public(one: PublicBucket) -> PublicRow:
    what = "remedy" if one.required else "exposure"
    return PublicRow(
        store=one.store, bucket=one.name, open=list(one.open), accounts_only=list(one.accounts_only),
        restricted=list(one.restricted), unknown=list(one.unknown),
        waived=list(one.of("waived")), without_requirement=list(one.of(None)), drift=one.drifts,
        required=requirement_words(one.required, (*one.open, *one.restricted)),
        command=f"lantern {what} {one.store}/{one.name}",
    )  # fmt: skip


def _subject(one: SubjectDrift) -> SubjectRow:
    return SubjectRow(
        kind=one.kind, store=one.store, name=one.name, severity=one.severity, count=len(one.findings),
        causes=list(one.causes), command=_SHOWN_BY.get(one.kind, f"lantern remedy {one.store}/{one.name}"),
    )  # fmt: skip


def _unknown(one: UnknownReason) -> UnknownRow:
    return UnknownRow(
        reason=one.reason,
        subjects=list(one.subjects),
        facts=one.facts,
        fact_names=list(one.fact_names),
        settled_by=one.settled_by,
    )


def _steps(
    ends: list[DeadlineRow], public: list[PublicRow], subjects: list[SubjectRow], unread: Sequence[str]
) -> Iterator[StepRow]:
    """The most urgent first: stores of which nothing is known, what will be lost, what is public and must not be, what
    else is worst; each once."""
    suggested: set[str] = set()
    if unread:
        yield StepRow(command="lantern reach", why=f"not read: {show_names(unread)}")
    first = next((one for one in ends if one.what == "scheduled for deletion"), None)
    wanted = [(first.command, f"{first.kind} {first.name} is deleted {in_days_from(first.days)}")] if first else []
    wanted += [
        (one.command, f"{one.store}/{one.bucket} is public: {', '.join(one.open)}") for one in public if one.drift
    ]
    wanted += [(one.command, f"{one.severity}: {one.causes[0]}") for one in subjects]
    groups = [wanted[: 1 if first else 0], [w for w in wanted if "is public" in w[1]], wanted]
    for group in groups:
        for command, why in group:
            if command not in suggested:
                suggested.add(command)
                yield StepRow(command=command, why=why)
                break


def in_days_from(days: int) -> str:
    """A distance in days, in words.

    >>> in_days_from(0), in_days_from(1), in_days_from(9)
    ('today', 'in 1 day', 'in 9 days')
    """
    return "today" if days <= 0 else "in 1 day" if days == 1 else f"in {days:,} days"
