"""Who holds keys to the demo's store `harbour`, which keys protect its data, and which links are out."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity, Kind, Password, Verb
from rusty_lantern.core.model.resources import EncryptionKey, Link
from rusty_lantern.core.value_types import DAY, YEAR
from rusty_lantern.stores.iam.answers import ROOT

ACCOUNT = "400100200300"


def _document(name: str, via: str, *statements: tuple[list[str], list[str]]) -> AttachedPolicy:
    allowed = [
        {"Effect": "Allow", "Action": actions, "Resource": [f"arn:aws:s3:::{resource}" for resource in resources]}
        for actions, resources in statements
    ]
    return AttachedPolicy(name, json.dumps({"Version": "2012-10-17", "Statement": allowed}), via)


def _changes_keys(whose: str) -> AttachedPolicy:
    """A permission to make and delete keys of users, so that a program can change its own."""
    actions, users = ["iam:CreateAccessKey", "iam:DeleteAccessKey"], f"arn:aws:iam::*:user/{whose}"
    said = {"Effect": "Allow", "Action": actions, "Resource": [users]}
    return AttachedPolicy("changes-keys", json.dumps({"Version": "2012-10-17", "Statement": [said]}), "inline")


def _assumes(role: str) -> AttachedPolicy:
    """A permission to assume a role, which is good for nothing unless the role trusts the account."""
    said = {"Effect": "Allow", "Action": ["sts:AssumeRole"], "Resource": [f"arn:aws:iam::{ACCOUNT}:role/{role}"]}
    return AttachedPolicy("assumes", json.dumps({"Version": "2012-10-17", "Statement": [said]}), "inline")


EVERYTHING = _document("keepers-full", "attached", (["s3:*"], ["*"]))
LOOK = ["s3:GetObject", "s3:ListBucket"]


def _identity(
    name: str,
    kind: Kind,
    days: int,
    moment: datetime,
    *policies: AttachedPolicy,
    factor: bool = False,
    signed_in: int | None = None,
    tags: dict[str, str] | None = None,
    assumes: tuple[str, ...] = (),
) -> Identity:
    """An identity that was made so many days ago; with a password if it ever signed in, `signed_in` days ago."""
    made = moment - timedelta(days)
    password: Answer[Password] = Answer("absent")
    if signed_in is not None:
        last = Answer("known", moment - timedelta(signed_in))
        password = Answer("known", Password(Answer("known", made), last))
    return Identity(
        name=name,
        resource=f"arn:aws:iam::{ACCOUNT}:user/{name}",
        kind=kind,
        state=Answer("known", "enabled"),
        created=Answer("known", made),
        mfa=Answer("known", factor),
        password=password,
        policies=Answer("known", list(policies)),
        tags=Answer("known", tags or {}),
        assumes=Answer("known", list(assumes)),
    )


def _key(number: str, owner: str, age: int, idle: int | None, moment: datetime, *, live: bool = True) -> Credential:
    return Credential(
        id=f"SMT{number}",
        owner=owner,
        state=Answer("known", "active" if live else "disabled"),
        created=Answer("known", moment - timedelta(age)),
        last_used=Answer("known", moment - timedelta(idle)) if idle is not None else Answer("absent"),
    )


def identities(moment: datetime) -> dict[str, Any]:
    """The dossier's identities, groups and credentials, as the identity service has them."""
    gallery = _document("gallery-all", "inline", (["s3:*"], ["gallery-*", "gallery-*/*"]))
    tides = _document("tides-read", "inline", (LOOK, ["tide-gauge-raw", "tide-gauge-raw/*"]))
    cameras = _document("cameras-put", "inline", (["s3:PutObject"], ["camera-traps/*"]))
    backups = _document("backups", "attached", (["s3:PutObject", "s3:ListBucket"], ["backups-*", "backups-*/*"]))
    scans = _document("scans", "inline", (["s3:PutObject"], ["permit-scans/scans/*"]))
    people = [
        _identity("admin", "person", 2400, moment, EVERYTHING, signed_in=3),
        _identity("storage-keeper", "person", 700, moment, EVERYTHING, factor=True, signed_in=1),
        _identity("permit-clerk", "person", 900, moment, scans, factor=True, signed_in=410),
        _identity("auditor", "service", 300, moment, _document("look", "inline", (["s3:Get*", "s3:List*"], ["*"]))),
        # the administrator's keys too; and it may become the one who writes the logs of who read what
        _identity("tide-reader", "service", 800, moment, tides, _changes_keys("*"), assumes=("role log-shipper",)),
        _identity("gallery-publisher", "service", 800, moment, gallery),
        _identity("camera-uploader", "service", 600, moment, cameras),
        _identity("backup-runner", "service", 1500, moment),
        _identity(
            "ringing-sync",
            "service",
            1000,
            moment,
            _document("ringing", "inline", (LOOK, ["ringing-records*"])),
            _changes_keys("${aws:username}"),  # its look-alike: its own keys alone
            _assumes("species-lab"),  # a look-alike too: that role trusts another account, and nobody here
        ),
        # granted everything, and capped: it looks like a keeper, and reads one bucket
        msgspec.structs.replace(
            _identity("trainee", "service", 60, moment, EVERYTHING),
            boundary=Answer("known", _document("trainees", "attached", (LOOK, ["tide-gauge-raw*"])).text),
        ),
        _identity("old-importer", "service", 1500, moment, _document("maps", "inline", (LOOK, ["survey-maps*"]))),
    ]
    shipper = Identity(
        name="role log-shipper",
        resource=f"arn:aws:iam::{ACCOUNT}:role/log-shipper",
        kind="role",
        created=Answer("known", moment - timedelta(1200)),
        policies=Answer("known", [_document("ship", "inline", (["s3:PutObject"], ["access-logs/*"]))]),
        assumable_by=Answer("known", "own-account"),
        assumes=Answer("known", []),
    )
    # another account may assume it, so every bucket that it reaches has a door there
    exchange = msgspec.structs.replace(
        shipper,
        name="role species-lab",
        resource=f"arn:aws:iam::{ACCOUNT}:role/species-lab",
        policies=Answer("known", [_document("pictures", "inline", (LOOK, ["camera-traps*"]))]),
        assumable_by=Answer("known", "other-accounts"),
        assumed_from=["400100200399"],
    )
    root = Identity(name=ROOT, kind="root", mfa=Answer("known", True))
    crew = Group(name="backup-crew", members=["backup-runner"], policies=Answer("known", [backups]))
    keys = [
        _key("ADMIN00000000000901", "admin", 901, 3, moment),
        _key("KEEPER0000000000041", "storage-keeper", 41, 1, moment),
        _key("TIDES00000000000120", "tide-reader", 120, 0, moment),
        _key("GALLERY000000000200", "gallery-publisher", 200, 2, moment),
        _key("CAMERA0000000000330", "camera-uploader", 330, 0, moment),
        _key("CAMERA0000000000090", "camera-uploader", 90, 0, moment),  # the rotation was begun and never ended
        _key("BACKUP0000000000150", "backup-runner", 150, 0, moment),
        _key("RINGING000000000700", "ringing-sync", 700, 380, moment, live=False),
        _key("RINGING000000000020", "ringing-sync", 20, 0, moment),
        _key("IMPORT0000000001400", "old-importer", 1400, None, moment),  # never used
        _key("TRAINEE0000000000055", "trainee", 55, 4, moment),
        _key("ROOT000000000000000", ROOT, 2900, 700, moment),
    ]
    audit = Credential(
        id="SALTMARSHAUDITKEY001",
        owner="auditor",
        state=Answer("known", "active"),
        created=Answer("known", moment - timedelta(60)),
        last_used=Answer("known", moment),
    )
    return {
        "identities": Answer("known", [root, *people, shipper, exchange]),
        "groups": Answer("known", [crew]),
        "credentials": Answer("known", [audit, *keys]),
    }


