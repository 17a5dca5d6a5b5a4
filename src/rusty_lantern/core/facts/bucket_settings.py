"""Facts of a bucket's other settings: logging, expiry, and what is beneath the objects."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from rusty_lantern.core.answer import SECRET_SEEN, Answer, Fact, absent_fact, fact_of, switch_fact
from rusty_lantern.core.facts.bucket_access import LEVEL
from rusty_lantern.core.facts.event_actions import LIFECYCLE_ACTIONS
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.bucket import LifecycleRule
from rusty_lantern.core.model.store_index import NOT_WHOLE
from rusty_lantern.core.value_types import COUNT, DURATION, SIZE, SWITCH, TEXT, Levels


def switched_on(answer: Answer[Any]) -> Fact:
    """On where something is configured, off where nothing is."""
    return fact_of(answer.map(lambda _: "on").default("off"))


def part_of(answer: Answer[Any], take: Callable[[Any], Any]) -> Fact:
    """A part of what is configured; absent where it is not there."""
    part = None if answer.value is None else take(answer.value)
    return absent_fact(answer) if answer.value is not None and not part else fact_of(answer.map(lambda _: part))


def counted(answer: Answer[Any], name: str) -> Fact:
    """A count, where counting was completed; else why it is not known."""
    if answer.value is not None and not answer.value.complete:
        least = getattr(answer.value, name)
        return Answer("failed", None, f"counting stopped at {least:,}: at least that many", answer.evidence)
    return fact_of(answer.map(lambda counts: getattr(counts, name)))


@fact("owner", TEXT, "who owns the bucket, as the store names them")
def owner(subject: BucketView, _: str) -> Fact:
    """From the ACL."""
    return fact_of(subject.bucket.owner)


_READABLE = ("policy", "tags", "lifecycle", "website", "logging", "notifications", "cross_origin", "replication")
"""Settings that everybody sees who may read a bucket's settings, and that people write texts into."""


@fact(
    "settings.secret",
    SWITCH,
    "whether a setting of the bucket (policy, tags, …) holds what looks like a secret",
    safe="off",
    advice=(("on", "take the secret out ({note}), and change it wherever it opens anything"),),
)
def settings_secret(subject: BucketView, _: str) -> Fact:
    """Whoever may read the settings has it. It is never kept: only that there is one, and in which setting."""
    holding = [name for name in _READABLE if getattr(subject.bucket, name).note == SECRET_SEEN]
    if holding:
        return Answer("known", "on", f"in: {', '.join(holding)}", getattr(subject.bucket, holding[0]).evidence)
    unread = next((a for name in _READABLE if (a := getattr(subject.bucket, name)).unread), None)
    return fact_of(unread.map(str)) if unread is not None else Answer("known", "off")


@fact("tenant", TEXT, "the tenant that the bucket belongs to, in a store for several")
def tenant(subject: BucketView, _: str) -> Fact:
    """Absent where the owner belongs to none."""
    return fact_of(subject.bucket.tenant)


# Absent where there is no such limit.
fact("quota.bytes", SIZE, "the most that the bucket may hold", unit="bytes", advice="set the quota: {wanted}")(
    lambda subject, _: part_of(subject.bucket.quota, lambda quota: quota.most_bytes)
)

# Absent where there is no such limit.
fact("quota.objects", COUNT, "the most objects that the bucket may hold", advice="set the quota: {wanted}")(
    lambda subject, _: part_of(subject.bucket.quota, lambda quota: quota.most_objects)
)

fact(
    "counters.objects",
    COUNT,
    "everything in the bucket, old versions too, by the store's own counter (it may lag)",
    restless=True,
)(lambda subject, _: counted(subject.bucket.counters, "objects"))

fact("counters.bytes", SIZE, "the size of all that, by the store's own counter", unit="bytes", restless=True)(
    lambda subject, _: counted(subject.bucket.counters, "bytes")
)


@fact(
    "transport", Levels(("plain", "tls"), ordered=True), "how the store was spoken to: plain http, or TLS", safe="tls"
)
def transport(subject: BucketView, _: str) -> Fact:
    """A property of the store's address."""
    used = subject.dossier.transport
    return Answer("known", used) if used else Answer("failed", None, "the dossier does not say")


@fact(
    "versioning.mfa-delete",
    SWITCH,
    "whether deleting a version needs MFA",
    area="versions and locks",
    safe="on",
    advice="require MFA for deleting versions",
    causes="PutBucketVersioning",
)
def mfa(subject: BucketView, _: str) -> Fact:
    """Off where versioning was never configured."""
    return switch_fact(subject.bucket.versioning, lambda v: v.mfa)


@fact(
    "logging",
    SWITCH,
    "whether reads and writes are logged",
    area="logging",
    advice="switch access logging on, into a bucket used for logs only",
    causes="PutBucketLogging",
    safe="on",
)
def logging(subject: BucketView, _: str) -> Fact:
    """Off unless somebody switched it on."""
    return switched_on(subject.bucket.logging)


# Absent where nothing is recorded.
fact(
    "logging.target",
    TEXT,
    "the bucket that logs are written to",
    area="logging",
    advice="write the logs to another bucket, one that only the readers of logs can access",
    causes="PutBucketLogging",
)(lambda subject, _: part_of(subject.bucket.logging, lambda logging: logging.target))


