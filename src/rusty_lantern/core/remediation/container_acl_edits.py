"""Edits of a container ACL that take the public out of it, and the request that applies them."""

from __future__ import annotations

import shlex
from collections.abc import Collection
from urllib.parse import quote

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.remedy import Document

_PUBLIC = frozenset({".rlistings", "anonymous", "*:*", "*"})
SETTING = "container ACL"


def without_public(view: BucketSubject, verbs: Collection[Verb]) -> tuple[BucketSubject, str] | None:
    """The bucket without what lets the public use these verbs by its container ACL, and that in words; None if nothing
    in it does."""
    acl = view.bucket.container_acl.value
    if acl is None:
        return None
    gateway = view.dossier.acl_reading == "gateway"
    by_itself = view.dossier.acl_reading in ("tempauth", "keystone") and set(verbs) == {"list"}
    read, write = acl.read, acl.write
    if by_itself and ".rlistings" in acl.read:
        read = _without(acl.read, {".rlistings"}, hosts=False)
    elif not _OPENED_BY["read", gateway].isdisjoint(verbs):
        read = _without(acl.read, _PUBLIC, hosts=True)
    if not _OPENED_BY["write", gateway].isdisjoint(verbs):
        write = _without(acl.write, _PUBLIC, hosts=False)
    if (read, write) == (acl.read, acl.write):
        return None
    taken = [
        entry
        for side, kept in ((acl.read, read), (acl.write, write))
        for entry in _entries(side)
        if entry not in _entries(kept)
    ]
    new = msgspec.structs.replace(acl, read=read, write=write)
    answer: Answer[ContainerAcl] = Answer("known", new) if new != ContainerAcl() else Answer("absent")
    bucket = msgspec.structs.replace(view.bucket, container_acl=answer)
    return msgspec.structs.replace(view, bucket=bucket), f"take {', '.join(taken)} out of the container's ACL"


_OPENED_BY: dict[tuple[str, bool], frozenset[Verb]] = {
    ("read", False): frozenset({"list", "read"}),
    ("read", True): frozenset({"list", "read", "read-settings"}),
    ("write", False): frozenset({"write", "delete"}),
    ("write", True): frozenset({"write", "delete", "change-settings", "bypass-retention"}),
}
"""Which header, and whether at a gateway → the verbs that it opens."""


def _entries(side: str) -> list[str]:
    return [entry.strip() for entry in side.split(",") if entry.strip()]


def _without(side: str, names: Collection[str], *, hosts: bool) -> str:
    return ",".join(entry for entry in _entries(side) if entry not in names and not (hosts and entry.startswith(".r:")))


def request_document(view: BucketSubject, after: BucketSubject) -> Document:
    """The request that sets the headers which differ, and the same for a command line."""
    before, now = (one.bucket.container_acl.value or ContainerAcl() for one in (view, after))
    door = next((door.at for door in view.dossier.doors.value or () if door.name == "swift"), view.dossier.address)
    at = f"{door}/{quote(view.bucket.name, safe='')}"
    headers = [
        (name, new)
        for name, old, new in (
            ("X-Container-Read", before.read, now.read),
            ("X-Container-Write", before.write, now.write),
        )
        if old != new
    ]
    lines = [
        f"POST {at}",
        "X-Auth-Token: (the owner's token)",
        *(f"{name}: {value}".rstrip() for name, value in headers),
    ]
    shown = " ".join(f"-H {shlex.quote(f'{name}: {value}' if value else f'{name};')}" for name, value in headers)
    command = f'curl -X POST -H "X-Auth-Token: $TOKEN" {shown} {shlex.quote(at)}'
    return Document(SETTING, "\n".join([*lines, "", command]))
