"""From dossiers and a baseline to an audit: every fact of every bucket, every judgement, and what was not seen.

A function of its inputs alone: the same survey, baseline, estate and moment give the same audit.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.replicas import Missing, mirrored
from rusty_lantern.core.audit.replicas import judgements as mirror_judgements
from rusty_lantern.core.audit.store_subject import StoreSubject, circles
from rusty_lantern.core.audit.waiver_file import Waiver
from rusty_lantern.core.audit.waivers import Waived
from rusty_lantern.core.audit.waivers import apply as waive
from rusty_lantern.core.baseline.builtin import DOORS
from rusty_lantern.core.baseline.evaluation import (
    Cascade,
    Finding,
    Status,
    Tallied,
    Weight,
    judge,
    judge_subject,
    no_tables,
)
from rusty_lantern.core.baseline.loader import SEVERITIES, Baseline, Severity, in_force
from rusty_lantern.core.baseline.selectors import All, SubjectRef, spoken
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.facts.replicas import Compared
from rusty_lantern.core.model.dossier import Dossier, undisturbed


class Audit(msgspec.Struct, frozen=True):
    """What an audit found. `unread` names stores whose buckets could not be listed, with the reason."""

    judgements: list[Finding]
    unread: list[tuple[str, str]] = msgspec.field(default_factory=list)
    idle_sheets: list[str] = msgspec.field(default_factory=list)
    buckets: int = 0
    waivers: list[Waived] = msgspec.field(default_factory=list)
    """How each waiver stands."""
    exposed: dict[str, int] = msgspec.field(default_factory=dict)
    """Verb → how many buckets anyone gets into, from everywhere."""

    def of(self, status: Status) -> list[Finding]:
        """The judgements of one status: worst first, then by how far they reach, then by store, bucket and fact."""
        return sorted((j for j in self.judgements if j.status == status), key=_order)

    def counts(self) -> Counter[Status]:
        """How many judgements of each status."""
        return Counter(j.status for j in self.judgements)

    def exit_code(self, floor: Severity, *, unknown_counts: bool = False) -> int:
        """1 drift at or above the floor · 3 no such drift, and a store was not read · 0 otherwise.

        `unknown_counts`: anything unknown that is not waived ends with 3 too.
        """
        if reaches(floor, (j.requirement.severity for j in self.judgements if j.status == "drifted")):
            return 1
        return 3 if self.unread or (unknown_counts and self.counts()["unknown"]) else 0


def reaches(floor: str, severities: Iterable[str]) -> bool:
    """Whether one of the severities is the floor or worse."""
    order: Sequence[str] = SEVERITIES
    return any(order.index(severity) <= order.index(floor) for severity in severities)


def _order(judgement: Finding) -> tuple[object, ...]:
    severity, weight = SEVERITIES.index(judgement.requirement.severity), judgement.weight
    reach = (-weight.sensitive, -weight.audience, -weight.verbs, -weight.bytes)
    return severity, *reach, judgement.store, judgement.name, judgement.requirement.fact


def _weigh(view: BucketSubject, sensitive: All | None) -> Weight:
    """How far whatever drifts on a bucket reaches."""
    levels = [verdict.level for verdict in view.verdicts.values()]
    open_to = {verb for (_, verb), verdict in view.verdicts.items() if verdict.level in ("narrow", "open")}
    marked = (
        sensitive is not None and sensitive.fit(spoken(view.dossier.store, view.bucket, view.fact)).yes is not False
    )
    held = view.bucket.usage.value
    return Weight(marked, 2 if "open" in levels else int("narrow" in levels), len(open_to), held.bytes if held else 0)


def _judged(view: BucketSubject, cascade: Cascade, tallied: Tallied) -> list[Finding]:
    """The judgements on a bucket, its drift weighed."""
    found = judge(cascade, view.dossier.store, view.bucket, view.fact, tallied)
    if view.bucket.doors.value and view.fact("doors").value == "disagrees":
        found.append(Finding(view.dossier.store, view.bucket.name, DOORS, view.fact("doors"), "drifted"))
    if not any(j.status == "drifted" for j in found):
        return found
    weight = _weigh(view, cascade.baseline.sensitive)
    return [msgspec.structs.replace(j, weight=weight) if j.status == "drifted" else j for j in found]


@dataclass(frozen=True)
class Judge:
    """The baseline in force at a moment, and the waivers: what every command judges by, so that no two can differ."""

    baseline: Baseline
    moment: datetime
    waivers: tuple[Waiver, ...] = ()

    @cached_property
    def cascade(self) -> Cascade:
        """The requirements on each subject, worked out once for those that are alike."""
        return Cascade(in_force(self.baseline, self.moment))

    def of_bucket(self, view: BucketSubject, tallied: Tallied = no_tables) -> list[Finding]:
        """The judgements on a bucket, drift weighed, and marked where it is waived."""
        return self.waived(_judged(view, self.cascade, tallied))[0]

    def of_subject(self, circle: StoreSubject, subject: tuple[SubjectRef, Any]) -> list[Finding]:
        """The same on a store's other subjects."""
        return self.waived(self.unwaived(circle, subject))[0]

    def unwaived(self, circle: StoreSubject, subject: tuple[SubjectRef, Any]) -> list[Finding]:
        """The same, before waivers."""
        named, view = subject
        observe = circle.observer(view)
        return judge_subject(self.cascade, msgspec.structs.replace(named, observe=observe), observe)

    def of_mirror(self, compared: Compared) -> list[Finding]:
        """The judgements on a mirrored bucket's copy."""
        return self.waived(mirror_judgements(compared, self.cascade.baseline))[0]

    def waived(self, judgements: Iterable[Finding]) -> tuple[list[Finding], list[Waived]]:
        """Findings with what is waived marked so, and how each waiver stands."""
        return waive(judgements, list(self.waivers), self.moment, self.cascade.baseline.longest_waiver)


def audit(
    dossiers: list[Dossier],
    baseline: Baseline,
    estate: Estate | None,
    moment: datetime,
    tallied: Tallied = no_tables,
    missing: Missing = lambda view, copy, lag: None,
    waivers: Sequence[Waiver] = (),
) -> Audit:
    """Hold a survey against a baseline, as of a moment.

    `tallied` judges requirements on objects, `missing` counts what mirrors lack.
    """
    judge = Judge(baseline, moment, tuple(waivers))
    stores = circles(dossiers, estate, moment)
    seen = [view for circle in stores for view in circle.buckets.values()]
    others = [(circle, subject) for circle in stores for subject in circle.subjects()]
    baseline = judge.cascade.baseline
    with undisturbed():
        judgements = [j for view in seen for j in _judged(view, judge.cascade, tallied)]
    for circle, subject in others:
        judgements += judge.unwaived(circle, subject)
    for compared in mirrored(stores, estate.mirrors if estate else (), missing):
        judgements += mirror_judgements(compared, baseline)
    unread = [(d.store, d.listing.reason) for d in dossiers if not d.listing.settled]
    subjects = [*(spoken(v.dossier.store, v.bucket, v.fact) for v in seen), *(subject for _, (subject, _) in others)]
    idle = [
        f'{sheet.place}: sheet "{sheet.name}" speaks of nothing that was surveyed'
        for sheet in baseline.sheets
        if not any(sheet.applies_to(subject) for subject in subjects)
    ]
    judgements, stands = judge.waived(judgements)
    exposed: dict[str, int] = {verb: sum(v.verdicts["anyone", verb].level == "open" for v in seen) for verb in VERBS}
    return Audit(judgements, unread, idle, len(seen), stands, exposed)
