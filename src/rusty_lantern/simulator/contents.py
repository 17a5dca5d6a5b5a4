"""What a stand-in store holds: a dossier to answer from, the access keys it knows, and its objects."""

from __future__ import annotations

from dataclasses import dataclass, field

from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.object_version import ObjectVersion


@dataclass(frozen=True, slots=True)
class StandinKey:
    """An access key's secret, the account it belongs to, and the (bucket, question) pairs refused to it."""

    secret: str = field(repr=False)
    account: str
    refused: frozenset[tuple[str, str]] = frozenset()


@dataclass(frozen=True)
class StoreContents:
    """Everything from which one stand-in store answers."""

    dossier: Dossier
    keys: dict[str, StandinKey]
    versions: dict[str, list[ObjectVersion]]
    """Bucket → its versions: by key, newest first. Contents are never kept, only described."""
    believes_headers: bool = False
    """Whether it takes a caller's address from X-Forwarded-For, as a store behind a proxy does, whoever writes it."""

    def bucket(self, name: str) -> Bucket | None:
        """The bucket of that name."""
        return next((bucket for bucket in self.dossier.buckets if bucket.name == name), None)
