"""The status of every requirement in one survey, kept small; and from a row of these: since when each drift has been
open.

A drift has been open since the first of the unbroken row of surveys in which it drifted, accepted or not. A survey that
did not know, or did not look there, neither begins such a row nor breaks it.
"""

from collections.abc import Container, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from types import MappingProxyType

import msgspec

from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.coverage import Coverage
from rusty_lantern.core.audit.waivers import observed_now
from rusty_lantern.core.baseline.evaluation import STATUSES, Key
from rusty_lantern.core.baseline.loader import Severity

OPEN = ("drift", "waived")


Area = tuple[str, str, str]
"""A store, a kind of subject, and a fact that is required of it there."""


class OpenRequirement(msgspec.Struct, frozen=True, array_like=True):
    """One requirement that was not simply ok, with the subjects of which the same was seen."""

    store: str
    kind: str
    fact: str
    status: str
    severity: Severity
    observed: str
    """What was seen, in the words in which a waiver accepts it."""
    names: list[str]

    @property
    def area(self) -> Area:
        """Where it is required."""
        return self.store, self.kind, self.fact

    def of(self, subjects: Container[tuple[str, str, str]]) -> "OpenRequirement":
        """The same of these subjects alone, each its store, kind and name."""
        names = [name for name in self.names if (self.store, self.kind, name) in subjects]
        return msgspec.structs.replace(self, names=names)


class AuditSummary(msgspec.Struct, frozen=True):
    """The result of one survey under a baseline."""

    survey: str
    taken: datetime
    judged_by: str
    """A hash of everything that the judgement depends on besides the survey."""
    buckets: int
    counts: dict[str, int]
    drift_by_severity: dict[str, int]
    exposed: dict[str, int]
    """Verb → how many buckets anyone gets into, from everywhere."""
    undecided: int
    """Of how many buckets nobody knows whether anyone gets in, in one way at least."""
    unread: list[str]
    coverage: Coverage
    not_ok: list[OpenRequirement]
    judged_with: list[str] = []
    """The files that were read for it."""

    def by_area(self) -> dict[Area, dict[str, OpenRequirement]]:
        """Area → the subjects that were not simply ok, by name."""
        areas: dict[Area, dict[str, OpenRequirement]] = {}
        for requirement in self.not_ok:
            areas.setdefault(requirement.area, {}).update(dict.fromkeys(requirement.names, requirement))
        return areas


def audit_summary(
    survey: str, taken: datetime, judged_by: str, audit: Audit, judged_with: Sequence[str] = ()
) -> AuditSummary:
    """What is kept of an audit."""
    counts = audit.counts()
    return AuditSummary(
        survey,
        taken,
        judged_by,
        audit.buckets,
        {status: counts[status] for status in STATUSES},
        audit.drift_by_severity(),
        dict(audit.exposed),
        audit.undecided,
        [store for store, _ in audit.unread],
        audit.coverage,
        _open(audit),
        list(judged_with),
    )


def _open(audit: Audit) -> list[OpenRequirement]:
    """What is not ok, by what was seen: hundreds of buckets often drift alike."""
    names_of: dict[tuple[str, str, str, str, Severity, str], list[str]] = {}
    for one in audit.findings:
        requirement = one.requirement
        key = (one.store, one.kind, requirement.fact, one.status, requirement.severity, observed_now(one))
        names_of.setdefault(key, []).append(one.name)
    return [OpenRequirement(*key, names) for key, names in names_of.items()]


class DriftStart(msgspec.Struct, frozen=True):
    """Since when a drift has been open. Where `or_before`, no earlier survey was looked at."""

    taken: datetime
    or_before: bool = False


class DriftStarts:
    """Since when each drift of a survey has been open. `or_before`: those that may be older than the first survey that
    was looked at."""

    def __init__(
        self,
        taken: Mapping[Area, Mapping[str, datetime]] = MappingProxyType({}),
        or_before: Mapping[Area, Container[str]] = MappingProxyType({}),
    ) -> None:
        self._taken = taken
        self._or_before = or_before

    def get(self, key: Key) -> DriftStart | None:
        """Since when this drift has been open; None for what does not drift."""
        store, kind, name, fact = key
        area = store, kind, fact
        taken = self._taken.get(area, {}).get(name)
        return None if taken is None else DriftStart(taken, name in self._or_before.get(area, ()))


