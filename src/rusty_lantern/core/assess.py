"""From dossiers and a baseline to an audit: every fact of every bucket, every judgement, and what was not seen.

A function of its inputs alone: the same survey, baseline, estate and moment give the same audit.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import Any

import msgspec

from rusty_lantern.core.access.doors import worst
from rusty_lantern.core.access.exposure import BUDGET, Exposures, Reach, Verdict, reach_of
from rusty_lantern.core.access.identities import Identity, read_identity
from rusty_lantern.core.access.keys import AUDIENCES
from rusty_lantern.core.access.own import asks_who
from rusty_lantern.core.access.rules import Rules, Surroundings, named_in, rules_of
from rusty_lantern.core.access.sets import Work
from rusty_lantern.core.access.shapes import Shapes
from rusty_lantern.core.access.verbs import VERBS
from rusty_lantern.core.baseline.choosing import All, Spoken, spoken
from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.judge import (
    Cascade,
    Judgement,
    Status,
    Tallied,
    Weight,
    judge,
    judge_subject,
    no_tables,
)
from rusty_lantern.core.baseline.sheets import SEVERITIES, Baseline, Requirement, Severity, in_force
from rusty_lantern.core.circles import Circle, or_stated, with_needs
from rusty_lantern.core.dossier import Bucket, Dossier, undisturbed
from rusty_lantern.core.errors import Place, defect
from rusty_lantern.core.estate import Estate, Store
from rusty_lantern.core.evidence import Answer, Partly
from rusty_lantern.core.facts import Fact, Subject, UnknownFact, derive, lookup
from rusty_lantern.core.holders import Verb
from rusty_lantern.core.mirror_facts import Compared
from rusty_lantern.core.mirrors import Missing, mirrored
from rusty_lantern.core.mirrors import judgements as mirror_judgements
from rusty_lantern.core.register import REGISTER
from rusty_lantern.core.roster import Roster, lost
from rusty_lantern.core.scales import show_moment
from rusty_lantern.core.waivers import Waived, Waiver
from rusty_lantern.core.waivers import apply as waive


@dataclass(frozen=True)
class BucketView:
    """One bucket of a survey with everything that follows from it, worked out when asked."""

    bucket: Bucket
    dossier: Dossier
    moment: datetime
    store: Store | None = None
    trusted_accounts: frozenset[str] = frozenset()
    neighbours: Mapping[str, BucketView] = field(default_factory=dict)
    """The buckets of the same store, by name."""
    circle: Circle | None = None
    """The store's identities and keys; a bucket that stands alone has none. A proposed one has the circle of that which
    is there, and is not in it."""
    trusted_networks: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """`STORE/BUCKET`."""
        return f"{self.dossier.store}/{self.bucket.name}"

    @cached_property
    def rules(self) -> Rules:
        """Policy, grants and guards as rules."""
        found = rules_of(self.bucket, self.dossier, self.roster.members)
        if not found.object_doubt or self.store is None:
            return found
        doubt: Fact = Answer("failed", None, found.object_doubt)
        stated = or_stated("grants.of-objects", doubt, self.store, self.moment)
        return msgspec.structs.replace(found, object_doubt="") if stated.value == "none" else found

    @cached_property
    def surroundings(self) -> Surroundings:
        """The moment and the owner that decisions depend on."""
        told = self.dossier.account
        unread = f"the account that the bucket is in was not read ({told.reason})" if told.unread else ""
        unread = "" if self.dossier.account_number else unread
        return Surroundings(self.moment, self.account, self.trusted_accounts, self.trusted_networks, unread)

    @property
    def account(self) -> str:
        """The account that the bucket is in: its number, where that is known."""
        return self.dossier.account_number or self.dossier.account.value or ""

    @property
    def roster(self) -> Roster:
        """Who there is in the store, and which keys."""
        return self.circle.roster if self.circle else _alone(self)

    @cached_property
    def verdicts(self) -> Exposures:
        """The exposure for each audience and verb. Whatever goes wrong with one bucket is unknown of it alone."""
        try:
            return self.shapes.exposures(self.rules, self.surroundings)
        except Exception as error:
            unknown = Verdict("unknown", doubts=(defect(error),))
            return {(audience, verb): unknown for audience in AUDIENCES for verb in VERBS}

    @cached_property
    def _subject(self) -> Subject:
        facts = {f"{audience}.{verb}": exposure_fact(v, self.bucket) for (audience, verb), v in self.verdicts.items()}
        trusted = frozenset(f"{a}.{v}" for (a, v), one in self.verdicts.items() if one.fence and one.fence.trusted)
        return Subject(
            self.bucket, self.dossier, facts, self._doors(), self._access, self._demands, self._elsewhere, trusted,
            self.roster,
        )  # fmt: skip

    @property
    def shapes(self) -> Shapes:
        """What was decided already of buckets of the same store with rules alike."""
        return self.circle.shapes if self.circle else Shapes()

    def _demands(self, name: str) -> Fact:
        asked = self.bucket.policy
        return msgspec.structs.replace(
            self.shapes.demanded(self.rules, self.surroundings, name), evidence=asked.evidence
        )

    def _elsewhere(self, name: str) -> Subject | None:
        found = self.neighbours.get(name)
        return found._subject if found else None

    @cached_property
    def named(self) -> dict[Identity, dict[Verb, Reach] | None]:
        """The identities that the rules name, with what each is granted once that was asked for."""
        return dict.fromkeys(named_in(self.rules))

    def granted(self, identity: Identity) -> dict[Verb, Reach]:
        """What the rules grant an identity that they name."""
        found = self.named.get(identity)
        if found is None:
            try:
                found = self._granted(identity)
            except Exception as error:
                found = {verb: Reach("unknown", doubts=(defect(error),)) for verb in VERBS}
            self.named[identity] = found
        return found

    def _granted(self, identity: Identity) -> dict[Verb, Reach]:
        circle = self.circle
        if circle is not None and circle.buckets.get(self.bucket.name) is self:
            return circle.across.granted(identity, self.bucket.name)
        return reach_of(identity, self.rules, self.surroundings, Work(BUDGET))

    def trusts(self, identity: Identity) -> Fact:
        """Whether the identity is one of the owner's account or of a trusted one: `on`, `off`, or not known."""
        own = {self.account, self.dossier.account.value or "", self.bucket.owner.value or ""} - {""}
        inner = self.trusted_accounts | own
        if identity.account in inner or identity.name in inner:
            return Answer("known", "on")
        if identity.kind == "group" or identity.name in self.roster.holders:
            return Answer("known", "on")
        if identity.kind in ("service", "federated"):
            return Answer("known", "off")
        if identity.account and self.dossier.account_number:
            return Answer("known", "off")
        asked: list[Answer[Any]] = [self.dossier.account]
        if not identity.account:
            asked += [self.bucket.owner, self.dossier.identities]
        return next((lost(one) for one in asked if one.unread), Answer("known", "off"))

    def holders(self, verb: Verb) -> list[str]:
        """Who may use a verb: audiences, identities that the rules name, and the store's own, as far as known."""
        audiences = [audience for audience in AUDIENCES if self.verdicts[audience, verb].level in ("narrow", "open")]
        named = [who.name for who in self.named if self.granted(who)[verb].level in ("narrow", "open")]
        return [*audiences, *sorted({*named, *self._own_holders(verb)})]

    def _own_holders(self, verb: Verb) -> list[str]:
        """The store's own identities that may use the verb here, by both sides together."""
        circle = self.circle
        if circle is None or circle.buckets.get(self.bucket.name) is not self:
            return []
        return [
            holder.name
            for holder in self.roster.dossier.identities.value or ()
            for permitted in circle.across.of(holder)
            if verb in permitted.reach
            and permitted.reach[verb].level in ("narrow", "open")
            and self.bucket.name in permitted.buckets
        ]

    def _access(self, name: str) -> Fact:
        trusted = {who: self.trusts(who) for who in self.named} if name == "outside" else {}
        wanted = [who for who in self.named if name == who.name or (who in trusted and trusted[who].value != "on")]
        if not wanted and name != "outside" and any(map(asks_who, self.rules.policy.statements)):
            wanted = [read_identity(name)]  # not named, and what conditions say of callers may take it in
        asked = self.bucket.policy.evidence
        reached = [(verb, reach) for who in wanted for verb, reach in self.granted(who).items()]
        doubt = next((reach.doubts[0] for _, reach in reached if reach.level == "unknown" and reach.doubts), "")
        doubt = doubt or next(iter(self.rules.doubted.values()), "")
        sure = {who for who in wanted if who not in trusted or trusted[who].value == "off"}
        reaching = [who for who in wanted if any(reach.level != "closed" for reach in self.granted(who).values())]
        stranger = next((who for who in reaching if who not in sure), None)
        if stranger is not None and not doubt:
            doubt = f"whether {stranger.name} is one of the store's own is not known: {trusted[stranger].reason}"
        if doubt:
            certain = {v for who in sure for v, one in self.granted(who).items() if one.level in ("narrow", "open")}
            return Partly("failed", None, doubt, asked, certain=" ".join(verb for verb in VERBS if verb in certain))
        verbs = {verb for verb, reach in reached if reach.level != "closed"}
        note = ", ".join(who.name for who in wanted if name == "outside")
        return Answer("known", " ".join(verb for verb in VERBS if verb in verbs), note, asked)

    def _doors(self) -> Fact:
        knocks = self.bucket.doors
        if not knocks.value:
            return Answer("failed" if knocks.state == "known" else knocks.state, None, knocks.note, knocks.evidence)
        outcome, why = worst(self.verdicts, knocks.value)
        return Answer("known", outcome, why, knocks.evidence)

    def fact(self, name: str) -> Fact:
        """A fact by name; where it could not be read and the store's owner states it, what is stated."""
        try:
            found = derive(name, self._subject)
        except UnknownFact:
            raise
        except Exception as error:
            return Answer("failed", None, defect(error))
        return found if self.store is None else or_stated(name, found, self.store, self.moment)

    def facts(self) -> dict[str, Fact]:
        """Every fact of the register, with the bucket's own tags for `tags.*`."""
        names = [name for name, entry in REGISTER.items() if entry.subject == "bucket" and not name.endswith(".*")]
        tags = self.bucket.tags.value or {}
        return {name: self.fact(name) for name in [*names, "access.outside", *(f"tags.{tag}" for tag in sorted(tags))]}


