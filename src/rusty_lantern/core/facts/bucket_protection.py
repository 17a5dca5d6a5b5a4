"""Facts of a bucket that stores of other kinds show: network rules, deletion, what is accepted, who is recorded; and
the state of the key that protects it at rest."""

from __future__ import annotations

import ipaddress
from typing import Any

from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, switch_fact
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.network import REACH, network_fact
from rusty_lantern.core.model.resources import EncryptionKey
from rusty_lantern.core.model.subjects import age_of, store_may_use
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SIZE, SWITCH, TEXT, Levels


def _stricter(subject: BucketView) -> Fact:
    """Both the bucket's and the store's network rules have to let a request in."""
    facts = [network_fact(subject.bucket.network), network_fact(subject.dossier.network)]
    known = [one for one in facts if one.value is not None]
    unread = next((one for one in facts if not one.settled and one.state != "unsupported"), None)
    strictest = max(known, key=lambda one: REACH.rank(str(one.value)), default=facts[0])
    return unread if unread is not None and strictest.value != "endpoints-only" else strictest


# `everywhere` is a value, not a blank, and what networks are that together are no restriction; absent where there are
# no network rules.
fact(
    "network.from",
    REACH,
    "from where the bucket may be asked at all, by its own and the store's network rules",
    area="access",
    safe="at least public-networks",
    advice="allow named networks only",
    causes="SetNetwork",
)(lambda subject, _: _stricter(subject))

fact(
    "network.default",
    Levels(("allow", "deny"), ordered=True),
    "what happens to requests that no network rule names",
    area="access",
    advice="allow named networks only",
    causes="SetNetwork",
    habit=False,
)(lambda subject, _: fact_of(subject.bucket.network.map(lambda network: network.default)))


@fact(
    "network.largest",
    COUNT,
    "how many addresses the largest network has that the bucket's rules allow",
    area="access",
    advice="allow named networks only",
    causes="SetNetwork",
)
def network_largest(subject: BucketView, _: str) -> Fact:
    """Absent where every network is let in, or none."""
    answer = subject.bucket.network
    if answer.value is None or answer.value.everywhere or not answer.value.networks:
        return absent_fact(answer) if answer.settled else lost(answer)
    reach = network_fact(answer)
    if reach.value is None:
        return reach
    sizes = [ipaddress.ip_network(net, strict=False).num_addresses for net in answer.value.networks]
    return Answer("known", max(sizes), "", answer.evidence)


fact(
    "logging.reads",
    SWITCH,
    "whether reads are logged",
    area="logging",
    advice="switch access logging on, into a bucket used for logs only",
    causes="PutBucketLogging",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.logging, lambda log: log.reads))

fact(
    "logging.writes",
    SWITCH,
    "whether writes are logged",
    area="logging",
    advice="switch access logging on, into a bucket used for logs only",
    causes="PutBucketLogging",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.logging, lambda log: log.writes))


@fact(
    "logging.excluded-identities",
    COUNT,
    "how many identities are excluded from logging",
    area="logging",
    advice="remove these identities from those excluded from logging",
    causes="PutBucketLogging",
)
def logging_exempted(subject: BucketView, _: str) -> Fact:
    """Whoever is left out leaves no trace."""
    answer = subject.bucket.logging
    if answer.value is None:
        return absent_fact(answer) if answer.settled else lost(answer)
    return Answer(
        "known", len(answer.value.excluded_identities), ", ".join(answer.value.excluded_identities), answer.evidence
    )


@fact(
    "logging.target-locked",
    SWITCH,
    "whether the bucket that logs are written to has object lock",
    area="logging",
    advice="write the logs to another bucket, one that only the readers of logs can access",
    causes="PutBucketLogging",
    habit=False,
)
def logging_target_locked(subject: BucketView, _: str) -> Fact:
    """A record that can be deleted proves little."""
    answer = subject.bucket.logging
    if answer.value is None:
        return absent_fact(answer) if answer.settled else lost(answer)
    target = subject.neighbour(answer.value.target)
    if target is None:
        return Answer("failed", None, f"the target {answer.value.target} was not read", answer.evidence)
    return switch_fact(target.bucket.lock, lambda lock: lock.enabled)


@fact(
    "soft-delete",
    DURATION,
    "for how long what is deleted can be brought back; absent: not at all",
    unit="seconds",
    area="versions and locks",
    advice="keep deleted objects longer: {wanted}",
    causes="SetSoftDelete",
)
def soft_delete(subject: BucketView, _: str) -> Fact:
    """Where versions are not kept, it is all that prevents a slip from becoming a loss."""
    return fact_of(subject.bucket.soft_delete)


@fact("tier", TEXT, "the storage tier that new objects are stored in", habit=False)
def tier(subject: BucketView, _: str) -> Fact:
    """As the store names it."""
    return fact_of(subject.bucket.tier)


fact(
    "uploads.types",
    TEXT,
    "the content types that uploads may have, joined by commas; absent: any",
    area="objects",
    advice="have the store refuse other uploads: {wanted}",
)(lambda subject, _: _accepted(subject, lambda uploads: ", ".join(sorted(uploads.types))))

fact(
    "uploads.largest",
    SIZE,
    "the largest upload that is accepted; absent: any",
    unit="bytes",
    area="objects",
    advice="have the store refuse other uploads: {wanted}",
)(lambda subject, _: _accepted(subject, lambda uploads: uploads.largest))


