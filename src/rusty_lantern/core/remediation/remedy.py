"""What would put drift right, as data."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.capabilities import PROTOCOLS


def takes_documents(view: BucketSubject) -> bool:
    """Whether the bucket's store takes settings as documents of the S3-compatible protocol; words have to do otherwise.

    The protocol of a dossier that does not name one follows from what it holds: one with rights has no policies.
    """
    protocol = PROTOCOLS.get(view.dossier.protocol)
    if protocol is not None:
        return protocol.documents == "s3"
    return not view.bucket.rights.value and view.bucket.policy.state != "unsupported"


class Document(msgspec.Struct, frozen=True):
    """A document to apply: which setting of the bucket it is, and its text."""

    setting: str
    text: str


class Remedy(msgspec.Struct, frozen=True):
    """What would put drift right on one bucket or other subject."""

    facts: tuple[str, ...]
    """The requirements it is for."""
    words: str
    documents: tuple[Document, ...] = ()
    proof: tuple[str, ...] = ()
    """What deciding again showed, with the documents in place. Empty where there is nothing to decide."""