def exposure_fact(verdict: Verdict, bucket: Bucket) -> Fact:
    """A verdict as a fact of the register; its evidence is the answer that the deciding rule came from."""
    asked = (bucket.grants if verdict.because.startswith("grant of") else bucket.policy).evidence
    if verdict.level == "unknown":
        return Answer("failed", None, "; ".join(verdict.doubts), asked)
    note = verdict.because
    if verdict.until:
        note = f"{note}, until {show_moment(verdict.until)}"
    if verdict.fence:
        note = f"{note}, {verdict.fence.words}" if note else verdict.fence.words
    return Answer("known", verdict.level, note, asked)


def _alone(view: BucketView) -> Roster:
    return Circle(view.dossier, view.moment, {view.bucket.name: view}, view.store).roster


def beside(view: BucketView, proposed: Bucket) -> BucketView:
    """A bucket as it is proposed, in the surroundings of the one that is there."""
    neighbours = {**view.neighbours, proposed.name: view}
    return replace(view, bucket=proposed, neighbours=neighbours)


def alone(store: str, bucket: Bucket, moment: datetime, estate: Estate | None) -> BucketView:
    """A bucket in a store of which nothing is known: whatever is not said of the store is not configured there."""
    entry = next((one for one in estate.stores if one.name == store), None) if estate else None
    trusted = estate.trusted_accounts if estate else frozenset()
    absent: Answer[Any] = Answer("absent")
    dossier = Dossier(
        store=store, taken=moment, listing=Answer("known", 1), guards=absent, network=absent, account=absent,
        identities=absent, groups=absent, credentials=absent, encryption_keys=absent, links=absent,
    )  # fmt: skip
    return BucketView(
        bucket, dossier, moment, entry, trusted, trusted_networks=estate.trusted_networks if estate else ()
    )


