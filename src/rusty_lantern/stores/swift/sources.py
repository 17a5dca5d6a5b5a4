"""Containers through which others are written to: the server does it as itself, and asks no ACL of the other one."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, ContainerAcl, CopySource, VersionSource


def with_version_sources(buckets: list[Bucket], kept_in: Mapping[str, tuple[str, bool] | None]) -> list[Bucket]:
    """Containers, each with those whose earlier versions are kept in it: who may write to these writes to it as well,
    though its own ACL says nothing of them. `kept_in`: of the containers that were read, where theirs are kept."""
    sources: dict[str, list[VersionSource]] = {}
    lost: list[str] = []
    for bucket in buckets:
        kept, acl = kept_in.get(bucket.name), bucket.container_acl
        gone = acl.evidence.answer.startswith("404")
        if (bucket.name not in kept_in and not gone) or (kept and acl.unread):
            lost.append(bucket.name)
        elif kept:
            own = acl.value or ContainerAcl()
            sources.setdefault(kept[0], []).append(VersionSource(bucket.name, own.read, own.write, kept[1]))
    return [_with_sources(bucket, sources.get(bucket.name, []), _not_read(lost)) for bucket in buckets]


def _not_read(lost: Collection[str], but_for: str = "") -> str:
    """Which containers were not read, in words: one of them, and how many more."""
    first = next((name for name in lost if name != but_for), "")
    more = len(lost) - 1 - (but_for in lost)
    return f"{first} was not read{f', nor {more} more' if more > 0 else ''}" if first else ""


def _with_sources(bucket: Bucket, sources: list[VersionSource], unread: str) -> Bucket:
    return _with(bucket, versions_of=sources, versions_unread=unread) if sources or unread else bucket


def _with(bucket: Bucket, **more: Any) -> Bucket:
    acl = bucket.container_acl
    if acl.unread:
        return bucket
    known = msgspec.structs.replace(acl.value or ContainerAcl(), **more)
    return msgspec.structs.replace(bucket, container_acl=Answer("known", known, acl.note, acl.evidence))


def with_copy_sources(buckets: list[Bucket], account: str) -> list[Bucket]:
    """Containers of an account that may be synchronized to, each with those that name it as where they are
    synchronized to, and those from which copies arrive there by way of another container. A server takes copies in a
    container that has a key for it, of any container with the same key, and sends on what it took (tried on release
    2.30)."""
    sources: dict[str, list[CopySource]] = {}
    lost: dict[str, None] = {}
    for bucket in buckets:
        if bucket.replication.unread and not bucket.replication.evidence.answer.startswith("404"):
            lost[bucket.name] = None
        for rule in bucket.replication.value or ():
            owner, _, name = rule.target.rstrip("/").rpartition("/")
            if owner.rpartition("/")[2] != account or unquote(name) == bucket.name:
                continue  # another account's; or of the same name, and so in another store
            if bucket.container_acl.unread:
                lost[bucket.name] = None
            else:
                own = bucket.container_acl.value or ContainerAcl()
                sources.setdefault(unquote(name), []).append(CopySource(bucket.name, own.write))
    taking = {bucket.name for bucket in buckets if _takes_copies(bucket)}
    return [_with_copies(bucket, _with_earlier(bucket.name, sources, taking), lost) for bucket in buckets]


def _with_earlier(name: str, sources: Mapping[str, list[CopySource]], taking: Collection[str]) -> list[CopySource]:
    """The sources of a container, and step by step the sources of those that take copies themselves."""
    every = {one.name: one for one in sources.get(name, ())}
    queue = list(every)
    for middle in queue:
        for one in sources.get(middle, ()) if middle in taking else ():
            if one.name not in (name, *every):
                every[one.name] = msgspec.structs.replace(one, through=middle)
                queue.append(one.name)
    return list(every.values())


def _takes_copies(bucket: Bucket) -> bool:
    return bucket.synchronization_key.unread or bool(bucket.synchronization_key.value)


def _with_copies(bucket: Bucket, sources: list[CopySource], lost: Collection[str]) -> Bucket:
    unread = _not_read(lost, bucket.name)
    if not (sources or unread) or not _takes_copies(bucket):
        return bucket
    return _with(bucket, copies_of=sources, copies_unread=unread)
