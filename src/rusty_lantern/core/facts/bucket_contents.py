"""Facts of what is beneath a bucket's current objects: old versions, delete markers, unfinished uploads."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.answer import Answer, Fact, fact_of, lost
from rusty_lantern.core.facts.bucket_settings import counted, part_of
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SIZE

fact("versions.old", COUNT, "how many older versions there are", area="objects", restless=True)(
    lambda subject, _: counted(subject.bucket.versions, "old")
)

fact("versions.old-bytes", SIZE, "their sizes together", unit="bytes", area="objects", restless=True)(
    lambda subject, _: counted(subject.bucket.versions, "old_bytes")
)


@fact("last-write", MOMENT, "when the newest of all versions was stored", restless=True)
def last_write(subject: BucketView, _: str) -> Fact:
    """From listing versions; absent where nothing was ever stored."""
    versions = subject.bucket.versions
    if versions.value is not None and versions.value.undated:
        return Answer("failed", None, f"{versions.value.undated:,} versions have no date that can be read")
    if versions.value is None or versions.value.newest is not None:
        return fact_of(versions.map(lambda counts: counts.newest))
    if versions.value.complete:
        return Answer("absent", None, "no version was stored", versions.evidence)
    return Answer("failed", None, "the versions were not counted to the end", versions.evidence)


fact(
    "versions.markers",
    COUNT,
    "how many delete markers there are: objects that look gone and are not",
    area="objects",
    restless=True,
)(lambda subject, _: counted(subject.bucket.versions, "markers"))

fact(
    "uploads.unfinished",
    COUNT,
    "how many uploads were begun and never finished",
    area="objects",
    advice="clear unfinished uploads by a lifecycle rule",
    restless=True,
)(lambda subject, _: counted(subject.bucket.uploads, "count"))


@fact(
    "usage.unfinished-bytes",
    SIZE,
    "how much was uploaded of uploads that were never finished",
    unit="bytes",
    area="objects",
    advice="clear unfinished uploads by a lifecycle rule: {observed} are stored there, and no listing shows them",
    restless=True,
)
def unfinished_bytes(subject: BucketView, _: str) -> Fact:
    """Part by part; a store that has no such uploads holds nothing of them."""
    uploads = subject.bucket.uploads
    counts = uploads.value
    if counts is None:
        return lost(uploads)
    if counts.bytes is None and (counts.count or not counts.complete):
        return Answer("failed", None, counts.bytes_unread or "the parts were not asked for", uploads.evidence)
    return counted(uploads.map(lambda known: msgspec.structs.replace(known, bytes=known.bytes or 0)), "bytes")


@fact(
    "uploads.oldest",
    DURATION,
    "how long before the survey the oldest unfinished upload was begun",
    unit="seconds",
    area="objects",
    advice="clear unfinished uploads by a lifecycle rule",
    restless=True,
    grows=True,
)
def uploads_oldest(subject: BucketView, _: str) -> Fact:
    """Absent where there is none."""
    taken, uploads = subject.dossier.taken, subject.bucket.uploads
    if uploads.value is not None and uploads.value.undated:
        return Answer("failed", None, f"{uploads.value.undated:,} uploads have no date that can be read")
    return part_of(
        subject.bucket.uploads, lambda known: known.oldest and max(1, int((taken - known.oldest).total_seconds()))
    )