def _accepted(subject: BucketView, take: Any) -> Fact:
    answer = subject.bucket.accepts
    value = take(answer.value) if answer.value is not None else None
    return absent_fact(answer) if answer.value is not None and not value else fact_of(answer.map(lambda _: value))


# Off unless somebody switched it on.
fact(
    "uploads.scanned",
    SWITCH,
    "whether uploads are scanned for malware",
    area="objects",
    advice="have uploads scanned",
    safe="on",
)(lambda subject, _: switch_fact(subject.bucket.scanned))


@fact("project", TEXT, "the project that the bucket belongs to, where the store has such")
def project(subject: BucketView, _: str) -> Fact:
    """As the store names it."""
    return fact_of(subject.bucket.project)


@fact("division", TEXT, "the division that answers for the bucket, where the store records one")
def division(subject: BucketView, _: str) -> Fact:
    """As the store names it."""
    return fact_of(subject.bucket.division)


@fact(
    "scheduled-deletion",
    MOMENT,
    "when the bucket itself is going to be deleted; absent: it is not",
    area="versions and locks",
    advice="withdraw the deletion while there is time: {observed}",
)
def deletion(subject: BucketView, _: str) -> Fact:
    """Pending deletion, as the store says."""
    return fact_of(subject.bucket.scheduled_deletion)


def _key(subject: BucketView) -> EncryptionKey | Fact:
    """The key of the bucket's default encryption, or why nothing can be said of one."""
    answer = subject.bucket.encryption
    if answer.value is None:
        return absent_fact(answer) if answer.settled else lost(answer)
    if not answer.value.key:
        return absent_fact(answer)
    keys = subject.index.dossier.encryption_keys
    if not keys.settled:
        return Answer(keys.state, None, keys.note, keys.evidence)
    key = subject.index.key_named(answer.value.key)
    return key or Answer("failed", None, f"the store's key service knows no key {answer.value.key}", answer.evidence)


def _of_key(subject: BucketView, take: Any) -> Fact:
    key = _key(subject)
    return key if isinstance(key, Answer) else take(key)


@fact(
    "encryption.key-state",
    Levels(("missing", "destroyed", "pending-deletion", "disabled", "enabled"), ordered=True),
    "the state of the encryption key for new objects; absent where none is named",
    area="encryption",
    advice=(
        ("pending-deletion", "cancel the scheduled deletion of the key in time"),
        ("disabled", "enable the key again: nothing encrypted with it can be read until then"),
        ("missing", "find the key; if it is lost, restore from a copy"),
        ("destroyed", "restore what it encrypts from a copy, and use another key"),
        ("", "use an encryption key in the same region that is enabled, rotated, and usable by the store"),
    ),
    habit=False,
)
def bucket_key_state(subject: BucketView, _: str) -> Fact:
    """A key that the key service does not know is missing: what is under it is lost, or kept elsewhere."""
    key = _key(subject)
    if isinstance(key, Answer):
        named = subject.bucket.encryption.value
        listed = subject.index.dossier.encryption_keys.settled
        return Answer("known", "missing", key.note, key.evidence) if named and named.key and listed else key
    return fact_of(key.state)


@fact(
    "encryption.key-region",
    Levels(("elsewhere", "same")),
    "whether that key is in the bucket's region",
    area="encryption",
    advice="use an encryption key in the same region that is enabled, rotated, and usable by the store",
    habit=False,
)
def bucket_key_place(subject: BucketView, _: str) -> Fact:
    """A key elsewhere is out of reach when the line is."""
    place = subject.bucket.region

    def compare(key: EncryptionKey) -> Fact:
        if key.region.value is None or place.value is None:
            return lost(key.region if key.region.value is None else place)
        return Answer(
            "known", "same" if key.region.value == place.value else "elsewhere", f"it is in {key.region.value}"
        )

    return _of_key(subject, compare)


# Absent where no key is named.
fact(
    "encryption.key-age",
    DURATION,
    "the age of that key: since it was rotated, or made",
    unit="seconds",
    area="encryption",
    advice="rotate the key, or switch automatic rotation on",
    grows=True,
    habit=False,
)(lambda subject, _: _of_key(subject, lambda key: age_of(key, subject.index)))

fact(
    "encryption.key-rotation",
    DURATION,
    "the period of that key's automatic rotation; absent: none",
    unit="seconds",
    area="encryption",
    advice="use an encryption key in the same region that is enabled, rotated, and usable by the store",
    habit=False,
)(lambda subject, _: _of_key(subject, lambda key: fact_of(key.rotates)))

fact(
    "encryption.key-kept-in",
    Levels(("software", "hardware-module", "external-manager"), ordered=True),
    "where that key's material is kept",
    area="encryption",
    advice="use an encryption key in the same region that is enabled, rotated, and usable by the store",
    habit=False,
)(lambda subject, _: _of_key(subject, lambda key: fact_of(key.kept_in)))

# Without it nothing can be stored or read.
fact(
    "encryption.key-usable-by-store",
    SWITCH,
    "whether the store itself can use that key",
    area="encryption",
    advice="allow the store's service identity to encrypt and decrypt with the key",
    habit=False,
)(lambda subject, _: _of_key(subject, lambda key: store_may_use(key, subject.index)))