def drift_starts(now: AuditSummary, earlier: Iterable[AuditSummary], *, all_seen: bool = True) -> DriftStarts:
    """Since when each drift of a survey has been open. `earlier`: the surveys before it, latest first; it is read only
    as far back as some drift is open. `all_seen`: whether there are no others before those."""
    first = {area: dict.fromkeys(names, now.taken) for area, names in _named(now, OPEN).items()}
    unsettled = {area: set(names) for area, names in first.items()}
    for summary in earlier:
        if not unsettled:
            break
        drifting, unknown = _named(summary, OPEN), _named(summary, ("unknown",))
        for area, names in unsettled.items():
            still = names & drifting.get(area, set())
            first[area].update(dict.fromkeys(still, summary.taken))
            others = names - still - unknown.get(area, set())
            names.difference_update(summary.coverage.not_there(area[0], area[1], others, area[2]))
        unsettled = {area: names for area, names in unsettled.items() if names}
    return DriftStarts(first, {} if all_seen else unsettled)


def _named(summary: AuditSummary, statuses: Sequence[str]) -> dict[Area, set[str]]:
    """Area → the names of those with this status."""
    names_of: dict[Area, set[str]] = {}
    for requirement in summary.not_ok:
        if requirement.status in statuses:
            names_of.setdefault(requirement.area, set()).update(requirement.names)
    return names_of


class DriftPeriod(msgspec.Struct, frozen=True):
    """One time that a drift was open. `until` is None while it still does."""

    key: Key
    begun: datetime
    until: datetime | None

    def lasted(self, moment: datetime) -> timedelta:
        """How long, as of a moment."""
        return (self.until or moment) - self.begun


def drift_periods(summaries: Sequence[AuditSummary]) -> list[DriftPeriod]:
    """Every time that a drift was open, over surveys in their order."""
    begun: dict[Area, dict[str, datetime]] = {}
    ended: list[DriftPeriod] = []
    seen: dict[tuple[str, str, str, str], str] = {}
    for summary in summaries:
        drifting, unknown = _named(summary, OPEN), _named(summary, ("unknown",))
        for area, since_when in begun.items():
            others = since_when.keys() - drifting.get(area, set()) - unknown.get(area, set())
            gone = summary.coverage.not_there(area[0], area[1], others, area[2])
            gone -= {name for name in gone if summary.coverage.still_let_in(area[0], name, seen.get((*area, name), ""))}
            ended += [_period(area, name, since_when.pop(name), summary.taken) for name in sorted(gone)]
        for area, names in drifting.items():
            there = begun.setdefault(area, {})
            there.update(dict.fromkeys(names - there.keys(), summary.taken))
        of_public = (one for one in summary.not_ok if one.status in OPEN and one.fact.startswith("exposure."))
        seen |= {(*one.area, name): one.observed for one in of_public for name in one.names}
    still = [_period(area, name, taken) for area, names in begun.items() for name, taken in names.items()]
    return ended + still


def _period(area: Area, name: str, begun: datetime, until: datetime | None = None) -> DriftPeriod:
    store, kind, fact = area
    return DriftPeriod((store, kind, name, fact), begun, until)


class DriftDuration(msgspec.Struct, frozen=True):
    """How long drifts were open: days, and how many were resolved and are open. None where there were none.

    Open is what drifts in the last survey and is not waived: as many as `lantern audit` counts.
    """

    resolved: int
    open: int
    median_days_resolved: float | None
    median_days_open: float | None
    oldest: DriftPeriod | None
    """The one that is open for longest."""


def drift_duration(summaries: Sequence[AuditSummary]) -> DriftDuration:
    """How long drifts were open, as of the last survey."""
    periods = drift_periods(summaries)
    if not summaries:
        return DriftDuration(0, 0, None, None, None)
    moment = summaries[-1].taken
    last = [one for one in summaries[-1].not_ok if one.status == "drift"]
    drifting = {(one.store, one.kind, name, one.fact) for one in last for name in one.names}
    resolved = [one for one in periods if one.until]
    still = [one for one in periods if not one.until and one.key in drifting]
    oldest = min(still, key=lambda s: (s.begun, s.key), default=None)
    return DriftDuration(len(resolved), len(still), _median(resolved, moment), _median(still, moment), oldest)


def _median(periods: list[DriftPeriod], moment: datetime) -> float | None:
    from statistics import median  # loads much, for `history` alone

    return round(median(s.lasted(moment) / timedelta(days=1) for s in periods), 1) if periods else None
