"""How every requirement stood in one survey, kept small; and from a row of these: since when each drift stands.

A drift stands since the first of the unbroken row of surveys in which it drifted, accepted or not. A survey that could
not tell, or did not look there, neither begins such a row nor breaks it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from statistics import median

import msgspec

from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.waivers import observed_now
from rusty_lantern.core.baseline.evaluation import STATUSES, Key

OPEN = ("drift", "waived")


class OpenRequirement(msgspec.Struct, frozen=True, array_like=True):
    """One requirement that did not simply hold."""

    store: str
    kind: str
    name: str
    fact: str
    status: str
    severity: str
    observed: str = ""
    """What was seen, in the words in which a waiver accepts it."""

    @property
    def key(self) -> Key:
        """What it is about."""
        return self.store, self.kind, self.name, self.fact


class Standing(msgspec.Struct, frozen=True):
    """How one survey stood to a baseline."""

    survey: str
    taken: datetime
    judged_by: str
    """A hash of everything that the judgement depends on besides the survey."""
    buckets: int
    counts: dict[str, int]
    drift_by_severity: dict[str, int]
    exposed: dict[str, int]
    """Verb → how many buckets anyone gets into, from everywhere."""
    unread: list[str]
    only: list[str]
    stood: list[OpenRequirement]
    judged_with: list[str] = []
    """The files that were read for it."""

    def covers(self, key: Key) -> bool:
        """Whether the survey looked there at all."""
        seen = not self.only or any(fnmatchcase(f"{key[0]}/{key[2]}", pattern) for pattern in self.only)
        return seen and key[0] not in self.unread


def standing_of(
    survey: str, taken: datetime, judged_by: str, audit: Audit, only: Sequence[str], judged_with: Sequence[str] = ()
) -> Standing:
    """What is kept of an audit."""
    counts = audit.counts()
    return Standing(
        survey,
        taken,
        judged_by,
        audit.buckets,
        {status: counts[status] for status in STATUSES},
        audit.drift_by_severity(),
        dict(audit.exposed),
        [store for store, _ in audit.unread],
        list(only),
        [
            OpenRequirement(
                j.store, j.kind, j.name, j.requirement.fact, j.status, j.requirement.severity, observed_now(j)
            )
            for j in audit.findings
        ],
        list(judged_with),
    )


class Since(msgspec.Struct, frozen=True):
    """Since when a drift stands. Where `or_before`, no earlier survey was looked at."""

    taken: datetime
    or_before: bool = False


def since(now: Standing, earlier: Iterable[Standing], *, all_seen: bool = True) -> dict[Key, Since]:
    """Since when each drift of a survey stands. `earlier`: the surveys before it, latest first; it is read only as far
    as some drift still stands. `all_seen`: whether there are no others before those."""
    first = {stood.key: now.taken for stood in now.stood if stood.status in OPEN}
    unsettled = set(first)
    for standing in earlier:
        if not unsettled:
            break
        there = {stood.key: stood.status for stood in standing.stood}
        for key in [key for key in unsettled if standing.covers(key)]:
            status = there.get(key, "ok")
            if status in OPEN:
                first[key] = standing.taken
            elif status != "unknown":
                unsettled.discard(key)
    return {key: Since(taken, not all_seen and key in unsettled) for key, taken in first.items()}


class DriftPeriod(msgspec.Struct, frozen=True):
    """One time that a drift stood. `until` is None while it still does."""

    key: Key
    begun: datetime
    until: datetime | None

    def lasted(self, moment: datetime) -> timedelta:
        """How long, as of a moment."""
        return (self.until or moment) - self.begun


def spells(standings: Sequence[Standing]) -> list[DriftPeriod]:
    """Every time that a drift stood, over surveys in their order."""
    begun: dict[Key, datetime] = {}
    ended: list[DriftPeriod] = []
    for standing in standings:
        there = {stood.key: stood.status for stood in standing.stood}
        gone = [k for k in begun if standing.covers(k) and there.get(k, "ok") not in (*OPEN, "unknown")]
        ended += [DriftPeriod(key, begun.pop(key), standing.taken) for key in gone]
        for key, status in there.items():
            if status in OPEN:
                begun.setdefault(key, standing.taken)
    return ended + [DriftPeriod(key, since, None) for key, since in begun.items()]


class Lasting(msgspec.Struct, frozen=True):
    """How long drifts stood: days, and how many were resolved and are open. None where there were none.

    Open is what drifts in the last survey and is not waived: as many as `lantern audit` counts.
    """

    resolved: int
    open: int
    median_days_resolved: float | None
    median_days_open: float | None
    oldest: DriftPeriod | None
    """The one that is open for longest."""


def lasting(standings: Sequence[Standing]) -> Lasting:
    """How long drifts stood, as of the last survey."""
    found = spells(standings)
    if not standings:
        return Lasting(0, 0, None, None, None)
    moment = standings[-1].taken
    drifting = {stood.key for stood in standings[-1].stood if stood.status == "drift"}
    resolved, still = [s for s in found if s.until], [s for s in found if not s.until and s.key in drifting]
    oldest = min(still, key=lambda s: (s.begun, s.key), default=None)
    return Lasting(len(resolved), len(still), _median(resolved, moment), _median(still, moment), oldest)


def _median(found: list[DriftPeriod], moment: datetime) -> float | None:
    return round(median(s.lasted(moment) / timedelta(days=1) for s in found), 1) if found else None
