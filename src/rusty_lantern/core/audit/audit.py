"""From dossiers and a baseline to an audit: every fact of every bucket, every judgement, and what was not seen.

A function of its inputs alone: the same survey, baseline, estate and moment give the same audit.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import cached_property, partial
from itertools import groupby
from operator import attrgetter, itemgetter
from types import MappingProxyType

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.choice import Choice
from rusty_lantern.core.audit.coverage import NO_LIMITS, Coverage, Limits, coverage
from rusty_lantern.core.audit.met import Column, Met
from rusty_lantern.core.audit.overview import Overview, overview
from rusty_lantern.core.audit.public_buckets import OnPublic, on_public
from rusty_lantern.core.audit.replicas import MirrorSubject
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.audit.waiver_file import Waiver
from rusty_lantern.core.audit.waivers import WaiverState
from rusty_lantern.core.audit.waivers import apply as waive
from rusty_lantern.core.baseline.builtin import OF_LOCKED_BUCKETS, OF_PROBED_BUCKETS
from rusty_lantern.core.baseline.evaluation import (
    NO_WEIGHT,
    Cascade,
    Finding,
    JudgedAlike,
    RequirementInForce,
    Status,
    Tallies,
    Weight,
    Weights,
    evaluate,
    evaluate_alike,
)
from rusty_lantern.core.baseline.loader import SEVERITIES, Baseline, Requirement, Severity, in_force
from rusty_lantern.core.baseline.selectors import All, Subject
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.model.dossier import undisturbed

NO_TALLIES: Tallies = MappingProxyType({})
TOGETHER = 200
"""How many buckets are judged at once: so few that what was read of them stays at hand from one requirement to the
next."""


class Scope(msgspec.Struct, frozen=True):
    """What an audit looked at, and as of which moment."""

    stores: Sequence[StoreSubject]
    buckets: Sequence[BucketSubject]
    moment: datetime
    waivers: Sequence[WaiverState] = ()
    """Those whose end is a deadline."""
    on_public: OnPublic = MappingProxyType({})
    """The status of what is required of public access, whatever was chosen."""
    only_buckets: bool = False
    """Whether only what concerns one of these buckets is reported."""


class Audit(msgspec.Struct, frozen=True, dict=True):
    """What an audit found. `unread` names stores whose buckets could not be listed, with the reason."""

    findings: list[Finding]
    """What is not ok: worst first, then by how far it reaches, then by store, name and fact."""
    scope: Scope
    met: Met = msgspec.field(default_factory=Met)
    """What is ok."""
    unread: list[tuple[str, str]] = msgspec.field(default_factory=list)
    idle_sheets: list[str] = msgspec.field(default_factory=list)
    buckets: int = 0
    waivers: list[WaiverState] = msgspec.field(default_factory=list)
    """The state of each waiver."""
    coverage: Coverage = Coverage()
    """What the survey looked at."""

    @cached_property
    def exposed(self) -> dict[str, int]:
        """Verb → how many buckets anyone gets into, from everywhere."""
        reached = [view.decided.worded for view in self.scope.buckets if "open" in view.levels]
        return {verb: sum(verdicts[f"anyone.{verb}"].level == "open" for verdicts in reached) for verb in VERBS}

    @cached_property
    def undecided(self) -> int:
        """Of how many buckets nobody knows whether anyone gets in, in one way at least."""
        in_doubt = [view.decided.worded for view in self.scope.buckets if "unknown" in view.levels]
        return sum(any(verdicts[f"anyone.{verb}"].level == "unknown" for verb in VERBS) for verdicts in in_doubt)

    @cached_property
    def tally(self) -> Counter[tuple[Status, Severity]]:
        """Status and severity → how many findings."""
        return Counter(map(_STATUS_AND_SEVERITY, self.findings))

    def overview(self) -> Overview:
        """The whole on one screen."""
        seen = self.scope
        return overview(
            seen.stores,
            seen.buckets,
            self.findings,
            seen.on_public,
            seen.waivers,
            seen.moment,
            only_buckets=seen.only_buckets,
        )

    def of(self, status: Status) -> list[Finding]:
        """The findings of one status, in the same order."""
        if status == "ok":
            return _worst_first(self.met.findings())
        return [finding for finding in self.findings if finding.status == status]

    def counts(self) -> Counter[Status]:
        """How many findings of each status."""
        totals: Counter[Status] = Counter()
        for (status, _), number in self.tally.items():
            totals[status] += number
        totals["ok"] = len(self.met)
        return totals

    def drift_by_severity(self) -> dict[str, int]:
        """Severity → how many drifts, the worst first."""
        return {severity: self.tally["drift", severity] for severity in SEVERITIES}

    def exit_code(self, floor: Severity, *, unknown_counts: bool = False) -> int:
        """1 drift at or above the floor · 3 no such drift, and a store was not read · 0 otherwise.

        `unknown_counts`: anything unknown that is not waived ends with 3 too.
        """
        if reaches(floor, (severity for (status, severity) in self.tally if status == "drift")):
            return 1
        return 3 if self.unread or (unknown_counts and self.counts()["unknown"]) else 0


def reaches(floor: str, severities: Iterable[str]) -> bool:
    """Whether one of the severities is the floor or worse."""
    order: Sequence[str] = SEVERITIES
    return any(order.index(severity) <= order.index(floor) for severity in severities)


_RANKS = {severity: rank for rank, severity in enumerate(SEVERITIES)}


def _worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """By severity, then by how far they reach, then by store, name and fact."""
    alike = groupby(findings, attrgetter("requirement"))  # findings come requirement by requirement
    runs = [(_RANKS[required.severity], required.fact, list(findings_alike)) for required, findings_alike in alike]
    groups: dict[tuple[int, Weight, str, str], list[Finding]] = {}
    for rank, _, findings_alike in sorted(runs, key=itemgetter(0, 1)):
        for finding in findings_alike:
            groups.setdefault((rank, finding.weight, finding.store, finding.name), []).append(finding)
    order = sorted(groups, key=itemgetter(2, 3))  # what is equal keeps the order of the sort before
    order.sort(key=itemgetter(1), reverse=True)
    order.sort(key=itemgetter(0))
    return [finding for key in order for finding in groups[key]]


class Judge(msgspec.Struct, frozen=True, dict=True):
    """The baseline in force at a moment, and the waivers: what every command judges by, so that no two can differ."""

    baseline: Baseline
    moment: datetime
    waivers: tuple[Waiver, ...] = ()

    @cached_property
    def cascade(self) -> Cascade:
        """The requirements on each subject, worked out once for those that are alike."""
        return Cascade(in_force(self.baseline, self.moment))

    def about(self, *facts: str) -> Judge:
        """The same judge of requirements on facts whose names begin so, and of whatever is required without a sheet."""
        sheets = [
            msgspec.structs.replace(sheet, require=[one for one in sheet.require if one.fact.startswith(facts)])
            for sheet in self.baseline.sheets
        ]
        return msgspec.structs.replace(self, baseline=msgspec.structs.replace(self.baseline, sheets=sheets))

    def findings(self, subject: Subject, tallies: Tallies = NO_TALLIES) -> list[Finding]:
        """The findings on a subject, drift weighed, and marked where it is waived."""
        return self.waived(self.unwaived(subject, tallies))[0]

    def unwaived(self, subject: Subject, tallies: Tallies = NO_TALLIES) -> list[Finding]:
        """The findings before waivers, drift weighed."""
        views = [subject] if isinstance(subject, BucketSubject) else []
        weights = _Weights(views, self.cascade.baseline.sensitive)
        return evaluate(self.cascade, subject, tallies, _promised(subject), weights)

    def of_buckets(self, views: Sequence[BucketSubject], tallies: Tallies = NO_TALLIES) -> Iterator[JudgedAlike]:
        """The findings on the buckets of one store before waivers, drift weighed; what is ok, by name alone."""
        weights = _Weights(views, self.cascade.baseline.sensitive)
        for required, alike in self._alike(views):
            facts_of = partial(BucketSubject.facts_of_each, alike)
            yield from evaluate_alike(required, alike, facts_of, weights, tallies)

    def _alike(self, views: Sequence[BucketSubject]) -> Iterable[tuple[list[RequirementInForce], list[BucketSubject]]]:
        """Buckets by the requirements that are in force on them."""
        groups: dict[int, tuple[list[RequirementInForce], list[BucketSubject]]] = {}
        for view in views:
            required = self.cascade.required_of(view, _promised(view))
            groups.setdefault(id(required), (required, []))[1].append(view)
        return groups.values()

    def waived(self, findings: Iterable[Finding]) -> tuple[list[Finding], list[WaiverState]]:
        """Findings, the waived ones marked, and the state of each waiver."""
        return waive(findings, list(self.waivers), self.moment, self.cascade.baseline.longest_waiver)

    def on_objects(self, subject: Subject) -> list[Requirement]:
        """The requirements on a bucket's objects that need its version table; none where it has no table."""
        if not subject.table.settled:
            return []
        return [r.requirement for r in self.cascade.required_of(subject, _promised(subject)) if r.of_objects]