def circles(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[Circle]:
    """The stores of a survey, each with its buckets by name."""
    entries = {store.name: store for store in estate.stores} if estate else {}
    trusted = estate.trusted_accounts if estate else frozenset()
    networks = estate.trusted_networks if estate else ()
    found = []
    for dossier in dossiers:
        near: dict[str, BucketView] = {}
        entry = entries.get(dossier.store)
        circle = Circle(with_needs(dossier, entry), moment, near, entry)
        for bucket in sorted(dossier.buckets, key=lambda b: b.name):
            near[bucket.name] = BucketView(bucket, dossier, moment, entry, trusted, near, circle, networks)
        found.append(circle)
    return found


def views(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[BucketView]:
    """All buckets of a survey, store by store, by name."""
    return [view for circle in circles(dossiers, estate, moment) for view in circle.buckets.values()]


class Audit(msgspec.Struct, frozen=True):
    """What an audit found. `unread` names stores whose buckets could not be listed, with the reason."""

    judgements: list[Judgement]
    unread: list[tuple[str, str]] = msgspec.field(default_factory=list)
    idle_sheets: list[str] = msgspec.field(default_factory=list)
    buckets: int = 0
    waivers: list[Waived] = msgspec.field(default_factory=list)
    """How each waiver stands."""
    exposed: dict[str, int] = msgspec.field(default_factory=dict)
    """Verb → how many buckets anyone gets into, from everywhere."""

    def of(self, status: Status) -> list[Judgement]:
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


def _order(judgement: Judgement) -> tuple[object, ...]:
    severity, weight = SEVERITIES.index(judgement.requirement.severity), judgement.weight
    reach = (-weight.sensitive, -weight.audience, -weight.verbs, -weight.bytes)
    return severity, *reach, judgement.store, judgement.name, judgement.requirement.fact


def _weigh(view: BucketView, sensitive: All | None) -> Weight:
    """How far whatever drifts on a bucket reaches."""
    levels = [verdict.level for verdict in view.verdicts.values()]
    open_to = {verb for (_, verb), verdict in view.verdicts.items() if verdict.level in ("narrow", "open")}
    marked = (
        sensitive is not None and sensitive.fit(spoken(view.dossier.store, view.bucket, view.fact)).yes is not False
    )
    held = view.bucket.usage.value
    return Weight(marked, 2 if "open" in levels else int("narrow" in levels), len(open_to), held.bytes if held else 0)


def _judged(view: BucketView, cascade: Cascade, tallied: Tallied) -> list[Judgement]:
    """The judgements on a bucket, its drift weighed."""
    found = judge(cascade, view.dossier.store, view.bucket, view.fact, tallied)
    if view.bucket.doors.value and view.fact("doors").value == "disagrees":
        found.append(Judgement(view.dossier.store, view.bucket.name, DOORS, view.fact("doors"), "drifted"))
    if not any(j.status == "drifted" for j in found):
        return found
    weight = _weigh(view, cascade.baseline.sensitive)
    return [msgspec.structs.replace(j, weight=weight) if j.status == "drifted" else j for j in found]


DOORS = Requirement(
    "doors", read_comparison("agrees", lookup("doors").scale), "high", "", Place("built in"), "built in"
)
"""What no baseline needs to ask for: that a store answers as its rules say."""


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

    def of_bucket(self, view: BucketView, tallied: Tallied = no_tables) -> list[Judgement]:
        """The judgements on a bucket, drift weighed, and marked where it is waived."""
        return self.waived(_judged(view, self.cascade, tallied))[0]

    def of_subject(self, circle: Circle, subject: tuple[Spoken, Any]) -> list[Judgement]:
        """The same on a store's other subjects."""
        return self.waived(self.unwaived(circle, subject))[0]

    def unwaived(self, circle: Circle, subject: tuple[Spoken, Any]) -> list[Judgement]:
        """The same, before waivers."""
        named, view = subject
        observe = circle.observer(view)
        return judge_subject(self.cascade, msgspec.structs.replace(named, observe=observe), observe)

    def of_mirror(self, compared: Compared) -> list[Judgement]:
        """The judgements on a mirrored bucket's copy."""
        return self.waived(mirror_judgements(compared, self.cascade.baseline))[0]

    def waived(self, judgements: Iterable[Judgement]) -> tuple[list[Judgement], list[Waived]]:
        """Judgements with what is waived marked so, and how each waiver stands."""
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
        if not any(sheet.speaks_of(subject) for subject in subjects)
    ]
    judgements, stands = judge.waived(judgements)
    exposed: dict[str, int] = {verb: sum(v.verdicts["anyone", verb].level == "open" for v in seen) for verb in VERBS}
    return Audit(judgements, unread, idle, len(seen), stands, exposed)
