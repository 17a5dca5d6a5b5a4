"""Looking at one object of a container: its headers. Read verbs only."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, ClassVar
from urllib.parse import quote

import msgspec

from rusty_lantern.core.model.acl import ObjectGrant
from rusty_lantern.core.model.object_version import Inspected, ObjectVersion
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory, content_headers
from rusty_lantern.stores.swift.listing import check


@dataclass(frozen=True)
class SwiftObjects:
    """Looks at the objects of one container."""

    client: Client
    path: str
    """The container's path."""
    memory: Memory | None
    granted: ClassVar[list[ObjectGrant]] = []

    async def inspect(self, version: ObjectVersion) -> ObjectVersion:
        """The version with everything that can be seen of it. Never raises for what the store does."""
        if version.marker:
            return version
        query: tuple[tuple[str, str], ...] = (("symlink", "get"),)  # the link itself, not what it points to
        query += (("version-id", version.version),) if version.version != "null" else ()
        path = f"{self.path}/{quote(version.key)}"
        try:
            reply = await self.client.ask(path=path, query=query, method="HEAD", memory=self.memory)
            if reply.status == 404:  # past its time, and listed still: nobody can read it
                return msgspec.structs.replace(version, inspected="failed")
            check(reply)
        except RequestFailed as error:
            lost: Inspected = "denied" if error.state == "denied" else "failed"
            return msgspec.structs.replace(version, inspected=lost)
        return msgspec.structs.replace(version, **_described(reply.headers))


def _described(headers: Mapping[str, str]) -> dict[str, Any]:
    ends = headers.get("x-delete-at", "")
    looked: Inspected = "yes"
    return {
        "inspected": looked,
        **content_headers(headers, "x-object-meta-"),
        "mode": "",
        "hold": False,
        "expires": datetime.fromtimestamp(int(ends), UTC) if re.fullmatch("[0-9]{1,11}", ends) else None,
        "points_to": _points_to(headers),
    }


def _points_to(headers: Mapping[str, str]) -> str:
    """Where the data of a linked or segmented object is: container and name, or a prefix of names."""
    target = headers.get("x-symlink-target") or headers.get("x-object-manifest") or ""
    return "segments" if not target and headers.get("x-static-large-object", "").lower() == "true" else target
