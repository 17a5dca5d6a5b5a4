"""The settings that would put drift right, as documents to apply."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.shipped import dialect_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.bucket import Encryption, Lock, Versioning
from rusty_lantern.core.model.dialect import GATEWAY_16, MINIO_2021, SEAWEED_4
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.object_rules.gateway_calendar import LAST_MOMENT, beyond_calendar
from rusty_lantern.core.remediation.advice import advice
from rusty_lantern.core.remediation.remedy import Document, Remedy, takes_documents
from rusty_lantern.core.remediation.s3_documents import (
    encryption_document,
    guards_document,
    laid_out,
    lock_document,
    ownership_document,
    tags_document,
    versioning_document,
)
from rusty_lantern.core.value_types import show_moment


def setting_remedies(view: BucketSubject | None, findings: Sequence[Finding]) -> list[Remedy]:
    """What puts settings right: the document to apply where there is one, otherwise words.

    What drifts in one setting is put right by one document: the second of two would take back what the first one did.
    """
    groups: dict[str, list[Finding]] = {}
    for finding in findings:
        fact = finding.requirement.fact
        start = next((one for one in _SETTINGS if fact == one or (one.endswith(".") and fact.startswith(one))), "")
        groups.setdefault(start or fact, []).append(finding)
    return [
        remedy
        for start, mine in groups.items()
        for remedy in (
            _together(view, mine, _SETTINGS[start])
            if view is not None and start in _SETTINGS and takes_documents(view)
            else map(_in_words, mine)
        )
    ]


def _in_words(finding: Finding) -> Remedy:
    return Remedy((finding.requirement.fact,), advice(finding))


def _together(view: BucketSubject, findings: Sequence[Finding], setting: Setting) -> list[Remedy]:
    """One remedy for all that a document of this setting puts right, and one for each of the others."""
    changed, words, done = view, dict[str, None](), list[Finding]()
    left = list(findings)
    while left:  # what one requirement sets another may need
        made = [(one, document) for one in left if (document := setting.change(changed, one.requirement)) is not None]
        if not made:
            break
        finding, change = made[0]
        words[change.words] = None
        done.append(finding)
        left.remove(finding)
        if change.value is not None:
            bucket = msgspec.structs.replace(changed.bucket, **{setting.field: Answer("known", change.value)})
            changed = msgspec.structs.replace(changed, bucket=bucket)
    if not done:
        return list(map(_in_words, findings))
    if getattr(view.bucket, setting.field).state == "unsupported":
        unsettable = f"this store has no setting for it ({setting.title}): {_WITHOUT_SETTING}"
        return [Remedy(tuple(one.requirement.fact for one in done), unsettable), *map(_in_words, left)]
    value = getattr(changed.bucket, setting.field)
    documents = (as_document(setting.title, setting.document(value.value)),) if changed is not view else ()
    facts = tuple(one.requirement.fact for one in done)
    return [Remedy(facts, "; ".join(words), documents), *map(_in_words, left)]


_WITHOUT_SETTING = "keep what needs it in a store that has it, or waive the requirement here"


class Change(msgspec.Struct, frozen=True):
    """What to do in words, and what the setting is then; None where no document sets it."""

    words: str
    value: Any = None


class Setting(msgspec.Struct, frozen=True):
    """A setting of a bucket that a document sets as a whole."""

    title: str
    field: str
    """Of the bucket in a dossier."""
    document: Callable[[Any], bytes]
    change: Callable[[BucketSubject, Requirement], Change | None]
    """What meets a requirement; None where no document does."""


def as_document(setting: str, written: bytes) -> Document:
    """A document to apply, laid out for people."""
    return Document(setting, laid_out(written))


def _versioning(view: BucketSubject, requirement: Requirement) -> Change | None:
    if requirement.comparison is None or not requirement.comparison.accepts("on"):
        return None
    return Change("switch versioning on; what was overwritten before stays lost", Versioning("on"))


def _encryption(view: BucketSubject, requirement: Requirement) -> Change | None:
    accepts = requirement.comparison.accepts if requirement.comparison else lambda _: False
    now = view.bucket.encryption.value
    key, refused = (now.key, now.customer_provided_refused) if now else ("", False)
    words = "set the default encryption; objects that are there stay as they are until written again"
    words += _WITHOUT_KEYS.get(dialect_of(view.dossier).dialect, "")
    if accepts("provider-managed"):
        return Change(words, Encryption("provider-managed", "AES256", customer_provided_refused=refused))
    if accepts("customer-managed"):
        words += "" if key else "; name the key, or the store's own default one is used"
        return Change(words, Encryption("customer-managed", "aws:kms", key, customer_provided_refused=refused))
    return None


_REFUSED = "; the server refuses it unless it has a key service"
_WITHOUT_KEYS = {
    GATEWAY_16: _REFUSED,
    MINIO_2021: _REFUSED,
    SEAWEED_4: "; see first that the server has a key to encrypt with: without one it takes this, and then refuses "
    "every upload",
}
"""How a store's software reads policies → what becomes of a default encryption there without keys (measured)."""

