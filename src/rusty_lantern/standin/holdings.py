"""What a stand-in store holds: a dossier to answer from, the access keys it knows, and its objects."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from rusty_lantern.core.dossier import Bucket, Dossier


@dataclass(frozen=True, slots=True)
class Access:
    """An access key's secret, the account it belongs to, and the (bucket, question) pairs refused to it."""

    secret: str = field(repr=False)
    account: str
    refused: frozenset[tuple[str, str]] = frozenset()


@dataclass(frozen=True, slots=True)
class Thing:
    """One stored object. Its content is never kept; a reading answers with as many spaces as it has bytes."""

    key: str
    size: int
    modified: datetime


@dataclass(frozen=True)
class Holdings:
    """Everything that one stand-in store answers from."""

    dossier: Dossier
    keys: dict[str, Access]
    things: dict[str, list[Thing]]

    def bucket(self, name: str) -> Bucket | None:
        """The bucket of that name."""
        return next((bucket for bucket in self.dossier.buckets if bucket.name == name), None)
