"""Looking at one blob of a container: its headers, and its tags where they are wanted. Read verbs only."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import msgspec

from rusty_lantern.core.model.acl import ObjectGrant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import Inspected, ObjectVersion
from rusty_lantern.stores.blob.documents import described, read_tags
from rusty_lantern.stores.blob.shared_key import HEADERS
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.reply import Memory, content_headers


@dataclass(frozen=True)
class BlobObjects:
    """Looks at the blobs of one container."""

    client: Client
    bucket: Bucket
    tags: bool
    """Whether tags are asked for: one more question a blob that has some."""
    memory: Memory | None
    granted: ClassVar[list[ObjectGrant]] = []

    async def inspect(self, version: ObjectVersion) -> ObjectVersion:
        """The version with everything that can be seen of it. Never raises for what the store does."""
        if version.version == "deleted":  # nobody can read it, unless somebody brings it back
            return msgspec.structs.replace(version, inspected="failed")
        which = _which(version)
        try:
            reply = await self.client.ask(
                self.bucket.name, which, key=version.key, method="HEAD", headers=HEADERS, memory=self.memory
            )
            read_status(reply)
        except RequestFailed as error:
            lost: Inspected = "denied" if error.state == "denied" else "failed"
            return msgspec.structs.replace(version, inspected=lost)
        lock, headers = self.bucket.lock.value, reply.headers
        whole = self.bucket.lock.unread or (lock is not None and lock.whole)
        tags = {} if headers.get("x-ms-tag-count", "0") == "0" else await self._tags(version, which)
        return msgspec.structs.replace(
            version,
            inspected="yes",
            **content_headers(headers, "x-ms-meta-"),
            **described(headers, whole=whole, held=self.bucket.legal_hold.value),
            tags=tags,
        )

    async def _tags(self, version: ObjectVersion, which: tuple[tuple[str, str], ...]) -> dict[str, str] | None:
        """The tags of a blob that has some; None where they are not asked for or not given."""
        if not self.tags:
            return None
        try:
            query = (("comp", "tags"), *which)
            reply = await self.client.ask(self.bucket.name, query, key=version.key, headers=HEADERS, memory=self.memory)
            read_status(reply)
            return read_tags(reply.body)
        except RequestFailed:
            return None


def _which(version: ObjectVersion) -> tuple[tuple[str, str], ...]:
    """The parameter that names a version or a snapshot; none for what is current."""
    kind, _, moment = version.version.partition(" ")
    if kind == "snapshot":
        return (("snapshot", moment),)
    return () if version.version == "null" else (("versionid", version.version),)
