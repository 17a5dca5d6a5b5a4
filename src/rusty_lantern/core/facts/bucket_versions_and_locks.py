"""Facts of what protects the data in a bucket: versioning, encryption, object lock."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from rusty_lantern.core.access.way_around_locks import way_around_locks
from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, switch_fact
from rusty_lantern.core.facts.event_actions import (
    ENCRYPTION_ACTIONS,
    KEY_ACTIONS,
    LOCK_ACTIONS,
    POLICY_ACTIONS,
)
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.bucket import Lock
from rusty_lantern.core.model.store_index import keeper_of
from rusty_lantern.core.value_types import DURATION, MOMENT, SWITCH, TEXT, Levels


@fact(
    "versioning",
    Levels(("never", "suspended", "on"), ordered=True),
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
@fact(
    "encryption.at-rest",
    Levels(("none", "provider-managed", "customer-managed"), ordered=True),
    "default encryption of new objects: none, with a key that the provider manages, or one that the team manages",
    area="encryption",
    advice="set the default encryption, and write again what is there unencrypted",
    causes=f"{ENCRYPTION_ACTIONS} DeleteBucketEncryption",
    safe="at least provider-managed",
    mirrored=True,
)
def at_rest(subject: BucketView, _: str) -> Fact:
    """Where the bucket names a key, the key itself says who keeps it, if anything does."""
    answer = subject.bucket.encryption
    key = subject.index.key_named(answer.value.key) if answer.value is not None and answer.value.key else None
    if answer.value is not None and key is not None and key.managed_by.value is not None:
        return Answer("known", keeper_of(answer.value, key), f"by the key {key.id}", answer.evidence)
    if answer.value is None or answer.value.by:
        return fact_of(answer.map(lambda e: str(e.by)).default("none"))
    which = f"the key of {answer.value.key}" if answer.value.key else "the key"
    return Answer("failed", None, f"it is encrypted; the store does not say who keeps {which}", answer.evidence)


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


# Where they can, a single upload may be under a key that nobody watches.
fact(
    "encryption.enforced",
    SWITCH,
    "whether uploads are kept from asking for another encryption than the default",
    area="encryption",
    advice="forbid uploads to choose an encryption of their own",
    safe="on",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.encryption, lambda e: e.enforced))

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


@fact(
    "encryption.customer-provided",
    Levels(("allowed", "refused"), ordered=True),
    "whether an upload may bring an encryption key of its own, which the store does not keep: the policy or the "
    "bucket's encryption setting can refuse it",
    area="encryption",
    advice="block customer-provided keys in the bucket's encryption setting, or add a Deny to the policy for uploads "
    "that bring one",
    causes=f"{POLICY_ACTIONS} {ENCRYPTION_ACTIONS}",
    safe="refused",
    habit=False,
)
def customer_provided(subject: BucketView, _: str) -> Fact:
    """Whoever may write can make data unreadable so, to all but themselves. Where there are no policies, the protocol
    has no such keys, or none that a bucket refuses."""
    setting, by_policy = subject.bucket.encryption, subject.demanded("store-keys")
    if setting.value is not None and setting.value.customer_provided_refused:
        return Answer("known", "refused", "by the encryption setting", setting.evidence)
    if by_policy.value == "on":
        return Answer("known", "refused", "by the policy", by_policy.evidence)
    if subject.bucket.policy.state == "unsupported":
        return lost(subject.bucket.policy)
    unread = next((one for one in (by_policy, setting) if one.unread), None)
    return lost(unread) if unread is not None else Answer("known", "allowed", "", by_policy.evidence)


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
    "lock.way-around",
    TEXT,
    "how locked versions can be deleted all the same, whatever their retention or hold; absent: no way is known",
    area="versions and locks",
    advice="shut that door: switch a gateway's Swift protocol off; have a filer ask for a token for changes",
)
def lock_way_around(subject: BucketView, _: str) -> Fact:
    """Absent where nothing can be locked."""
    lock = subject.bucket.lock
    if not lock.settled:
        return lost(lock)
    around = way_around_locks(subject.dossier)
    return fact_of(around) if lock.value is not None and lock.value.enabled else Answer("absent")


@fact(
    "lock.mode",
    Levels(("governance", "compliance"), ordered=True),
    "default retention mode: governance yields to bypass-retention, compliance to nobody",
    area="versions and locks",
    advice="change the default retention; existing versions keep their own",
    causes=LOCK_ACTIONS,
    mirrored=True,
)
def lock_mode(subject: BucketView, _: str) -> Fact:
    """Absent where new versions inherit no retention. A rule that is locked by now yields to nobody."""
    taken = subject.dossier.taken

    def mode(lock: Lock) -> str:
        return "compliance" if lock.mode and lock.final_from and lock.final_from <= taken else lock.mode

    return _default(subject.bucket.lock, mode)


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
    return _default(subject.bucket.lock, lambda lock: lock.retention)


def _default(answer: Answer[Lock], take: Callable[[Lock], str | int | datetime | None]) -> Fact:
    """A part of the default retention; absent where there is none."""
    if answer.value is not None and answer.value.default_unread:
        return Answer("failed", None, answer.value.default_unread, answer.evidence)
    return fact_of(answer.map(take)) if answer.value is None or take(answer.value) else absent_fact(answer)


@fact(
    "lock.final-from",
    MOMENT,
    "from when on nobody can shorten or remove the default retention; absent: it stays as it is",
    area="versions and locks",
    advice="lock the retention rule, or plan when it is locked; it cannot be taken back afterwards",
)
def lock_final_from(subject: BucketView, _: str) -> Fact:
    """Some stores lock a retention rule only after a while, in which it can still be removed."""
    return _default(subject.bucket.lock, lambda lock: lock.final_from)


fact(
    "lock.legal-hold",
    SWITCH,
    "whether a legal hold on the bucket as a whole keeps everything in it, whatever its retention",
    area="versions and locks",
    advice="set the legal hold on the bucket, or lift it once the case is over",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.legal_hold))

fact(
    "lock.bucket-lease",
    SWITCH,
    "whether a lease without an end keeps the bucket from being deleted",
    area="versions and locks",
    advice="take a lease without an end on the bucket: it cannot be deleted until somebody breaks it",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.leased))


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
