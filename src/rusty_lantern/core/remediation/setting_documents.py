"""The settings that would put drift right, as documents to apply."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.bucket import Encryption, Guards, Lock, Versioning
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


def setting_remedy(view: BucketSubject | None, finding: Finding) -> Remedy:
    """What puts a setting right: the document to apply where there is one, otherwise words."""
    requirement = finding.requirement
    make = next((make for start, make in _SETTINGS.items() if requirement.fact.startswith(start)), None)
    if view is not None and make is not None and takes_documents(view):
        found = make(view, requirement)
        if found is not None:
            words, document = found
            return Remedy((requirement.fact,), words, (document,) if document else ())
    return Remedy((requirement.fact,), advice(finding))


Setting = tuple[str, Document | None]


def as_document(setting: str, written: bytes) -> Document:
    """A document to apply, laid out for people."""
    return Document(setting, laid_out(written))


def _versioning(view: BucketSubject, requirement: Requirement) -> Setting | None:
    if requirement.comparison is None or not requirement.comparison.accepts("on"):
        return None
    words = "switch versioning on; what was overwritten before stays lost"
    return words, as_document("versioning", versioning_document(Versioning("on")))


def _encryption(view: BucketSubject, requirement: Requirement) -> Setting | None:
    accepts = requirement.comparison.accepts if requirement.comparison else lambda _: False
    key = view.bucket.encryption.value.key if view.bucket.encryption.value else ""
    words = "set the default encryption; objects that are there stay as they are until written again"
    if accepts("provider-managed"):
        return words, as_document("encryption", encryption_document(Encryption("provider-managed", "AES256")))
    if accepts("customer-managed"):
        words += "" if key else "; name the key, or the store's own default one is used"
        return words, as_document("encryption", encryption_document(Encryption("customer-managed", "aws:kms", key)))
    return None


_ANOTHER_BUCKET = (
    "many stores switch the lock on only when a bucket is made: make a new one with it and copy, or see whether yours "
    "can add it to one that has versioning"
)


def _lock(view: BucketSubject, requirement: Requirement) -> Setting | None:
    lock = view.bucket.lock.value
    if lock is None or not lock.enabled:
        return _ANOTHER_BUCKET, None
    accepts = requirement.comparison.accepts if requirement.comparison else lambda _: False
    mode, keep = lock.mode or "governance", lock.retention
    if requirement.fact == "lock.mode":
        mode = next((mode for mode in ("compliance", "governance") if accepts(mode)), mode)
    elif requirement.fact == "lock.default-retention" and requirement.comparison is not None:
        bounds = [int(value) for value in requirement.comparison.values if isinstance(value, int)]
        keep = min(bounds, key=lambda bound: abs(bound - keep), default=keep)
    words = "change the default retention; existing versions keep their own"
    if mode == "compliance":
        words += ", and what is stored under compliance cannot be taken back"
    return words, as_document("object lock", lock_document(Lock(True, mode, keep))) if keep else None


def _guards(view: BucketSubject, requirement: Requirement) -> Setting | None:
    name = requirement.fact.removeprefix("public-access-guards.").replace("-", "_")
    on = requirement.comparison is not None and requirement.comparison.accepts("on")
    public_access_guards = msgspec.structs.replace(view.bucket.public_access_guards.value or Guards(), **{name: on})
    return f"switch that public-access guard {'on' if on else 'off'}", as_document(
        "public-access guards", guards_document(public_access_guards)
    )


def _ownership(view: BucketSubject, requirement: Requirement) -> Setting | None:
    if requirement.comparison is None or not requirement.comparison.accepts("off"):
        return None
    words = "let the bucket's owner own every object, so that objects have no ACLs"
    return words, as_document("ownership", ownership_document("bucket-owner-enforced"))


def _tags(view: BucketSubject, requirement: Requirement) -> Setting | None:
    tag, comparison = requirement.fact.removeprefix("tags."), requirement.comparison
    if comparison is None or comparison.how != "is":
        return None
    tags = (view.bucket.tags.value or {}) | {tag: str(comparison.values[0])}
    return f"tag the bucket with {tag}={comparison.values[0]}", as_document("tags", tags_document(tags))


_SETTINGS: dict[str, Callable[[BucketSubject, Requirement], Setting | None]] = {
    "versioning": _versioning,
    "encryption.at-rest": _encryption,
    "lock.": _lock,
    "public-access-guards.": _guards,
    "object-acls.enabled": _ownership,
    "tags.": _tags,
}
"""Beginning of a fact's name → the setting that makes it so."""