_ANOTHER_BUCKET = (
    "many stores switch the lock on only when a bucket is made: make a new one with it and copy, or see whether yours "
    "can add it to one that has versioning"
)


def _lock(view: BucketSubject, requirement: Requirement) -> Change | None:
    lock = view.bucket.lock.value
    if requirement.fact not in ("lock.enabled", "lock.mode", "lock.default-retention"):
        return None
    if lock is None or not lock.enabled:
        return Change(_ANOTHER_BUCKET)
    accepts = requirement.comparison.accepts if requirement.comparison else lambda _: False
    mode, keep = lock.mode or "governance", lock.retention
    if requirement.fact == "lock.mode":
        mode = next((mode for mode in ("compliance", "governance") if accepts(mode)), mode)
    elif requirement.fact == "lock.default-retention" and requirement.comparison is not None:
        bounds = [int(value) for value in requirement.comparison.values if isinstance(value, int)]
        keep = min(bounds, key=lambda bound: abs(bound - keep), default=keep)
    proposed = Lock(True, mode, keep)
    if beyond_calendar(proposed, view.dossier.software, view.dossier.taken):
        ends = show_moment(LAST_MOMENT)
        return Change(f"require a retention that ends before {ends}: a gateway can keep none that ends later")
    words = "change the default retention; existing versions keep their own"
    if mode == "compliance":
        words += ", and what is stored under compliance cannot be taken back"
    return Change(words, proposed) if keep else None


def _guards(view: BucketSubject, requirement: Requirement) -> Change | None:
    name = requirement.fact.removeprefix("public-access-guards.")
    on = requirement.comparison is not None and requirement.comparison.accepts("on")
    now = view.bucket.public_access_guards.value or Guards()
    words = f"switch the public-access guard {name} {'on' if on else 'off'}"
    return Change(words, msgspec.structs.replace(now, **{name.replace("-", "_"): on}))


def _ownership(view: BucketSubject, requirement: Requirement) -> Change | None:
    if requirement.comparison is None or not requirement.comparison.accepts("off"):
        return None
    return Change("let the bucket's owner own every object, so that objects have no ACLs", "bucket-owner-enforced")


def _tags(view: BucketSubject, requirement: Requirement) -> Change | None:
    tag, comparison = requirement.fact.removeprefix("tags."), requirement.comparison
    if comparison is None or comparison.how != "is":
        return None
    value = str(comparison.values[0])
    return Change(f"tag the bucket with {tag}={value}", (view.bucket.tags.value or {}) | {tag: value})


_SETTINGS: dict[str, Setting] = {
    "versioning": Setting("versioning", "versioning", versioning_document, _versioning),
    "encryption.at-rest": Setting("encryption", "encryption", encryption_document, _encryption),
    "lock.": Setting("object lock", "lock", lock_document, _lock),
    "public-access-guards.": Setting("public-access guards", "public_access_guards", guards_document, _guards),
    "object-acls.enabled": Setting("ownership", "ownership", ownership_document, _ownership),
    "tags.": Setting("tags", "tags", tags_document, _tags),
}
"""A fact, or the beginning of the names of several → the setting that makes it so."""
