"""The list of buckets as a result."""

from __future__ import annotations

from typing import Any

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.reports.results.facts import Value, as_json
from rusty_lantern.reports.results.of_survey import OfSurvey


class BucketRow(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket of `lantern buckets --json`. A value of null comes with its reason in `unknown`."""

    store: str
    bucket: str
    region: Value
    created: Value
    objects: Value
    bytes: Value
    exposure: dict[str, str]
    """Verb → the widest verdict, for verbs that are not closed."""
    versioning: Value
    encryption: Value
    lock: str
    steward: Value
    unknown: dict[str, str]


class BucketsResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern buckets --json`."""

    buckets: list[BucketRow]
    total_objects: int
    total_bytes: int
    complete: bool
    """Whether every bucket's objects and bytes are known; if not, the totals are lower bounds."""


def bucket_row(view: BucketSubject) -> BucketRow:
    """One line of `buckets`."""
    names = (
        "region",
        "created",
        "objects",
        "bytes",
        "versioning",
        "encryption.at-rest",
        "lock.enabled",
        "tags.steward",
    )
    facts = {name: view.fact(name) for name in names}
    exposed = {verb: view.fact(f"exposure.{verb}") for verb in VERBS}
    unknown = {name: fact.reason for name, fact in facts.items() if not fact.settled}
    unknown |= {f"exposure.{verb}": fact.reason for verb, fact in exposed.items() if not fact.settled}
    return BucketRow(
        store=view.dossier.store,
        bucket=view.bucket.name,
        region=as_json(facts["region"]),
        created=as_json(facts["created"]),
        objects=as_json(facts["objects"]),
        bytes=as_json(facts["bytes"]),
        exposure={verb: str(f.value or "unknown") for verb, f in exposed.items() if f.value != "closed"},
        versioning=as_json(facts["versioning"]),
        encryption=as_json(facts["encryption.at-rest"]),
        lock=_lock_words(view),
        steward=as_json(facts["tags.steward"]),
        unknown=unknown,
    )


def _lock_words(view: BucketSubject) -> str:
    enabled, mode, keep = (view.fact(f"lock.{name}") for name in ("enabled", "mode", "default-retention"))
    if not enabled.settled:
        return "unknown"
    if enabled.value != "on":
        return "off"
    return (
        f"{mode.value} {lookup('lock.default-retention').scale.show(keep.value)}"
        if mode.value and keep.value
        else "on, no default"
    )


def buckets_result(rows: list[BucketRow], **about: Any) -> BucketsResult:
    """The list of buckets with totals; `about`: what it says about the survey."""
    return BucketsResult(
        **about,
        buckets=rows,
        total_objects=sum(row.objects for row in rows if isinstance(row.objects, int)),
        total_bytes=sum(row.bytes for row in rows if isinstance(row.bytes, int)),
        complete=all(isinstance(row.objects, int) for row in rows) and not about["unread_stores"],
    )
