"""The demo's store `cove`: Swift containers whose users live in an identity service, and everybody whom that knows."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, ContainerAcl, Versioning
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.core.model.capabilities import SWIFT
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.demo.containers import container
from rusty_lantern.simulator.keystone_server import Realm

PROJECT = "c0fe0000000000000000000000000001"
_YARD, _PILOT = "dead0000000000000000000000000002", "b10b0000000000000000000000000003"
ACCOUNT = f"/v1/AUTH_{PROJECT}"
_CONTAINERS = (
    ("buoy-records", ".rlistings", ""),  # opens nothing, and proves that whoever sees it is shown ACLs
    ("wreck-charts", "*:*", ""),  # meant for the trust's own people; any token of the service will do
    ("pilot-notes", f"{_YARD}:{_PILOT}", ""),  # one user of another project
    ("slip-rotas", "", f"{_YARD}:*"),  # everybody with a role in another project writes, and so deletes
    ("mooring-plans", "boatyard:yard-pilot", ""),  # names count in the service's first domain only: lets in nobody
    ("tow-logs", "crew", ""),  # a role in the account's own project
)
"""Name, read ACL, write ACL."""
LATER = "wreck-charts"
"""Whose ACL was set within the last month."""


def realm(document: str) -> Realm:
    """Everybody whom the service knows, from its document."""
    return msgspec.json.decode(document, type=Realm)


def cove(moment: datetime, *, opened: bool = True) -> StoreContents:
    """The store as its server would show it; `opened`: with the ACL that somebody set within the last month."""
    objects = {name: _objects(name, 4 + 2 * n, moment) for n, (name, *_) in enumerate(_CONTAINERS)}
    buckets = [
        _container(name, "" if name == LATER and not opened else read, write, objects[name])
        for name, read, write in _CONTAINERS
    ]
    dossier = Dossier(
        store="cove",
        taken=moment,
        acl_reading="keystone",
        account=Answer("known", f"AUTH_{PROJECT}"),
        account_acl=Answer("absent"),
        temporary_url_key=Answer("absent"),
        buckets=buckets,
    )
    return StoreContents(dossier, {}, objects)


def _container(name: str, read: str, write: str, objects: list[ObjectVersion]) -> Bucket:
    values: dict[str, Any] = {
        "created": datetime(2022, 9, 1, tzinfo=UTC),
        "container_acl": ContainerAcl(read, write) if read or write else None,
        "versioning": Versioning("on"),
        "tier": "standard",
        "tags": {"steward": "cove-crew", "class": "working"},
        "usage": Usage(len(objects), sum(version.size for version in objects)),
        "temporary_url_key": None,
        "synchronization_key": None,
    }
    return container(name, SWIFT, values)


def _objects(container: str, count: int, moment: datetime) -> list[ObjectVersion]:
    return [
        ObjectVersion(
            key=f"{container}/{number:03d}.csv",
            version=f"{1_793_100_000 + number}.00000",
            size=2_000 + 100 * number,
            etag=f"{number:032x}",
            written=moment - timedelta(days=3 + number),
            content_type="text/csv",
        )
        for number in range(count)
    ]
