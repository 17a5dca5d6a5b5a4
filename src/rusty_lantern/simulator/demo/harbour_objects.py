"""What is in the demo's buckets: versions, their retention and metadata; each trap once, beside its look-alikes."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from hashlib import blake2b

import msgspec

from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.value_types import DAY, YEAR

TYPES = {
    "csv": "text/csv",
    "html": "text/html",
    "jpg": "image/jpeg",
    "pdf": "application/pdf",
    "tif": "image/tiff",
    "tar": "application/x-tar",
    "txt": "text/plain",
}
NAMES = {
    "backups-nightly": "nightly/{:05d}.tar",
    "boat-logs": "boats/{:05d}.csv",
    "camera-traps": "reserve/{:05d}.jpg",
    "drone-orthophotos": "flights/{:05d}.tif",
    "gallery-prints": "prints/{:05d}.jpg",
    "gallery-web": "web/{:05d}.jpg",
    "grant-ledger": "ledger/{:05d}.pdf",
    "permit-archive": "permits/{:05d}.pdf",
    "permit-scans": "scans/{:05d}.pdf",
    "press-kit": "press/{:05d}.jpg",
    "survey-maps": "published/item-{:05d}.csv",
}


def versions_in(bucket: Bucket, moment: datetime) -> list[ObjectVersion]:
    """The versions in a bucket: by key, newest first."""
    versions, rewrite = _plain(bucket, moment), _TRAPS.get(bucket.name)
    versions = rewrite(versions) if rewrite else versions
    return sorted(versions, key=lambda v: (v.key.encode(), not v.current, -(v.written or moment).timestamp()))


def _plain(bucket: Bucket, moment: datetime) -> list[ObjectVersion]:
    """One version of each object, written evenly since the bucket was made, as the bucket's settings would have it."""
    usage, begun = bucket.usage.value, bucket.created.value
    if usage is None or not usage.objects or begun is None:
        return []
    share, rest = divmod(usage.bytes, usage.objects)
    step = (moment - begun) / usage.objects
    form = NAMES.get(bucket.name, "item-{:05d}.csv")
    return [
        _stored(bucket, form.format(i), share + (rest if i == 0 else 0), begun + i * step) for i in range(usage.objects)
    ]


def _stored(bucket: Bucket, key: str, size: int, written: datetime) -> ObjectVersion:
    lock, encryption = bucket.lock.value, bucket.encryption.value
    versioned = bucket.versioning.value is not None and bucket.versioning.value.state == "on"
    written = written.replace(microsecond=0)
    digest = blake2b(f"{bucket.name}/{key}/{written}".encode(), digest_size=16).hexdigest()
    return ObjectVersion(
        key=key,
        version=digest[:20] if versioned else "null",
        size=size,
        etag=f"{digest}-4" if size > 100_000_000 else digest,
        written=written,
        tier="STANDARD",
        content_type=TYPES[key.rpartition(".")[2]],
        metadata={"station": "north"},
        tags={},
        encryption=(encryption.by or None) if encryption else "none",
        encryption_key=encryption.key if encryption else "",
        mode=lock.mode if lock else "",
        until=written + timedelta(seconds=lock.retention) if lock and lock.mode else None,
        hold=False,
        checksum="",
        public="none",
    )


Rewrite = Callable[[list[ObjectVersion]], list[ObjectVersion]]
_but = msgspec.structs.replace


def _later(version: ObjectVersion, days: int = 30, **changes: object) -> ObjectVersion:
    """A newer version of the same object."""
    assert version.written is not None
    digest = blake2b(f"{version.version} again".encode(), digest_size=16).hexdigest()
    written = version.written + timedelta(days=days)
    return _but(version, version=digest[:20], etag=digest, written=written, **changes)


def _marker(version: ObjectVersion, days: int = 60) -> ObjectVersion:
    assert version.written is not None
    newer = _later(version, days)
    return ObjectVersion(key=version.key, version=newer.version, marker=True, written=newer.written)


def _kept(version: ObjectVersion, seconds: int, mode: str) -> ObjectVersion:
    assert version.written is not None
    return _but(version, mode=mode, until=version.written + timedelta(seconds=seconds))


