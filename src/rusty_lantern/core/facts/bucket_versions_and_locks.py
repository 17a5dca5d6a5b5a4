"""Facts of what protects the data in a bucket: versioning, encryption, object lock."""

from __future__ import annotations

from collections.abc import Callable

from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, switch_fact
from rusty_lantern.core.facts.event_actions import (
    ENCRYPTION_ACTIONS,
    KEY_ACTIONS,
    LOCK_ACTIONS,
    POLICY_ACTIONS,
)
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import DURATION, SWITCH, TEXT, Words


@fact(
    "versioning",
    Words(("never", "suspended", "on"), ordered=True),
    "whether overwritten and deleted objects stay as versions",
    area="versions and locks",
    advice="switch versioning on; what was overwritten before stays lost",
    causes="PutBucketVersioning",
    safe="on",
    mirrored=True,
)
def versioning(subject: BucketView, _: str) -> Fact:
    """An empty answer means that it was never switched on."""
    return fact_of(subject.bucket.versioning.map(lambda v: v.state).default("never"))


# Objects stored before it was switched on stay as they were.
fact(
    "encryption.at-rest",
    Words(("none", "provider-managed", "customer-managed"), ordered=True),
    "default encryption of new objects: none, with a key that the provider manages, or one that the team manages",
    area="encryption",
    advice="set the default encryption, and write again what is there unencrypted",
    causes=f"{ENCRYPTION_ACTIONS} DeleteBucketEncryption",
    safe="at least provider-managed",
    mirrored=True,
)(lambda subject, _: fact_of(subject.bucket.encryption.map(lambda e: e.by).default("none")))


@fact(
    "encryption.key",
    TEXT,
    "the encryption key that the default encryption names",
    area="encryption",
    advice="use an encryption key in the same region that is enabled, rotated, and usable by the store",
    causes=f"{KEY_ACTIONS} {ENCRYPTION_ACTIONS}",
)
def encryption_key(subject: BucketView, _: str) -> Fact:
    """Absent where no key is named."""
    answer = subject.bucket.encryption
    return fact_of(answer.map(lambda e: e.key)) if answer.value is None or answer.value.key else absent_fact(answer)


# Default encryption encrypts such uploads all the same; some teams want both.
fact(
    "encryption.required",
    SWITCH,
    "whether the policy refuses every upload that does not ask for encryption itself",
    area="encryption",
    advice="add a Deny to the policy for uploads that do not ask for encryption",
    causes=POLICY_ACTIONS,
    safe="on",
)(lambda subject, _: subject.demanded("encryption"))

# A refusal that spares one action or one folder is none.
fact(
    "transport.required",
    SWITCH,
    "whether the policy refuses every request that comes over plain http",
    advice="add a Deny to the policy for requests that come over plain http",
    causes=POLICY_ACTIONS,
    safe="on",
)(lambda subject, _: subject.demanded("transport"))

# Often possible only when the bucket is made, and needs versioning.
fact(
    "lock.enabled",
    SWITCH,
    "whether versions in the bucket can be locked against deletion",
    area="versions and locks",
    advice="make a new bucket with the lock and copy, or see whether yours can add it",
    causes=LOCK_ACTIONS,
    safe="on",
    mirrored=True,
)(lambda subject, _: switch_fact(subject.bucket.lock, lambda lock: lock.enabled))


@fact(
    "lock.mode",
    Words(("governance", "compliance"), ordered=True),
    "default retention mode: governance yields to bypass-retention, compliance to nobody",
    area="versions and locks",
    advice="change the default retention; existing versions keep their own",
    causes=LOCK_ACTIONS,
    mirrored=True,
)
def lock_mode(subject: BucketView, _: str) -> Fact:
    """Absent where new versions inherit no retention."""
    answer = subject.bucket.lock
    return (
        fact_of(answer.map(lambda lock: lock.mode))
        if answer.value is None or answer.value.mode
        else absent_fact(answer)
    )


@fact(
    "lock.default-retention",
    DURATION,
    "default retention period of new versions (a year counts 365 days)",
    unit="seconds",
    area="versions and locks",
    advice="change the default retention; existing versions keep their own",
    causes=LOCK_ACTIONS,
    mirrored=True,
)
def lock_keep(subject: BucketView, _: str) -> Fact:
    """Absent where new versions inherit no retention."""
    answer = subject.bucket.lock
    return (
        fact_of(answer.map(lambda lock: lock.retention))
        if answer.value is None or answer.value.retention
        else absent_fact(answer)
    )


# Absent where there is no such bound; where there are two, the stricter counts.
fact(
    "lock.shortest-allowed",
    DURATION,
    "the shortest retention that the policy, or the store itself, allows for a version",
    unit="seconds",
    area="versions and locks",
    advice="change the default retention; existing versions keep their own",
    causes=POLICY_ACTIONS,
)(lambda subject, _: _stricter(subject.demanded("shortest"), _bound(subject, "shortest"), max))

# Absent where there is no such bound; where there are two, the stricter counts.
fact(
    "lock.longest-allowed",
    DURATION,
    "the longest retention that the policy, or the store itself, allows for a version",
    unit="seconds",
    area="versions and locks",
    advice="change the default retention; existing versions keep their own",
    causes=POLICY_ACTIONS,
)(lambda subject, _: _stricter(subject.demanded("longest"), _bound(subject, "longest"), min))


def _bound(subject: BucketView, name: str) -> Fact:
    """A bound of the store itself; a store of the common protocol has none."""
    answer = subject.bucket.bounds
    if answer.value is None:
        return absent_fact(answer) if answer.state == "unsupported" else fact_of(answer.map(str))
    value = getattr(answer.value, name)
    return Answer("known", value, "", answer.evidence) if value else absent_fact(answer)


def _stricter(one: Fact, other: Fact, choose: Callable[[int, int], int]) -> Fact:
    unread = next((fact for fact in (one, other) if not fact.settled), None)
    if unread is not None:
        return unread
    if one.value is None or other.value is None:
        return other if one.value is None else one
    return Answer("known", choose(int(str(one.value)), int(str(other.value))), one.note, one.evidence)
