"""How much each bucket holds: current and old versions, unfinished uploads, what is locked; summed up in groups.

A number that nobody counted is unknown, never zero: a sum says of how many buckets it lacks a part.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.facts.bucket_usage import full_in
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import EarlierCount, Usage
from rusty_lantern.core.model.capabilities import objects_expire
from rusty_lantern.core.model.dossier import Dossier

UNKNOWN_GROUP = "not known"
MONTH = timedelta(days=30)
"""What growth, costs and expiry are worked out from."""
LATELY = timedelta(days=90)
"""How far back what was written is counted."""


class Kind(msgspec.Struct, frozen=True):
    """Versions of one kind in one tier."""

    tier: str
    current: bool
    versions: int
    bytes: int
    locked_byte_months: float = 0.0
    """Of each version under a period that binds, its bytes times the months until that ends, summed up."""
    undated: int = 0
    """How many versions have no date."""
    young: tuple[float, ...] = ()
    """For each shortest billed period that was asked for: the bytes of each version times the months that it is still
    too young by, summed up."""


class Locked(msgspec.Struct, frozen=True):
    """What cannot be deleted: bytes, until when the last of it, and bytes under a legal hold, which has no end."""

    bytes: int
    until: datetime | None
    legal_hold_bytes: int


class Holding(msgspec.Struct, frozen=True, kw_only=True):
    """What one bucket holds. None: nobody counted it."""

    store: str
    bucket: str
    tier: str
    """The bucket's own tier; empty where it has none, `UNKNOWN_GROUP` where it was not read."""
    tenant: str
    tags: Mapping[str, str]
    tags_read: bool
    objects: int | None
    bytes: int | None
    counted_by: str
    """`listing`, `counters` or `inventory`; empty: nobody."""
    reason: str
    """Why it was not counted whole."""
    taken: datetime
    old: int | None
    old_bytes: int | None
    markers: int | None
    uploads: int | None
    upload_bytes: int | None
    oldest_upload: datetime | None
    expiring: int | None
    """Bytes that expiry rules, or their own expiry, remove within a month."""
    written_lately: int | None
    """Bytes of the versions of the last 90 days, where versions were listed into a table."""
    kinds: tuple[Kind, ...] | None
    """By tier, where versions were listed into a table."""
    locked: Locked | None
    quota: int | None
    """0: no limit."""


def holding(
    view: BucketSubject,
    kinds: Sequence[Kind] | None = None,
    locked: Locked | None = None,
    expiring: int | None = None,
    written_lately: int | None = None,
) -> Holding:
    """What a bucket holds, by its dossier and the counts of its table."""
    bucket = view.bucket
    usage, versions, uploads = bucket.usage.value, bucket.versions.value, bucket.uploads.value
    whole = usage is not None and usage.complete
    beneath = versions is not None and versions.complete
    lock = bucket.lock
    if locked is None and (lock.state in ("absent", "unsupported") or (lock.value and not lock.value.enabled)):
        locked = Locked(0, None, 0)
    return Holding(
        store=view.dossier.store,
        bucket=bucket.name,
        tier=bucket.tier.value or (UNKNOWN_GROUP if bucket.tier.unread else ""),
        tenant=bucket.tenant.value or "",
        tags=bucket.tags.value or {},
        tags_read=bucket.tags.settled or bucket.tags.state == "unsupported",
        objects=usage.objects if usage and whole else None,
        bytes=usage.bytes if usage and whole else None,
        counted_by=usage.by if usage and whole else "",
        reason="" if whole else _why(usage, bucket.usage.reason),
        taken=view.dossier.taken,
        old=versions.old if versions and beneath else _none_below(view),
        old_bytes=versions.old_bytes if versions and beneath else _none_below(view),
        markers=versions.markers if versions and beneath else _none_below(view),
        uploads=uploads.count if uploads and uploads.complete else 0 if bucket.uploads.state == "unsupported" else None,
        upload_bytes=_uploaded(view),
        oldest_upload=uploads.oldest if uploads else None,
        expiring=expiring if kinds is not None else 0 if _nothing_expires(view) else None,
        written_lately=written_lately,
        kinds=tuple(kinds) if kinds is not None else None,
        locked=locked,
        quota=bucket.quota.value.bytes if bucket.quota.value else None if bucket.quota.unread else 0,
    )


