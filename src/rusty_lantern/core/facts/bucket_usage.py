"""Facts of how much a bucket holds against what it should: old versions, and what is left of its quota."""

from __future__ import annotations

from datetime import timedelta

from rusty_lantern.core.answer import Answer, Fact, absent_fact, lost
from rusty_lantern.core.facts.registry import BucketView, fact
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


def full_in(quota: int, now: int, then: int, passed: timedelta) -> int | None:
    """In how many days a quota is full, if bytes go on to grow in a straight line; None: never."""
    days = passed / timedelta(days=1)
    if now >= quota:
        return 0
    return int((quota - now) / ((now - then) / days)) if days > 0 and now > then else None


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
    quota, before = subject.bucket.quota, subject.bucket.before
    if quota.value is None or not quota.value.bytes:
        return absent_fact(quota) if quota.settled else lost(quota)
    left = quota_left(subject, "")
    if not left.settled:
        return left
    if left.value == 0:
        return Answer("known", 1, "it is full", left.evidence)
    if before.value is None:
        return Answer("failed", None, "no earlier survey of the last 90 days counted it", before.evidence)
    held, then = quota.value.bytes - int(str(left.value)), before.value.bytes + before.value.old_bytes
    days = full_in(quota.value.bytes, held, then, subject.dossier.taken - before.value.taken)
    if days is None:
        return Answer("absent", None, "it does not grow", left.evidence)
    return Answer("known", max(1, days * DAY), f"since {before.value.taken:%Y-%m-%d}", left.evidence)


@fact(
    "quota.left",
    SIZE,
    "how much of its quota is left, old versions counted in; absent where it has none",
    unit="bytes",
    advice="raise the quota, or delete what nobody needs: {observed} are left",
    restless=True,
)
def quota_left(subject: BucketView, _: str) -> Fact:
    """By the listing, since the store's own counter may lag."""
    quota, usage, versions = subject.bucket.quota, subject.bucket.usage, subject.bucket.versions
    if quota.value is None or not quota.value.bytes:
        return absent_fact(quota) if quota.settled else lost(quota)
    if usage.value is None or not usage.value.complete:
        return lost(usage) if usage.value is None else Answer("failed", None, "counting stopped before the end")
    if versions.value is None and versions.unread:
        return lost(versions)
    held = usage.value.bytes + (versions.value.old_bytes if versions.value else 0)
    return Answer("known", max(0, quota.value.bytes - held), "", usage.evidence)
