"""What a Swift door shows everybody: which features its server has. It is also how such a door is found."""

from __future__ import annotations

from typing import Any

import msgspec

from rusty_lantern.stores.http.client import BUSY, Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory, Reply


class S3Door(msgspec.Struct, frozen=True):
    """The server's own S3 door. With ACLs of its own it opens what container ACLs do not show."""

    s3_acl: bool = False


class Info(msgspec.Struct, frozen=True):
    """The features that matter here. `swift` is there in every such answer, and in no other."""

    swift: dict[str, Any]
    tempauth: dict[str, Any] | None = None
    s3api: S3Door | None = None
    container_quotas: dict[str, Any] | None = None
    account_quotas: dict[str, Any] | None = None
    versioned_writes: dict[str, Any] | None = None
    staticweb: dict[str, Any] | None = None

    @property
    def own_users(self) -> bool:
        """Whether the server has users of its own."""
        return self.tempauth is not None


async def ask_info(outside: Client, account_path: str) -> Info | None:
    """What the door with this account says, asked at its root; None where nothing of the kind is answered."""
    try:
        return await info_at(outside, account_path.partition("/v1")[0] + "/info")
    except RequestFailed:
        return None


def refuse_what_stands_in_front(reply: Reply) -> None:
    """Raise `RequestFailed` for an answer that shows nothing of the store behind it: it is busy, or refuses in another
    form than that of the S3 protocol, whose stores answer so for a bucket of that name."""
    if reply.status in BUSY:
        raise RequestFailed("failed", f"it answered {reply.status}")
    if reply.status in (401, 403) and b"<Error" not in reply.body:
        raise RequestFailed("denied", f"it answered {reply.status} without an error of the S3 protocol")


async def info_at(outside: Client, path: str, memory: Memory | None = None) -> Info | None:
    """What the door at this path says of itself; None if no Swift door answers there.

    Raises `RequestFailed` if nobody answers at all, or if what is in front of the door answers for it.
    """
    reply = await outside.ask(path=path, memory=memory)
    refuse_what_stands_in_front(reply)
    try:
        return msgspec.json.decode(reply.body, type=Info) if reply.status == 200 else None
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None