def _why(usage: Usage | None, reason: str) -> str:
    return f"counting stopped at {usage.objects:,}" if usage is not None else reason or "not counted"


def _none_below(view: BucketSubject) -> int | None:
    """Without versions there are no old ones: 0 where that is known."""
    return 0 if view.bucket.versioning.state == "absent" or _never(view) else None


def _uploaded(view: BucketSubject) -> int | None:
    if view.bucket.uploads.state == "unsupported":
        return 0
    size = view.fact("usage.unfinished-bytes").value
    return size if isinstance(size, int) else None


def _nothing_expires(view: BucketSubject) -> bool:
    rules, usage, versions = view.bucket.lifecycle, view.bucket.usage.value, view.bucket.versions.value
    if usage and versions and usage.complete and versions.complete and not usage.objects + versions.old:
        return True
    if objects_expire(view.dossier.protocol):
        return False
    enabled = (rule for rule in rules.value or () if rule.enabled)
    return not rules.unread and not any(one.expires or one.expires_old or one.expires_on for one in enabled)


def _never(view: BucketSubject) -> bool:
    value = view.bucket.versioning.value
    return value is not None and value.state == "never"


class Sum(msgspec.Struct, frozen=True, kw_only=True):
    """A sum over buckets, and of how many a part is missing."""

    value: int
    missing: int

    @property
    def whole(self) -> bool:
        """Whether nothing is missing."""
        return not self.missing


def summed(values: Iterable[int | None]) -> Sum:
    """A sum of what is known."""
    counts = list(values)
    return Sum(
        value=sum(value for value in counts if value is not None), missing=sum(value is None for value in counts)
    )


class Group(msgspec.Struct, frozen=True, kw_only=True):
    """Buckets that belong together, and what they hold."""

    name: str
    buckets: int
    objects: Sum
    bytes: Sum
    old: Sum
    old_bytes: Sum
    markers: Sum
    uploads: Sum
    upload_bytes: Sum
    expiring: Sum
    oldest_upload: datetime | None
    locked_bytes: Sum
    locked_until: datetime | None
    quota: Sum
    """Of the buckets that have one."""


def grouped(holdings: Sequence[Holding], by: str) -> list[Group]:
    """Buckets by `store`, `bucket`, `tier`, `tenant`, or a tag `tags.NAME`; the most bytes first.

    By tier, a bucket whose versions were listed counts with each of its tiers.
    """
    named = name_of(by)
    if by == "tier":
        holdings = [part for one in holdings for part in by_tier(one)]
    groups: dict[str, list[Holding]] = {}
    for one in holdings:
        groups.setdefault(named(one), []).append(one)
    made = [group(name, inside) for name, inside in groups.items()]
    return sorted(made, key=lambda one: (-(one.bytes.value + one.old_bytes.value), one.name))


def by_tier(one: Holding) -> list[Holding]:
    """A bucket as one for each tier of its versions; what is locked in which tier was not counted."""
    if one.kinds is None:
        return [one]
    parts = []
    for tier in dict.fromkeys(kind.tier for kind in one.kinds):
        kinds = [kind for kind in one.kinds if kind.tier == tier]
        current, old = [kind for kind in kinds if kind.current], [kind for kind in kinds if not kind.current]
        parts.append(
            msgspec.structs.replace(
                one, tier=tier or one.tier, kinds=tuple(kinds), locked=None, markers=None, uploads=None, quota=0,
                upload_bytes=None, expiring=None,
                objects=sum(kind.versions for kind in current), bytes=sum(kind.bytes for kind in current),
                old=sum(kind.versions for kind in old), old_bytes=sum(kind.bytes for kind in old),
            )
        )  # fmt: skip
    return parts