def _promised(subject: Subject) -> tuple[Requirement, ...]:
    """What is required of a subject without any sheet."""
    if isinstance(subject, MirrorSubject):
        return subject.promised
    if not isinstance(subject, BucketSubject):
        return ()
    locked = OF_LOCKED_BUCKETS if subject.locked and subject.fact("lock.way-around").state == "known" else ()
    if not subject.bucket.anonymous_test.value:
        return locked
    wrong = {
        "anonymous-test": subject.probed.value == "disagrees",
        "front-bypass": subject.fact("front-bypass").value == "on",
    }
    return locked + tuple(requirement for requirement in OF_PROBED_BUCKETS if wrong[requirement.fact])


def _weigh(view: BucketSubject, sensitive: All | None) -> Weight:
    """How far whatever drifts on a bucket reaches."""
    wide, some = view.levels.get("open", frozenset()), view.levels.get("restricted", frozenset())
    marked = sensitive is not None and sensitive.match(view).yes is not False
    held = view.bucket.usage.value
    return Weight(marked, 2 if wide else int(bool(some)), len(wide | some), held.bytes if held else 0)


class _Weights(Weights):
    """How far the drift of these buckets reaches, worked out when asked."""

    def __init__(self, views: Iterable[BucketSubject], sensitive: All | None) -> None:
        super().__init__()
        self.views = {view.name: view for view in views}
        self.sensitive = sensitive

    def __missing__(self, name: str) -> Weight:
        view = self.views.get(name)
        weight = self[name] = NO_WEIGHT if view is None else _weigh(view, self.sensitive)
        return weight


