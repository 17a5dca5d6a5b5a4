"""The demo's stores that are read from documents: `attic` over HTTP, `undercroft` from a file."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.bucket import Bucket, Encryption, Lock, Logging, UploadLimits, Versioning
from rusty_lantern.core.model.bucket_contents import Uploads, Usage
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import Credential, Given, Group, Identity, Kind, Password, Use, Verb
from rusty_lantern.core.model.network import Network
from rusty_lantern.core.model.resources import Link
from rusty_lantern.core.value_types import DAY

TOKEN = "demo-only-attic-token"  # noqa: S105  (opens nothing but the stand-in)
ABSENT: Answer[Any] = Answer("absent")
OFFICE = ["10.20.0.0/16"]


def _container(name: str, created: str, usage: tuple[int, int], *rights: Right, **changes: Any) -> Bucket:
    """A container of a store without the common protocol: rights instead of policies, soft deletion, networks."""
    known = {
        "created": datetime.fromisoformat(created).replace(tzinfo=UTC),
        "region": "north-shore",
        "owner": "saltmarsh",
        "rights": list(rights),
        "granted_by": "bucket",
        "network": Network("deny", OFFICE),
        "versioning": Versioning("on"),
        "tags": {"steward": "records-office", "class": "working"},
        "usage": Usage(*usage),
        "uploads": Uploads(0),
        "soft_delete": 30 * DAY,
        "tier": "warm",
        "accepts": UploadLimits(["application/pdf", "image/jpeg"], 50_000_000),
        "scanned": True,
        "division": "trustees",
        "project": "saltmarsh",
        "logging": Logging("attic-records"),
        "requester_pays": False,
    }
    nothing = ("acl", "policy", "lock", "lifecycle", "website", "cross_origin", "replication", "notifications",
               "tenant", "scheduled_deletion", "bounds")  # fmt: skip
    no: Answer[Any] = Answer("unsupported")
    lacking = (
        "ownership",
        "public_status",
        "public_access_guards",
        "counters",
        "quota",
        "versions",
        "transfer_endpoint",
    )
    values: dict[str, Any] = {name: Answer("known", value) for name, value in known.items()}
    values |= dict.fromkeys(nothing, ABSENT) | dict.fromkeys(lacking, no)
    values |= {
        field: change if isinstance(change, Answer) else Answer("known", change) for field, change in changes.items()
    }
    return Bucket(name=name, **values)


ADMIN = Right("named", ["list", "read", "write", "delete", "change-settings", "read-settings"], identity="attic-admin")
READ: list[Verb] = ["list", "read"]
CHANGE: list[Verb] = ["list", "read", "write", "delete"]


def _crew(*verbs: Given) -> Right:
    return Right("group", list(verbs), identity="field-crew")


OFFICE_READS = Right("group", [*READ], identity="office")


def _someone(
    name: str, kind: Kind, moment: datetime, may: list[Verb], *, enabled: bool = True, alone: bool = False
) -> Identity:
    password: Answer[Password] = ABSENT
    if kind == "person":
        changed = Answer("known", moment - timedelta(120))
        password = Answer("known", Password(changed, Answer("known", moment - timedelta(4))))
    return Identity(
        name=name,
        kind=kind,
        state=Answer("known", "enabled" if enabled else "disabled"),
        created=Answer("known", moment - timedelta(900)),
        mfa=Answer("known", kind == "person" and not alone),
        password=password,
        groups=ABSENT,
        policies=Answer("unsupported"),
        may=Answer("known", may),
        tags=ABSENT,
    )


def _token(number: str, owner: str, moment: datetime, uses: list[Use], age: int = 100, idle: int = 1) -> Credential:
    return Credential(
        id=f"attic-{number}",
        owner=owner,
        kind="token",
        state=Answer("known", "active"),
        created=Answer("known", moment - timedelta(age)),
        last_used=Answer("known", moment - timedelta(idle)),
        expires=ABSENT,
        used_for=Answer("known", uses),
    )


def attic(moment: datetime) -> Dossier:
    """A document store on the north shore, with rights of groups and network rules; its owner exports a dossier."""
    buckets = [
        _container("meeting-minutes", "2021-02-03", (410, 88_000_000), OFFICE_READS),
        _container("donor-scans", "2020-09-09", (77, 51_000_000), OFFICE_READS, Right("anyone", ["create"]),
                   network=Network("allow")),  # anybody may store, from anywhere
        _container("site-photos", "2019-05-01", (900, 700_000_000), OFFICE_READS, _crew(*CHANGE),
                   network=Network("deny", ["all"]), scanned=False),
        _container("field-notes", "2022-03-30", (230, 9_000_000), OFFICE_READS, _crew(*CHANGE)),
        _container("trustee-papers", "2018-11-11", (66, 12_000_000), OFFICE_READS, _crew(*CHANGE),
                   versioning=Versioning("never"), soft_delete=7 * DAY),
        _container("attic-records", "2018-01-02", (1200, 33_000_000), logging=ABSENT, lock=Lock(True)),
    ]  # fmt: skip
    buckets = [msgspec.structs.replace(b, rights=b.rights.map(lambda rights: [*rights, ADMIN])) for b in buckets]
    excluded_identities = Logging("attic-records", excluded_identities=["attic-admin"])
    buckets[4] = msgspec.structs.replace(buckets[4], logging=Answer("known", excluded_identities))
    people = [
        _someone("attic-admin", "person", moment, [*CHANGE, "change-settings", "read-settings"]),
        _someone("minutes-clerk", "person", moment, READ),
        _someone("reserve-warden", "person", moment, CHANGE),
        _someone("summer-intern", "person", moment, READ),  # a member of the crew, who may write everything
        _someone("season-helper", "person", moment, [], enabled=False),
        _someone("boat-app", "service", moment, CHANGE),
    ]
    groups = [
        Group(
            name="field-crew", members=["reserve-warden", "summer-intern", "boat-app"], policies=Answer("unsupported")
        ),
        Group(name="office", members=["minutes-clerk"], groups=["field-crew"], policies=Answer("unsupported")),
    ]
    tokens = [
        _token("0001", "boat-app", moment, ["application", "administration"]),  # the administrators use it as well
        _token("0002", "season-helper", moment, ["application"], age=300, idle=40),  # disabled, the key is not
        _token("0003", "ghost-importer", moment, ["application"], age=200),  # of nobody
        _token("0004", "attic-admin", moment, ["administration"], age=30),
        _token("0005", "reserve-warden", moment, ["application"], age=60),
    ]
    share = Link(
        bucket="meeting-minutes", key="2026/", scope="prefix", verbs=["list", "read"], credential="attic-0004",
        issued=Answer("known", moment - timedelta(10)), expires=Answer("known", moment + timedelta(200)),
    )  # fmt: skip
    return Dossier(
        store="attic",
        taken=moment - timedelta(hours=5),
        account=Answer("known", "saltmarsh"),
        public_access_guards=Answer("unsupported"),
        network=ABSENT,
        listing=Answer("known", len(buckets)),
        buckets=buckets,
        identities=Answer("known", people),
        groups=Answer("known", groups),
        credentials=Answer("known", tokens),
        encryption_keys=Answer("unsupported"),
        service=Answer("unsupported"),
        links=Answer("known", [share]),
        certificate=Answer("unsupported"),
        plain_http=Answer("known", False),
        legacy_signatures=Answer("known", True),
    )


def undercroft(moment: datetime) -> Dossier:
    """An old file store whose owner exports a file now and then. One switch of the account forbids public access."""
    shut = Guards(ignore_acls=True)
    slides = _container("lecture-slides", "2017-10-01", (140, 800_000_000), Right("anyone", [*READ]), network=ABSENT,
                        encryption=Encryption("provider-managed"), logging=ABSENT, accepts=ABSENT)  # fmt: skip
    maps = _container("chart-masters", "2016-04-04", (31, 2_000_000_000), network=ABSENT, logging=ABSENT,
                      encryption=Encryption("provider-managed"), scheduled_deletion=moment + timedelta(12))  # fmt: skip
    return Dossier(
        store="undercroft",
        taken=moment - timedelta(days=9),
        account=Answer("known", "saltmarsh"),
        public_access_guards=Answer("known", shut),
        network=ABSENT,
        listing=Answer("known", 2),
        buckets=[maps, slides],
        identities=Answer("unsupported"),
        groups=Answer("unsupported"),
        credentials=Answer("unsupported"),
        encryption_keys=Answer("unsupported"),
        links=Answer("unsupported"),
        certificate=Answer("unsupported"),
    )