def name_of(by: str) -> Callable[[Holding], str]:
    """What a bucket is grouped under."""
    if by.startswith("tags."):
        tag = by.removeprefix("tags.")
        return lambda one: one.tags.get(tag, f"no {tag}" if one.tags_read else UNKNOWN_GROUP)
    names: dict[str, Callable[[Holding], str]] = {
        "store": lambda one: one.store,
        "bucket": lambda one: f"{one.store}/{one.bucket}",
        "tier": lambda one: one.tier or UNKNOWN_GROUP,
        "tenant": lambda one: one.tenant or "no tenant",
    }
    return names[by]


def group(name: str, inside: Sequence[Holding]) -> Group:
    """What some buckets hold together."""
    ends = [one.locked.until for one in inside if one.locked and one.locked.until]
    begun = [one.oldest_upload for one in inside if one.oldest_upload]
    return Group(
        name=name,
        buckets=len(inside),
        objects=summed(one.objects for one in inside),
        bytes=summed(one.bytes for one in inside),
        old=summed(one.old for one in inside),
        old_bytes=summed(one.old_bytes for one in inside),
        markers=summed(one.markers for one in inside),
        uploads=summed(one.uploads for one in inside),
        upload_bytes=summed(one.upload_bytes for one in inside),
        expiring=summed(one.expiring for one in inside),
        oldest_upload=min(begun, default=None),
        locked_bytes=summed(one.locked.bytes if one.locked else None for one in inside),
        locked_until=max(ends, default=None),
        quota=summed(one.quota for one in inside),
    )


class Growth(msgspec.Struct, frozen=True):
    """How bytes went between two surveys: a straight line from the first to the last, of buckets that both counted."""

    since: datetime
    bytes: int
    buckets: int

    def a_day(self, until: datetime) -> float:
        """Bytes a day."""
        days = (until - self.since) / timedelta(days=1)
        return self.bytes / days if days > 0 else 0.0


def growth(now: Sequence[Holding], then: Sequence[Holding]) -> Growth | None:
    """How bytes went since an earlier survey; None where no bucket was counted in both."""
    before = {(one.store, one.bucket): one for one in then if one.bytes is not None}
    both = [(one, before[one.store, one.bucket]) for one in now
            if one.bytes is not None and (one.store, one.bucket) in before]  # fmt: skip
    if not both:
        return None
    return Growth(
        min(old.taken for _, old in both), sum((new.bytes or 0) - (old.bytes or 0) for new, old in both), len(both)
    )


def days_until_full(one: Holding, then: Holding | None) -> int | None:
    """In how many days a bucket's quota is full at the growth since an earlier survey; None where that is not known or
    never comes. Old versions and unfinished uploads count in: stores count them against a quota."""
    if not one.quota or one.bytes is None or then is None or then.bytes is None:
        return None
    now, before = one.bytes + (one.old_bytes or 0), then.bytes + (then.old_bytes or 0)
    left = one.quota - now - (one.upload_bytes or 0)
    return full_in(left, now, before, one.taken - then.taken)


def growth_floor(taken: datetime) -> datetime:
    """Growth is measured from the earliest survey that is not older than this."""
    return taken - LATELY


def with_before(dossier: Dossier, then: Dossier | None) -> Dossier:
    """A dossier with what an earlier one counted in each bucket that has a quota."""
    by_name = {bucket.name: bucket for bucket in then.buckets} if then else {}
    return msgspec.structs.replace(dossier, buckets=[_with_before(one, by_name, then) for one in dossier.buckets])


def _with_before(bucket: Bucket, by_name: Mapping[str, Bucket], then: Dossier | None) -> Bucket:
    if bucket.quota.value is None or not bucket.quota.value.bytes:
        return bucket
    old = by_name.get(bucket.name)
    usage, versions = (old.usage.value, old.versions) if old else (None, None)
    if then is None or usage is None or versions is None or not usage.complete or versions.unread:
        return bucket
    earlier = EarlierCount(then.taken, usage.bytes, versions.value.old_bytes if versions.value else 0)
    return msgspec.structs.replace(bucket, before=Answer("known", earlier, "an earlier survey"))
