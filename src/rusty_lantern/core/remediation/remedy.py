"""What would put drift right, as data."""

from __future__ import annotations

import msgspec


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
