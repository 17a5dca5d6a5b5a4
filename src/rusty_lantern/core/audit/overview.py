"""An audit's results, for whoever reads it first: deadlines, what is public, one line a subject, what is unknown.

All of it follows from the findings and the dossiers; nothing is decided here. Causes that explain several rows are
folded into one: a bucket without object lock cannot have a retention, so one line says so.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import lru_cache

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.public_buckets import WORST_FIRST, OnPublic, PublicBucket, public_buckets, reached
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.audit.unknown_reasons import UnknownReason, unknown_reasons
from rusty_lantern.core.audit.waivers import WaiverState
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.finding_words import observed_words, show_fact
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import Value, show_bytes, show_names

SOON = timedelta(days=30)
"""What ends by itself within this is reported; what is scheduled for deletion always is."""
MOST_NAMED = 8
"""Of more buckets that depend on one key, only the number is shown."""


class Deadline(msgspec.Struct, frozen=True):
    """Something that is lost, or ends by itself, unless somebody acts before then."""

    when: datetime
    kind: str
    """`encryption key`, `bucket`, `waiver`, `share link`, `access key` or `certificate`."""
    store: str
    name: str
    what: str
    affects: str = ""
    """What depends on it."""


class SubjectDrift(msgspec.Struct, frozen=True):
    """One subject that has drift."""

    kind: str
    store: str
    name: str
    findings: Sequence[Finding]
    """The worst first."""

    @property
    def severity(self) -> str:
        """How bad the worst of it is."""
        return self.findings[0].requirement.severity

    @property
    def causes(self) -> tuple[str, ...]:
        """The causes in words, the worst first."""
        return tuple(_causes(self.findings))


class Overview(msgspec.Struct, frozen=True):
    """An audit on one screen."""

    deadlines: tuple[Deadline, ...] = ()
    public: tuple[PublicBucket, ...] = ()
    closed: int = 0
    """How many buckets are closed to the public in every way."""
    drift: tuple[SubjectDrift, ...] = ()
    unknown: tuple[UnknownReason, ...] = ()
    undetermined: tuple[str, ...] = ()
    """`STORE/BUCKET` of which no public access is known, and yet not every way is known to be closed."""
    let_in: tuple[tuple[str, tuple[Verb, ...]], ...] = ()
    """`STORE/BUCKET` whose store let requests without credentials in, though no rule that is known says so; by which
    verbs."""


def overview(
    stores: Sequence[StoreSubject],
    views: Sequence[BucketSubject],
    findings: Sequence[Finding],
    required: OnPublic,
    waivers: Sequence[WaiverState],
    moment: datetime,
    *,
    only_buckets: bool = False,
) -> Overview:
    """The findings on these stores and buckets summed up, as of a moment. `findings`: the worst first;
    those that are ok are left out. `required`: the status of what is required of public access.
    `only_buckets`: leave out what does not concern one of these buckets."""
    chosen = {(view.store, view.bucket.name) for view in views} if only_buckets else None
    shut = {view.title for view in views if view.decided.all_closed}
    drifted = _by_subject(finding for finding in findings if finding.status == "drift")
    public = public_buckets(views, required)
    listed = shut | {f"{one.store}/{one.name}" for one in public}
    return Overview(
        tuple(sorted(deadlines(stores, waivers, moment, chosen), key=lambda one: (one.when, one.store, one.name))),
        public,
        len(shut),
        tuple(SubjectDrift(*subject, findings_of) for subject, findings_of in drifted.items()),
        unknown_reasons([finding for finding in findings if finding.status == "unknown"], _read_by_document(stores)),
        tuple(sorted(view.title for view in views if view.title not in listed)),
        tuple((view.title, verbs) for view in views if (verbs := _let_in(view))),
    )


def _let_in(view: BucketSubject) -> tuple[Verb, ...]:
    unknown = reached(view, "unknown") if view.let_in else ()
    return tuple(verb for verb in unknown if verb in view.let_in)


def deadlines(
    stores: Sequence[StoreSubject],
    waivers: Sequence[WaiverState],
    moment: datetime,
    chosen: Collection[tuple[str, str]] | None = None,
) -> Iterator[Deadline]:
    """What will be lost or will end by itself. `chosen`: only what concerns these buckets, by store and name."""
    for one in stores:
        yield from _bucket_deadlines(one, moment, chosen)
        if chosen is None:
            yield from _store_deadlines(one.index.dossier, moment)
    for waived in waivers:
        waiver = waived.waiver
        store, _, name = waiver.of.partition("/")
        if waived.status == "ends soon" and (chosen is None or (store, name) in chosen):
            yield Deadline(waiver.until, "waiver", store, name, "ends", f"{waiver.fact} counts as drift again")


def _bucket_deadlines(
    one: StoreSubject, moment: datetime, chosen: Collection[tuple[str, str]] | None
) -> Iterator[Deadline]:
    dossier, store = one.index.dossier, one.index.dossier.store

    def has(bucket: str) -> bool:
        return chosen is None or (store, bucket) in chosen

    for key in dossier.encryption_keys.value or ():
        names = [bucket.name for bucket in one.index.protected_by.get(key.id, ()) if has(bucket.name)]
        if key.deleted.value is not None and key.deleted.value > moment and (names or chosen is None):
            depends = (
                f"{_many(len(names), 'bucket')} encrypted with it: {show_names(names, MOST_NAMED)}" if names else ""
            )
            unknown = one.key(key).fact("encryption-key.buckets")
            if not unknown.settled:
                more = f"which {'other ' if names else ''}buckets are encrypted with it is unknown: {unknown.reason}"
                depends = "; ".join(part for part in (depends, more) if part)
            name = next(iter(key.names), key.id)
            yield Deadline(key.deleted.value, "encryption key", store, name, "scheduled for deletion", depends)
    for bucket in dossier.buckets:
        when, held = bucket.scheduled_deletion.value, bucket.usage.value
        if when is not None and when > moment and has(bucket.name):
            depends = f"{_many(held.objects, 'object')}, {show_bytes(held.bytes)}" if held else ""
            yield Deadline(when, "bucket", store, bucket.name, "scheduled for deletion", depends)
    for link in dossier.links.value or ():
        ends = link.expires.value
        if not link.revoked and ends is not None and moment < ends <= moment + SOON and has(link.bucket):
            yield Deadline(ends, "share link", store, f"{link.bucket}/{link.key}", "expires")


def _store_deadlines(dossier: Dossier, moment: datetime) -> Iterator[Deadline]:
    for credential in dossier.credentials.value or ():
        ends = credential.expires.value
        if credential.state.value != "disabled" and ends is not None and moment < ends <= moment + SOON:
            yield Deadline(ends, "access key", dossier.store, credential.owner, "expires")
    others = [(f", at {one.at}", one.shown) for one in dossier.other_certificates]
    for where, certificate in [("", dossier.certificate), *others]:
        shown = certificate.value
        if shown is not None and moment < shown.ends <= moment + SOON:
            affects = f"every client that checks it{where}"
            yield Deadline(shown.ends, "certificate", dossier.store, dossier.store, "expires", affects)


def _many(number: int, one: str) -> str:
    return f"{number:,} {one}" + ("" if number == 1 else "s")


BySubject = Mapping[tuple[str, str, str], Sequence[Finding]]
"""Kind, store and name of a subject → findings on it."""


def _by_subject(findings: Iterable[Finding]) -> BySubject:
    grouped: dict[tuple[str, str, str], list[Finding]] = {}
    for finding in findings:
        grouped.setdefault((finding.kind, finding.store, finding.name), []).append(finding)
    return grouped


_NEEDS_LOCK = ("lock.", "objects.mode", "objects.retention", "objects.legal-hold", "objects.deletable-by")


def _causes(findings: Sequence[Finding]) -> Iterator[str]:
    """The causes of a subject's drift in words; what one of them explains is folded into it. `findings`: the worst
    first."""
    left: list[Finding] = []
    verbs: dict[str, list[str]] = {}
    unlocked = False
    for finding in findings:
        fact, value = finding.requirement.fact, finding.observed.value
        if fact.startswith("exposure.") and fact.count(".") == 1 and value in ("open", "restricted"):
            verbs.setdefault(str(value), []).append(fact.removeprefix("exposure."))
        else:
            left.append(finding)
            unlocked = unlocked or (fact == "lock.enabled" and value == "off")
    for level, words in sorted(verbs.items()):
        yield f"public access {level}: {', '.join(sorted(words, key=_rank))}"
    if unlocked:
        others = [finding for finding in left if not finding.requirement.fact.startswith(_NEEDS_LOCK)]
        folded = len(left) - len(others)
        yield "object lock is off" + (f" (explains {folded} requirements)" if folded > 1 else "")
        left = others
    yield from map(_in_words, left)


def _rank(verb: str) -> int:
    return next((n for n, one in enumerate(WORST_FIRST) if one == verb), len(WORST_FIRST))


def _in_words(finding: Finding) -> str:
    fact, seen = finding.requirement.fact, finding.observed
    if seen.state == "known" and finding.tally is None:
        return _value_words(fact, seen.value)
    return f"{fact}: {observed_words(finding)}"


@lru_cache(maxsize=4_096)
def _value_words(fact: str, value: Value | None) -> str:
    return f"{fact}: {show_fact(fact, Answer('known', value))}"


def _read_by_document(stores: Sequence[StoreSubject]) -> frozenset[str]:
    """The stores that are read by a document: nothing in them can be looked at."""
    protocols = ("s3", "swift", "blob")
    return frozenset(store.name for store in stores if store.index.dossier.protocol not in protocols)
