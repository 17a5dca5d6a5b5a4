"""Encryption keys, and what encrypts each bucket, as a result."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rusty_lantern.core.audit.audit import Judge
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

    by: str
    key: str
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
        applied = [one for one in under.get(name, []) if one[0] and (one[0], one[1]) != _default(store_subject, name)]
        rows.append(
            ProtectionRow(
                store=store_subject.index.dossier.store, bucket=name, by=value["at-rest"],
                declared=facts["at-rest"].state == "stated", key=value["key"], key_region=value["key-region"],
                key_state=value["key-state"], usable_by_store=value["key-usable-by-store"],
                others=[Other(by=by, key=key, versions=n, bytes=size) for by, key, n, size in applied],
                unknown={part: fact.reason for part, fact in facts.items() if not fact.settled},
            )
        )  # fmt: skip
    return rows


def _default(store_subject: StoreSubject, bucket: str) -> tuple[str, str]:
    encryption = store_subject.buckets[bucket].bucket.encryption
    return (encryption.value.by, encryption.value.key) if encryption.value else ("none", "")