def _permits(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Governance where compliance is required; the overwrite trap, a hidden key, holds, and what looks like them."""
    by = {number: versions[number] for number in (46, 47, 48, 49, 60, 61)}
    overwritten, again, expired, held = by[46], by[47], by[48], by[49]
    versions[46:48] = [
        _later(overwritten, mode="", until=None),  # uploaded again without the default: bare over a locked one
        _but(overwritten, current=False),
        _kept(_later(again), 7 * YEAR, "compliance"),  # uploaded again and locked: harmless
        _but(again, current=False),
    ]
    replaced = {
        held.key: [_but(held, hold=True)],
        expired.key: [_but(_kept(expired, DAY, "governance"), hold=True)],  # the period is over, the hold is not
        by[60].key: [_marker(by[60]), _but(by[60], current=False)],  # vanished from the list, and still locked
        by[61].key: [_marker(by[61]), _but(_kept(by[61], DAY, "governance"), current=False)],  # harmless
    }
    return [new for version in versions for new in replaced.pop(version.key, [version])]


def _ledger(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """The default keeps 30 days; some were uploaded with the seven years that are required, one with a single day."""
    kept = [_kept(version, 7 * YEAR, "compliance") if n % 16 == 0 else version for n, version in enumerate(versions)]
    kept[-1] = _kept(kept[-1], DAY, "governance")  # a weaker explicit retention wins over the default
    return kept


def _cameras(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Encrypted by default since June 2021: what was stored before stays as it was. Every ninth lacks its station."""
    since = datetime(2021, 6, 1, tzinfo=UTC)
    return [
        _but(
            version,
            encryption="provider-managed" if version.written and version.written >= since else "none",
            metadata={} if n % 9 == 0 else version.metadata,
        )
        for n, version in enumerate(versions)
    ]


def _flights(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Uploaded with no type of their own; the oldest third went to the archive tier."""
    third = len(versions) // 3
    untyped = [_but(version, content_type="binary/octet-stream") for version in versions[: 2 * third]]
    return [_but(v, tier="GLACIER") for v in untyped[:third]] + untyped[third:] + versions[2 * third :]


def _press(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Pictures that anyone may read by their own ACLs, one that anyone may replace, and two pages of HTML."""
    pictures = [_but(v, public="read", cache_control="public, max-age=3600") for v in versions]
    pictures[3] = _but(pictures[3], public="write")
    return [_but(v, content_type="text/html") if n in (7, 11) else v for n, v in enumerate(pictures)]


def _notes(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """One that anyone might read by its own ACL, if the bucket's ownership mode did not disable ACLs."""
    return [_but(versions[0], public="read"), *versions[1:]]


def _boats(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Versioning was suspended: new uploads overwrite the null version, older ones keep their own."""
    older: list[ObjectVersion] = []
    for n in range(14):
        base = versions[n * 2]
        assert base.written is not None
        older.append(
            _but(base, version=f"boat{n:04d}", current=False, size=70_000, written=base.written - timedelta(5))
        )
    hidden = [_but(_marker(v), version="null") for v in versions[-3:]]
    beneath = [_but(v, version=f"last{n}", current=False) for n, v in enumerate(versions[-3:])]
    return [*versions[:-3], *older, *hidden, *beneath]


def _backups(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Kept 35 days each; one of them 35 years, by a slip of the hand."""
    versions[40] = _kept(versions[40], 35 * YEAR, "governance")
    return versions


def _members(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """Names that are dangerous where they are not escaped."""
    names = ('=HYPERLINK("https://evil.example").csv', "<script>alert(1)</script>.html", "\x1b[31mred\x07\r\n.txt")
    return [
        _but(v, key=name, content_type=TYPES[name.rpartition(".")[2]]) for v, name in zip(versions, names, strict=True)
    ]


def _scans(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """One was scanned twelve minutes before the demo's moment: its copy is still on the way."""
    assert versions[-1].until is not None and versions[-1].written is not None
    late = datetime(2026, 11, 2, 5, 48, tzinfo=UTC)
    return [*versions[:-1], _but(versions[-1], written=late, until=versions[-1].until + (late - versions[-1].written))]


_TRAPS: dict[str, Rewrite] = {
    "permit-archive": _permits,
    "grant-ledger": _ledger,
    "permit-scans": _scans,
    "camera-traps": _cameras,
    "drone-orthophotos": _flights,
    "press-kit": _press,
    "reedbed-notes": _notes,
    "boat-logs": _boats,
    "backups-nightly": _backups,
    "members-area": _members,
}