@undisturbed()
def audit(
    stores: Sequence[StoreSubject],
    judge: Judge,
    mirrors: Sequence[MirrorSubject] = (),
    tallies: Tallies = NO_TALLIES,
    choice: Choice | None = None,
    limits: Limits = NO_LIMITS,
) -> Audit:
    """Hold a survey against a baseline: every bucket, every other subject of its stores, every mirrored bucket; or of
    these what is chosen. `limits`: the buckets that the survey was limited to."""
    wanted = choice or Choice()
    buckets = [view for store in stores for view in store.buckets.values() if wanted.has_subject(view)]
    others = [subject for store in stores for subject in store.subjects() if wanted.has_subject(subject)]
    copies = [mirror for mirror in mirrors if wanted.has_subject(mirror)]
    subjects: list[Subject] = [*buckets, *others, *copies]
    unwaived, met = _unwaived(judge, buckets, [*others, *copies], tallies)
    waived, stands = judge.waived(unwaived)
    public = on_public(buckets, waived, met)
    if choice is not None:
        waived, met = [one for one in waived if choice.has_requirement(one.requirement)], met.chosen(choice)
        stands = [one for one in stands if one.status != "unused"]  # it may be used by what was not chosen
    idle = [
        f'{sheet.place}: sheet "{sheet.name}" applies to nothing that was surveyed'
        for sheet in judge.cascade.baseline.sheets
        if not any(sheet.applies_to(subject) for subject in subjects)
    ]
    seen = coverage(stores, limits)
    stands = [one for one in stands if one.status != "unused" or seen.lists(*_about(one.waiver))]
    if len(idle) > 1 and not seen.whole:
        idle = [f"{len(idle)} sheets apply to nothing that was surveyed: not every bucket was"]
    dossiers = [store.index.dossier for store in stores]
    unread = [(dossier.store, dossier.unlisted) for dossier in dossiers if dossier.unlisted]
    chosen = [store for store in stores if not wanted.stores or store.name in wanted.stores]
    scope = Scope(chosen, buckets, judge.moment, stands, public, only_buckets=bool(wanted.tag))
    return Audit(_worst_first(waived), scope, met, unread, idle, len(buckets), stands, seen)


_STATUS_AND_SEVERITY = attrgetter("status", "requirement.severity")


def _about(waiver: Waiver) -> tuple[str, str]:
    """The store that a waiver names, a pattern, and the kind of subject."""
    return waiver.of.partition("/")[0], lookup(waiver.fact).subject


def _unwaived(
    judge: Judge, buckets: Sequence[BucketSubject], others: Iterable[Subject], tallies: Tallies
) -> tuple[list[Finding], Met]:
    """What is not ok, before waivers, and what is."""
    by_store: dict[str, list[BucketSubject]] = {}
    for view in buckets:
        by_store.setdefault(view.store, []).append(view)
    judged = [
        (store, one)
        for store, views in by_store.items()
        for start in range(0, len(views), TOGETHER)
        for one in judge.of_buckets(views[start : start + TOGETHER], tallies)
    ]
    all_findings = [finding for _, one in judged for finding in one.findings]
    all_findings += [finding for subject in others for finding in judge.unwaived(subject, tallies)]
    met = Met(
        [Column(one.requirement, store, one.ok) for store, one in judged if one.ok],
        [finding for finding in all_findings if finding.status == "ok"],
        {(view.store, view.name): view for view in buckets},
    )
    return [finding for finding in all_findings if finding.status != "ok"], met
