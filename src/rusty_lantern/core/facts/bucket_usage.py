"""Facts of how much a bucket holds against what it should: old versions, and what is left of its quota."""

from __future__ import annotations

from datetime import timedelta

from rusty_lantern.core.answer import Answer, Fact, absent_fact, lost
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.bucket import Quota
from rusty_lantern.core.model.store_index import counts_against_quota
from rusty_lantern.core.value_types import COUNT, DAY, DURATION, SIZE


@fact(
    "usage.old-share",
    COUNT,
    "how many per cent of its bytes are old versions (rounded up)",
    unit="per cent",
    advice="expire old versions by a rule, or keep fewer of them: {observed} per cent of the bytes are theirs",
    restless=True,
    grows=True,
)
def old_share(subject: BucketView, _: str) -> Fact:
    """Of what both listings counted whole."""
    usage, versions = subject.bucket.usage, subject.bucket.versions
    if usage.value is None or versions.value is None:
        return lost(usage if usage.value is None else versions)
    if not usage.value.complete or not versions.value.complete:
        return Answer("failed", None, "counting stopped before the end", versions.evidence)
    every = usage.value.bytes + versions.value.old_bytes
    return Answer("known", -(-100 * versions.value.old_bytes // every) if every else 0, "", versions.evidence)


def full_in(left: int, now: int, then: int, passed: timedelta) -> int | None:
    """In how many days nothing is left, if bytes go on to grow in a straight line; None: never."""
    days = passed / timedelta(days=1)
    if left <= 0:
        return 0
    return int(left / ((now - then) / days)) if days > 0 and now > then else None


@fact(
    "quota.full-in",
    DURATION,
    "when its quota is full if it grows on as it did in the last 90 days; absent where it has none, or does not grow",
    unit="seconds",
    advice="raise the quota, or delete what nobody needs: it is full in {observed}",
    restless=True,
    grows=True,
)
def quota_full_in(subject: BucketView, _: str) -> Fact:
    """A straight line from the earliest survey of the last 90 days; old versions counted in."""
    quota = subject.bucket.quota
    if quota.value is None or not quota.value.most_bytes:
        return absent_fact(quota) if quota.settled else lost(quota)
    left = quota_left(subject, "")
    if not left.settled:
        return left
    if left.value == 0:
        return Answer("known", 1, "it is full", left.evidence)
    return _full_at_this_growth(subject, quota.value, int(str(left.value)))


def _full_at_this_growth(subject: BucketView, quota: Quota, left: int) -> Fact:
    bucket, before = subject.bucket, subject.bucket.before
    evidence = bucket.usage.evidence
    if any(one.bytes for one in quota.shared):
        return Answer("failed", None, "its owner's other buckets, which share the quota, may grow as well", evidence)
    if before.value is None:
        return Answer("failed", None, "no earlier survey of the last 90 days counted it", before.evidence)
    usage, versions = bucket.usage.value, bucket.versions.value
    now = (usage.bytes if usage else 0) + (versions.old_bytes if versions else 0)
    then = before.value.bytes + before.value.old_bytes
    days = full_in(left, now, then, subject.dossier.taken - before.value.taken)
    if days is None:
        return Answer("absent", None, "it does not grow", evidence)
    return Answer("known", max(1, days * DAY), f"since {before.value.taken:%Y-%m-%d}", evidence)


@fact(
    "quota.left",
    SIZE,
    "how much of its quotas is left, old versions and unfinished uploads counted in; absent where it has none",
    unit="bytes",
    advice="raise the quota, or delete what nobody needs: {observed} are left",
    restless=True,
)
def quota_left(subject: BucketView, _: str) -> Fact:
    """The least that is left of its own quota and of those that it shares."""
    quota, bucket = subject.bucket.quota, subject.bucket
    if quota.value is None or not quota.value.most_bytes:
        return absent_fact(quota) if quota.settled else lost(quota)
    own, shared = quota.value, [limits for limits in quota.value.shared if limits.bytes]
    stored = [(own.bytes, counts_against_quota(bucket, in_blocks=own.in_blocks))] if own.bytes else []
    stored += [(limits.bytes, subject.index.shared_by(bucket, limits)) for limits in shared]
    unknown = next((bytes_stored for _, bytes_stored in stored if bytes_stored.value is None), None)
    if unknown is not None:
        return lost(unknown)
    left = min(most - (bytes_stored.value or 0) for most, bytes_stored in stored)
    return Answer("known", max(0, left), "", stored[0][1].evidence)
