"""Facts of what a bucket is and holds: where, since when, how much, its tags."""

from __future__ import annotations

from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost
from rusty_lantern.core.facts.event_actions import (
    TAG_ACTIONS,
)
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import COUNT, MOMENT, SIZE, TEXT


@fact(
    "region",
    TEXT,
    "where the bucket lives, as the store names it",
    advice="a bucket does not move: make one in the right region and copy",
)
def place(subject: BucketView, _: str) -> Fact:
    """An empty answer means the store's default place."""
    return fact_of(subject.bucket.region)


@fact("created", MOMENT, "when the bucket was made")
def created(subject: BucketView, _: str) -> Fact:
    """From the list of buckets."""
    return fact_of(subject.bucket.created)


@fact("objects", COUNT, "how many objects the bucket lists", restless=True)
def objects(subject: BucketView, _: str) -> Fact:
    """Current objects only."""
    return _counted(subject, "objects")


@fact("bytes", SIZE, "the sizes of those objects together", unit="bytes", restless=True)
def size(subject: BucketView, _: str) -> Fact:
    """Current objects only."""
    return _counted(subject, "bytes")


COUNTED_BY = {
    "listing": "",
    "counters": "by the store's own counters, which may lag, and count old versions in",
    "inventory": "by the provider's inventory",
}


def _counted(subject: BucketView, name: str) -> Fact:
    answer = subject.bucket.usage
    if answer.value is None:
        return fact_of(answer.map(str))
    counted = getattr(answer.value, name)
    if not answer.value.complete:
        return Answer("failed", None, f"counting stopped at {counted:,}: at least that many", answer.evidence)
    return Answer(answer.state, counted, COUNTED_BY[answer.value.by], answer.evidence)


@fact(
    "tags.*",
    TEXT,
    "the value of the bucket's tag of that name (tag names are written as they are)",
    advice="tag the bucket with {last}: {wanted}",
    causes=TAG_ACTIONS,
)
def tag(subject: BucketView, name: str) -> Fact:
    """Absent where the bucket has no such tag."""
    answer = subject.bucket.tags
    if answer.value is None:
        return lost(answer)
    value = answer.value.get(name)
    return absent_fact(answer) if value is None else Answer(answer.state, value, answer.note, answer.evidence)