SERVICE = "storage-service"


def _ring(key: str, name: str, place: str, moment: datetime, rotated: int | None, **more: Any) -> EncryptionKey:
    values: dict[str, Any] = {
        "state": Answer("known", "enabled"),
        "kept_in": Answer("known", "hardware-module"),
        "rotates": Answer("known", YEAR),
        "usable_by": Answer("known", [SERVICE, "storage-keeper"]),
    }
    return EncryptionKey(
        id=key,
        names=[name],
        group="saltmarsh",
        region=Answer("known", place),
        managed_by=Answer("known", "customer"),
        created=Answer("known", moment - timedelta(2000)),
        rotated=Answer("known", moment - timedelta(rotated)) if rotated is not None else Answer("absent"),
        **(values | more),
    )


def _link(bucket: str, key: str, issued: int, lasts: int | None, verbs: list[Verb], signer: str, **more: Any) -> Link:
    moment: datetime = more.pop("moment")
    begun = moment - timedelta(issued)
    ends: Answer[datetime] = Answer("absent") if lasts is None else Answer("known", begun + timedelta(lasts))
    return Link(
        bucket=bucket, key=key, verbs=verbs, credential=signer, issued=Answer("known", begun), expires=ends, **more
    )


def beside(moment: datetime) -> Dossier:
    """What the keepers of `harbour` add: the key service's keys, and the links that were given out."""
    keys = [
        _ring("0a11-permit", "permit-key", "north-shore", moment, 200),
        # rotated by nobody, kept on the other shore, and the store's own identity may not use it
        _ring("0b22-ledger", "ledger-key", "south-shore", moment, None, rotates=Answer("absent"),
              usable_by=Answer("known", ["storage-keeper"])),
        _ring("0c33-boats", "boat-key", "north-shore", moment, 90, state=Answer("known", "pending-deletion"),
              deleted=Answer("known", moment + timedelta(9))),
        _ring("0d44-spare", "spare-key", "north-shore", moment, 30, state=Answer("known", "disabled")),
    ]  # fmt: skip
    links = [
        _link("contractor-drop", "maps/", 400, None, ["read", "write"], "SMTIMPORT0000000001400", moment=moment,
              scope="prefix"),
        _link("tide-gauge-raw", "item-00007.csv", 2, 5, ["read"], "SMTTIDES00000000000120", moment=moment),
        _link("volunteer-forms", "item-00001.csv", 90, 30, ["read"], "SMTKEEPER0000000000041", moment=moment),
        _link("reedbed-notes", "item-00002.csv", 30, 365, ["read"], "SMTRINGING000000000700", moment=moment),
    ]  # fmt: skip
    return Dossier(
        store="harbour",
        taken=moment - timedelta(seconds=DAY // 4),
        encryption_keys=Answer("known", keys),
        service=Answer("known", SERVICE),
        links=Answer("known", links),
    )
