"""The demo estate a month earlier, and the record of what was done since: every kind of change once.

What is there at the demo's moment is taken back step by step; `tests/saltmarsh_answers.py` has the right answers.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.bucket import Bucket, Versioning
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, Identity
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.value_types import YEAR
from rusty_lantern.simulator.contents import StandinKey, StoreContents

EARLIER = datetime(2026, 10, 2, 6, 0, tzinfo=UTC)
OFFICE = "198.51.100.0/24"

_but = msgspec.structs.replace


def harbour_before(harbour: StoreContents) -> StoreContents:
    """The store `harbour` as it was."""
    there = [b for b in harbour.dossier.buckets if b.created.value and b.created.value <= EARLIER]
    buckets = [_UNDO[bucket.name](bucket) if bucket.name in _UNDO else bucket for bucket in there]
    gone = next(b for b in there if b.name == "open-day-2024")
    buckets.append(_but(gone, name="open-day-2023", created=Answer("known", datetime(2023, 6, 3, tzinfo=UTC))))
    versions = {name: _written_by_then(listed) for name, listed in harbour.versions.items()}
    versions["open-day-2023"] = versions["open-day-2024"][:20]
    versions["volunteer-sheets"] = versions["volunteer-forms"]
    versions["permit-archive"] = _permits(versions["permit-archive"])
    versions["grant-ledger"] = _ledger(versions["grant-ledger"])
    dossier = _but(
        harbour.dossier,
        taken=EARLIER,
        listing=Answer("known", len(buckets)),
        buckets=buckets,
        identities=harbour.dossier.identities.map(_people),
        credentials=harbour.dossier.credentials.map(lambda keys: [_key(k) for k in keys if _made_by_then(k)]),
    )
    keys = {key: StandinKey(access.secret, access.account, _REFUSED) for key, access in harbour.keys.items()}
    return replace(harbour, dossier=dossier, keys=keys, versions=versions)


_REFUSED = frozenset({("survey-maps", "notification")})
"""What the audit key was not allowed to ask then; since then it may, but the policy of drone-orthophotos it may not."""


def _policy(bucket: Bucket, change: Callable[[list[dict[str, Any]]], list[dict[str, Any]]]) -> Bucket:
    document = json.loads(bucket.policy.value or "{}")
    document["Statement"] = change(document["Statement"])
    return _but(bucket, policy=Answer("known", json.dumps(document, indent=1)))


def _from_the_office(statements: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [statement | {"Condition": {"IpAddress": {"aws:SourceIp": OFFICE}}} for statement in statements]


def _no_way_round(statements: list[dict[str, Any]]) -> list[dict[str, Any]]:
    deny = statements[1] | {"Condition": {"NotIpAddress": {"aws:SourceIp": OFFICE}}}
    return [statements[0], deny]


_UNDO: dict[str, Callable[[Bucket], Bucket]] = {
    "payroll-drop": lambda b: _policy(b, _from_the_office),  # "two halves of the Internet" came since
    "contractor-drop": lambda b: _policy(
        b, _no_way_round
    ),  # …and a second condition, that makes the restriction a way round
    "old-website": lambda b: _but(b, public_access_guards=Answer("absent")),  # the guards were switched on since
    "boat-logs": lambda b: _but(b, versioning=Answer("known", Versioning("on"))),
    "tide-gauge-raw": lambda b: _but(b, encryption=Answer("absent")),
    "volunteer-forms": lambda b: _but(b, name="volunteer-sheets"),  # looks renamed: same day, same tags
}


def _written_by_then(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """The versions that were there: the newest of a key was the current one."""
    there, seen = [], set()
    for version in versions:
        if version.written and version.written <= EARLIER:
            there.append(_but(version, current=version.key not in seen))
            seen.add(version.key)
    return there


def _permits(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """One more was there, locked until 2031; and two were under legal hold that are not any more."""
    extra = _but(versions[-1], key="permits/00044-a.pdf", version="0000deleted000000000",
                 written=datetime(2024, 5, 6, tzinfo=UTC), until=datetime(2031, 5, 6, tzinfo=UTC))  # fmt: skip
    held = {versions[10].version, versions[11].version}
    changed = [_but(v, hold=True) if v.version in held else v for v in versions] + [extra]
    return sorted(changed, key=lambda v: (v.key.encode(), not v.current, -(v.written or EARLIER).timestamp()))


def _ledger(versions: list[ObjectVersion]) -> list[ObjectVersion]:
    """The last was kept seven years under governance; somebody with the bypass permission shortened that to a day."""
    last = versions[-1]
    assert last.written is not None
    until = datetime.fromtimestamp(int(last.written.timestamp()) + 7 * YEAR, UTC)
    return [*versions[:-1], _but(last, mode="governance", until=until)]


def _made_by_then(key: Credential) -> bool:
    return key.created.value is None or key.created.value <= EARLIER


def _key(key: Credential) -> Credential:
    used = key.last_used.map(lambda moment: min(moment, EARLIER))
    live = key.id == "SMTRINGING000000000700"  # disabled since, once the new one was there
    return _but(key, last_used=used, state=Answer("known", "active") if live else key.state)


def _people(people: list[Identity]) -> list[Identity]:
    """The keeper had no second factor yet; a helper of the summer was still there."""
    then = [_but(p, mfa=Answer("known", False)) if p.name == "storage-keeper" else p for p in people]
    helper = next(p for p in people if p.name == "old-importer")
    name = "summer-helper"
    return [*then, _but(helper, name=name, resource=helper.resource.replace("old-importer", name))]


def beside_before(beside: Dossier) -> Dossier:
    """The keys and links then: nobody had asked for the boat key to be destroyed, and one link was not given out."""
    keys = beside.encryption_keys.map(
        lambda entries: [
            _but(k, state=Answer("known", "enabled"), deleted=Answer("absent")) if "boat-key" in k.names else k
            for k in entries
        ]
    )
    links = beside.links.map(
        lambda entries: [k for k in entries if k.issued.value is None or k.issued.value <= EARLIER]
    )
    return _but(beside, taken=EARLIER, encryption_keys=keys, links=links)


def attic_before(attic: Dossier) -> Dossier:
    """The document store then: nobody without credentials could store anything."""
    buckets = [_but(b, rights=b.rights.map(_named)) if b.name == "donor-scans" else b for b in attic.buckets]
    return _but(attic, taken=EARLIER, buckets=buckets)


def _named(rights: list[Right]) -> list[Right]:
    return [right for right in rights if right.to != "anyone"]


def _event(at: str, actor: str, action: str, bucket: str = "", key: str = "", **more: str) -> dict[str, str]:
    event = {"time": at, "actor": actor, "action": action, "bucket": bucket, "key": key}
    return event | {"address": "198.51.100.7", "outcome": "200", "store": "harbour"} | more


def events() -> str:
    """The record of what was done in `harbour` between the two moments, as JSON Lines.

    What opened `contractor-drop` is not in it: that identity's doings are not recorded, and the change is unexplained.
    """
    recorded = [
        _event("2026-10-05T09:12:31Z", "storage-keeper", "PutBucketPolicy", "payroll-drop", address="203.0.113.80"),
        _event("2026-10-05T09:11:02Z", "storage-keeper", "GetBucketPolicy", "payroll-drop", address="203.0.113.80"),
        _event("2026-10-04T08:00:00Z", "permit-clerk", "PutBucketPolicy", "payroll-drop", outcome="403"),
        _event("2026-10-09T14:40:10Z", "admin", "PutPublicAccessBlock", "old-website"),
        _event("2026-10-12T07:00:00Z", "admin", "PutBucketVersioning", "boat-logs"),
        _event("2026-10-14T16:21:45Z", "admin", "PutBucketEncryption", "tide-gauge-raw"),
        _event("2026-10-15T10:00:00Z", "admin", "CreateBucket", "volunteer-forms"),
        _event("2026-10-15T11:30:00Z", "admin", "DeleteBucket", "volunteer-sheets"),
        _event("2026-10-20T12:00:00Z", "admin", "DeleteBucket", "open-day-2023"),
        _event("2026-10-28T08:30:00Z", "gallery-publisher", "CreateBucket", "launch-2027"),
        _event("2026-10-22T03:14:15Z", "admin", "DeleteObjectVersion", "permit-archive", "permits/00044-a.pdf"),
        _event("2026-10-23T09:00:00Z", "permit-clerk", "PutObjectLegalHold", "permit-archive", "permits/00010.pdf"),
        _event("2026-10-23T09:00:09Z", "permit-clerk", "PutObjectLegalHold", "permit-archive", "permits/00011.pdf"),
        _event("2026-10-24T22:02:00Z", "admin", "PutObjectRetention", "grant-ledger", "ledger/00041.pdf"),
        _event("2026-10-13T06:00:00Z", "storage-keeper", "CreateAccessKey", about="ringing-sync"),
        _event("2026-10-13T06:05:00Z", "storage-keeper", "UpdateAccessKey", about="ringing-sync"),
        _event("2026-10-16T06:05:00Z", "storage-keeper", "EnableMFADevice", about="storage-keeper"),
        _event("2026-10-19T06:05:00Z", "storage-keeper", "DeleteUser", about="summer-helper"),
        _event("2026-10-24T13:00:00Z", "storage-keeper", "ScheduleKeyDeletion", about="boat-key"),
    ]
    recorded += [
        _event(f"2026-10-{day:02d}T0{hour}:30:00Z", "tide-reader", "GetObject", "tide-gauge-raw", f"item-{day:05d}.csv")
        for day in range(3, 32)
        for hour in (1, 5)
    ]
    return _lines(sorted(recorded, key=lambda event: event["time"]))


def _lines(recorded: Iterable[dict[str, str]]) -> str:
    return "".join(json.dumps(event) + "\n" for event in recorded)