@fact(
    "logging.target-kind",
    Levels(("missing", "itself", "another"), ordered=True),
    "where logs are written to: a bucket that this store does not list, the bucket itself, or another one",
    area="logging",
    advice="write the logs to another bucket, one that only the readers of logs can access",
    causes="PutBucketLogging",
    habit=False,
)
def logging_target_is(subject: BucketView, _: str) -> Fact:
    """A record that is written nowhere is no record; one in the bucket itself grows by being written."""
    if not subject.index.whole:
        return Answer("failed", None, NOT_WHOLE)

    def which(target: str) -> str:
        there = subject.neighbour(target) is not None
        return "itself" if target == subject.bucket.name else "another" if there else "missing"

    answer = subject.bucket.logging
    if answer.value is None:
        return fact_of(answer.map(str))
    return Answer("known", which(answer.value.target), f"the target is {answer.value.target}", answer.evidence)


@fact(
    "logging.target-exposure",
    LEVEL,
    "public access to the bucket that logs are written to: the widest verdict of all verbs",
    area="logging",
    advice="write the logs to another bucket, one that only the readers of logs can access",
    causes="PutBucketLogging",
    habit=False,
)
def logging_target_exposure(subject: BucketView, _: str) -> Fact:
    """Who reads the record knows who reads the bucket; who writes to it can hide their own steps."""
    answer = subject.bucket.logging
    if answer.value is None:
        return fact_of(answer.map(str))
    target = subject.neighbour(answer.value.target)
    if target is None and logging_target_is(subject, _).value == "missing":
        return Answer("absent", None, f"the target {answer.value.target} does not exist", answer.evidence)
    if target is None:
        return Answer("failed", None, f"the target {answer.value.target} was not read", answer.evidence)
    verdicts = [(name, target.exposures[name]) for name in sorted(target.exposures) if "." in name]
    name, widest = max(verdicts, key=lambda pair: LEVEL.rank(str(pair[1].value)) if pair[1].settled else -1)
    doubt = next((fact for _, fact in verdicts if not fact.settled), None)
    if doubt is not None and widest.value != "open":
        return Answer(doubt.state, None, f"{answer.value.target}: {doubt.note}", doubt.evidence)
    note = f"{answer.value.target}: {name} by {widest.note}" if widest.value != "closed" else answer.value.target
    return Answer("known", widest.value, note, widest.evidence)


def _shortest(rules: Sequence[LifecycleRule], period: str) -> int:
    """A rule with a date deletes what is a second old, from that day on."""
    periods = [getattr(rule, period) for rule in rules if rule.enabled]
    periods += [1 for rule in rules if period == "expires" and rule.enabled and rule.expires_on]
    return min((p for p in periods if p), default=0)


_PERIODS = {
    "expires": ("expires", "the shortest period after which a rule deletes current objects"),
    "expires-old": ("expires_old", "the shortest period after which a rule deletes old versions"),
    "clears-uploads": ("clears_uploads", "the shortest period after which a rule clears unfinished uploads away"),
}
_OF_ALL = {
    "all-expire": ("expires", "the period after which rules delete every current object"),
    "all-old-expire": ("expires_old", "the period after which rules delete every old version"),
    "all-uploads-cleared": ("clears_uploads", "the period after which rules clear every unfinished upload away"),
}
"""By rules that leave nothing in the bucket out: no prefix, no tag, no size, no number of versions to leave."""


def _enter_periods() -> None:
    for name, (period, meaning) in (_PERIODS | _OF_ALL).items():

        def derive(subject: BucketView, _: str, period: str = period, every: bool = name in _OF_ALL) -> Fact:
            return part_of(
                subject.bucket.lifecycle,
                lambda rules: _shortest([rule for rule in rules if rule.for_all or not every], period),
            )

        fact(
            f"lifecycle.{name}",
            DURATION,
            meaning,
            unit="seconds",
            area="versions and locks",
            causes=LIFECYCLE_ACTIONS,
            advice="add or change the lifecycle rule: {wanted}",
            mirrored=name in ("expires", "expires-old"),
        )(derive)


_enter_periods()


@fact(
    "lifecycle.against-retention",
    SWITCH,
    "whether a rule would delete sooner than the default retention lets it (it then deletes nothing, or hides)",
    area="versions and locks",
    advice="change the lifecycle rules so that they wait for the retention to end",
    causes=LIFECYCLE_ACTIONS,
    safe="off",
)
def against_retention(subject: BucketView, _: str) -> Fact:
    """Needs both the rules and the lock to be known."""
    lock, rules = subject.bucket.lock, subject.bucket.lifecycle
    if not lock.settled or not rules.settled:
        unread = lock if not lock.settled else rules
        return Answer(unread.state, None, unread.note, unread.evidence)
    if lock.value is not None and lock.value.default_unread:
        return Answer("failed", None, lock.value.default_unread, lock.evidence)
    keep = lock.value.retention if lock.value else 0
    due = min((p for p in (_shortest(rules.value or [], n) for n in ("expires", "expires_old")) if p), default=0)
    return Answer("known", "on" if keep and due and due < keep else "off", "", rules.evidence)


@fact("requester-pays", SWITCH, "whether the requester pays", causes="PutBucketRequestPayment", habit=False)
def requester_pays(subject: BucketView, _: str) -> Fact:
    """Off unless switched on."""
    return switch_fact(subject.bucket.requester_pays)


@fact(
    "transfer-endpoint",
    SWITCH,
    "whether the bucket answers at a transfer endpoint as well",
    causes="PutBucketAccelerateConfiguration PutAccelerateConfiguration",
    safe="off",
)
def transfer_endpoint(subject: BucketView, _: str) -> Fact:
    """Off unless switched on."""
    return switch_fact(subject.bucket.transfer_endpoint)
