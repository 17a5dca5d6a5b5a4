"""Encryption keys, and what encrypts each bucket, as a result."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.reports.results.identities import AgainstBaseline, Facts, Seconds, against_baseline
from rusty_lantern.reports.results.of_survey import OfSurvey


class KeyRow(msgspec.Struct, frozen=True, kw_only=True):
    """One encryption key, and the buckets that hang on it."""

    store: str
    key: str
    name: str
    group: str
    state: str | None
    region: str | None
    kept_in: str | None
    rotation: Seconds
    age: Seconds
    usable_by_store: str | None
    scheduled_deletion: str | None
    buckets: list[str]
    """Those that are known; where `unknown` has `buckets`, there may be more."""
    unknown: dict[str, str]
    against_baseline: AgainstBaseline


class ProtectionRow(msgspec.Struct, frozen=True, kw_only=True):
    """What protects one bucket at rest, and whether its objects are under something else."""

    store: str
    bucket: str
    by: str | None
    declared: bool
    key: str | None
    key_region: str | None
    key_state: str | None
    usable_by_store: str | None
    others: list[Other]
    unknown: dict[str, str]


class Other(msgspec.Struct, frozen=True, kw_only=True):
    """Versions that are not under the bucket's default of today."""

    by: str | None
    """Null where who manages the key is not known."""
    key: str
    perhaps_default: bool
    """Whether it may be the default after all: the default was not read, or is a key service's own default key, whose
    id a bucket does not show."""
    versions: int
    bytes: int


class EncryptionResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern encryption --json`."""

    keys: list[KeyRow]
    buckets: list[ProtectionRow]
    unread: dict[str, str]


def key_rows(store_subject: StoreSubject, judge: Judge | None) -> list[KeyRow]:
    """Every encryption key of a store."""
    rows = []
    for key in store_subject.index.dossier.encryption_keys.value or ():
        subject = store_subject.key(key)
        fact = Facts(subject)
        fact("buckets")  # why not all are known, if so
        rows.append(
            KeyRow(
                store=store_subject.index.dossier.store, key=key.id,
                name=next(iter(key.names), key.id), group=key.group,
                state=fact("state"), region=fact("region"), kept_in=fact("kept-in"), rotation=fact("rotation"),
                age=fact("age"), usable_by_store=fact("usable-by-store"), scheduled_deletion=fact("scheduled-deletion"),
                buckets=[bucket.name for bucket in store_subject.index.protected_by.get(key.id, [])],
                unknown=fact.unknown, against_baseline=against_baseline(judge, subject),
            )
        )  # fmt: skip
    return rows


Under = Mapping[str, list[tuple[str, str, int, int]]]
"""Bucket → what its versions are encrypted with: by whom kept, which key, versions, bytes."""


def protection_rows(store_subject: StoreSubject, under: Under) -> list[ProtectionRow]:
    """What protects each bucket of a store."""
    rows = []
    for name, view in store_subject.buckets.items():
        parts = ("at-rest", "key", "key-region", "key-state", "key-usable-by-store")
        facts = {part: view.fact(f"encryption.{part}") for part in parts}
        value = {part: None if fact.value is None else str(fact.value) for part, fact in facts.items()}
        others = [
            Other(by=_keeper(view, by, key), key=key, perhaps_default=same is None, versions=n, bytes=size)
            for by, key, n, size in under.get(name, [])
            if by and (same := _is_default(view, by, key)) is not True
        ]
        rows.append(
            ProtectionRow(
                store=store_subject.index.dossier.store, bucket=name, by=value["at-rest"],
                declared=facts["at-rest"].state == "stated", key=value["key"], key_region=value["key-region"],
                key_state=value["key-state"], usable_by_store=value["key-usable-by-store"],
                others=others,
                unknown={part: fact.reason for part, fact in facts.items() if not fact.settled}
                | ({"others": view.left_out} if view.left_out else {}),
            )
        )  # fmt: skip
    return rows


def _is_default(view: BucketSubject, by: str, key: str) -> bool | None:
    """Whether versions are encrypted as the bucket's default says; None where that is not known."""
    default = view.bucket.encryption.value
    if default is None:
        return None if view.bucket.encryption.unread else by == "none"
    if by != "customer-managed":
        return (by, key) == (default.by, default.key)
    if not default.key:
        return None if default.algorithm.startswith("aws:kms") else False
    if not key:
        return None
    keys = [view.index.key_named(name) for name in (key, default.key)]
    if key.rpartition("/")[2] == default.key.rpartition("/")[2] or (keys[0] is not None and keys[0] is keys[1]):
        return True
    return None if "alias/" in default.key and None in keys else False


def _keeper(view: BucketSubject, by: str, key: str) -> str | None:
    """Who manages the key of some versions: of a key service's keys, only the key itself says so."""
    known = view.index.key_named(key) if key else None
    if by != "customer-managed":
        return by
    return f"{known.managed_by.value}-managed" if known is not None and known.managed_by.value else None
