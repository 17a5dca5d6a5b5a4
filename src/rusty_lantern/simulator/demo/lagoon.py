"""The demo's Swift store `lagoon`, and the second door of `harbour`: every trap of container ACLs, and look-alikes."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import AccountAcl, Bucket, ContainerAcl, Versioning, VersionSource
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.core.model.capabilities import SWIFT
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.demo.containers import container
from rusty_lantern.simulator.swift_server import SwiftUser

ACCOUNT = "/v1/AUTH_trust"
USERS = {"trust:auditor": SwiftUser("demo-only-lagoon-key")}
HARBOUR_ACCOUNT = "/swift/v1"
HARBOUR_USERS = {"trust:reading": SwiftUser("demo-only-harbour-swift-key")}

_DOOR = {"boat-logs": ContainerAcl(read=".r:*,.rlistings"), "launch-2027": ContainerAcl(read=".rlistings")}
"""Bucket of `harbour` → what its Swift door alone shows: one ACL opens, the other opens nothing."""
_ALWAYS = {"gallery-web": ContainerAcl(read=".rlistings")}
"""An ACL that opens nothing, and proves that whoever sees it is shown ACLs."""


def with_door(harbour: StoreContents, *, opened: bool = True) -> StoreContents:
    """`harbour` with its second door; `opened`: with the ACLs that somebody set through it."""
    acls = _ALWAYS | (_DOOR if opened else {})
    buckets = [
        msgspec.structs.replace(
            bucket,
            container_acl=Answer("known", acls[bucket.name]) if bucket.name in acls else Answer("absent"),
            temporary_url_key=Answer("absent"),
            synchronization_key=Answer("absent"),
        )
        for bucket in harbour.dossier.buckets
    ]
    dossier = msgspec.structs.replace(
        harbour.dossier, buckets=buckets, acl_reading="tempauth", account_acl=Answer("absent")
    )
    return replace(harbour, dossier=dossier)


def lagoon(moment: datetime) -> StoreContents:
    """The store as its server would show it at a moment."""
    objects = {name: _objects(name, count, moment) for name, count in _COUNTS.items()}
    buckets = [_container(name, read, write, objects[name], **more) for name, read, write, more in _CONTAINERS]
    dossier = Dossier(
        store="lagoon",
        taken=moment,
        acl_reading="tempauth",
        account=Answer("known", "AUTH_trust"),
        account_acl=Answer("known", AccountAcl(read_only=["station:reader"])),
        temporary_url_key=Answer("known", True),
        buckets=buckets,
    )
    return StoreContents(dossier, {}, objects)


def people(moment: datetime) -> Dossier:
    """Who the store's own users are: the dossier beside it, since the protocol has no question for that."""
    own = [Identity(name="trust:auditor", kind="person"), Identity(name="station:reader", kind="service")]
    return Dossier(store="lagoon", taken=moment, identities=Answer("known", own), groups=Answer("absent"))


_CONTAINERS: tuple[tuple[str, str, str, dict[str, Any]], ...] = (
    ("eelgrass-survey", "", "", {"keeps": "nest-counts"}),  # who may write to that one deletes here, by no ACL of it
    ("seal-pictures", ".r:*,.r:-bad.example", "", {}),  # one host is left out, everybody else is let in
    ("reed-guide", ".rlistings", "", {}),  # opens nothing by itself
    ("volunteer-rotas", ".r:unknown", "", {"sort": "personal"}),  # whoever sends no Referer
    ("boat-manuals", ".r:.saltmarsh.example,.rlistings", "", {}),  # a Referer is whatever the sender writes
    ("nest-counts", "", "ringers:uploader", {}),  # who may write may delete
    ("specimen-labels", "*:*,*", "", {}),  # names nobody where the server has its own users
    ("old-minutes", "", "", {"key": True, "versioning": "never"}),
    ("tide-films", ".r:-*", "", {"synced": True}),  # denies nobody, lets in nobody, and has a key that writes
)
"""Name, read ACL, write ACL, and what else is special."""
_COUNTS = {name: 6 + 3 * number for number, (name, *_) in enumerate(_CONTAINERS)}


def _container(name: str, read: str, write: str, objects: list[ObjectVersion], **more: Any) -> Bucket:
    tags = {"steward": "lagoon-crew", "class": more.get("sort", "working")}
    kept = [VersionSource(n, r, w, takes_back=True) for n, r, w, _ in _CONTAINERS if n == more.get("keeps")]
    acl = ContainerAcl(read, write, kept)
    values: dict[str, Any] = {
        "created": datetime(2021, 4, 1, tzinfo=UTC),
        "container_acl": acl if acl != ContainerAcl() else None,
        "versioning": Versioning(more.get("versioning", "on")),
        "tier": "standard",
        "tags": tags,
        "usage": Usage(len(objects), sum(version.size for version in objects)),
        "temporary_url_key": True if more.get("key") else None,
        "synchronization_key": True if more.get("synced") else None,
    }
    return container(name, SWIFT, values)


def _objects(container: str, count: int, moment: datetime) -> list[ObjectVersion]:
    """Objects of the last weeks; every fifth is deleted by the store itself one day, and one is a link."""
    return [
        ObjectVersion(
            key=f"{container}/{number:03d}.jpg",
            version=f"{1_793_000_000 + number}.00000",
            size=40_000 + 1_000 * number,
            etag=f"{number:032x}",
            written=moment - timedelta(days=40 + number),
            content_type="image/jpeg",
            metadata={"station": "north-pool"},
            expires=moment + timedelta(days=10) if number % 5 == 4 else None,
            points_to="eelgrass-survey/eelgrass-survey/000.jpg" if (container, number) == ("seal-pictures", 3) else "",
        )
        for number in range(count)
    ]
