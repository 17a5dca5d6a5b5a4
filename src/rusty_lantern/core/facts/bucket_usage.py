"""Facts of how much a bucket holds against what it should: old versions, and what is left of its quota."""

from __future__ import annotations

from rusty_lantern.core.answer import Answer, Fact, absent_fact, lost
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import COUNT, SIZE


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
