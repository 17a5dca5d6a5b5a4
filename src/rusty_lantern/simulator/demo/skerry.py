"""The demo's store `skerry`: a gateway at the second site, read by one of its users, who owns nothing there.

It holds what `harbour` mirrors to it, not always as it should; buckets whose policies its software reads in its own
way; and one bucket in a tenant. Only its administration door lists them, and shows what every user may do.
"""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from importlib.resources import files
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.admin_server import AdminDoor, GatewayUser
from rusty_lantern.simulator.contents import StandinKey, StoreContents

KEEPER, AUDITOR = "saltmarsh", "gate-auditor"
"""The user whose buckets the mirror writes to; the one whose key reads them all."""
KEY_ID, SECRET = "SKERRYGATEAUDITKEY01", "demo/only/never/a/real/secret/0000000001"
LATER = "ferry$ticket-counter"
"""Whose permission was attached within the last month."""
_MIRRORED = ("access-logs", "grant-ledger", "permit-archive", "permit-scans")
_LIKE = "reedbed-notes"
"""The bucket of `harbour` that those which are not mirrored are made after: closed, and nothing wrong with it."""
_ABSENT: Answer[Any] = Answer("absent")


def gate(*, later: bool = True) -> AdminDoor:
    """The administration door; `later`: with the permission that was attached within the last month."""
    text = (files("rusty_lantern.simulator.demo") / "files" / "skerry-users.json").read_text(encoding="utf-8")
    users = msgspec.json.decode(text, type=list[GatewayUser])
    return AdminDoor(
        [msgspec.structs.replace(user, policies={}) if user.id == LATER and not later else user for user in users]
    )


def skerry(harbour: StoreContents, moment: datetime) -> StoreContents:
    """The second site, beside what `harbour` holds at the same moment."""
    buckets, versions = _mirrored(harbour, moment)
    like = harbour.bucket(_LIKE)
    contents = [msgspec.structs.replace(version, public="") for version in harbour.versions[_LIKE]]
    assert like is not None
    tags = Answer("known", {"class": "working", "steward": "ferry-desk"})
    like = msgspec.structs.replace(
        like, region=Answer("known", "south-shore"), tags=tags, public_status=Answer("unsupported"),
        public_access_guards=_ABSENT, policy=_ABSENT,
    )  # fmt: skip
    for name, statements in _READ_OTHERWISE.items():
        document = json.dumps({"Version": "2012-10-17", "Statement": statements})
        buckets.append(msgspec.structs.replace(like, name=name, policy=Answer("known", document)))
    buckets = [_owned(bucket, KEEPER, *_WRITERS.get(bucket.name, ())) for bucket in buckets]
    of_tenant = msgspec.structs.replace(like, name="ferry:ferry-lists", tenant=Answer("known", "ferry"))
    buckets.append(_owned(of_tenant, "ferry$planner"))
    versions |= {bucket.name: contents for bucket in buckets if bucket.name not in versions}
    dossier = msgspec.structs.replace(
        harbour.dossier, software=Answer("known", Software("", dialect="gateway-16")),
        store="skerry", account=Answer("known", AUDITOR), listing=Answer("known", len(buckets)), buckets=buckets,
        identities=Answer("unsupported"), groups=Answer("unsupported"), credentials=Answer("unsupported"),
    )  # fmt: skip
    return StoreContents(dossier, {KEY_ID: StandinKey(SECRET, AUDITOR)}, versions)


def _mirrored(harbour: StoreContents, moment: datetime) -> tuple[list[Bucket], dict[str, list[ObjectVersion]]]:
    copies, versions = [], {}
    for name in _MIRRORED:
        original = harbour.bucket(name)
        assert original is not None
        copies.append(msgspec.structs.replace(original, region=Answer("known", "south-shore")))
        versions[name] = harbour.versions[name]
    versions["access-logs"] = versions["access-logs"][:12]  # of its own records, of one month
    ledger, archive = copies[1:3]
    assert archive.encryption.value
    copies[1] = msgspec.structs.replace(ledger, tags=Answer("known", {"class": "permit", "steward": "finance"}))
    versions["grant-ledger"] = versions["grant-ledger"][:-6]  # six never arrived
    copies[2] = msgspec.structs.replace(archive, lock=_ABSENT)  # the copy has no lock
    versions["permit-archive"] = [_unlocked(version) for version in versions["permit-archive"]]
    recent = moment - timedelta(minutes=30)
    versions["permit-scans"] = [v for v in versions["permit-scans"] if v.written and v.written < recent]  # on its way
    return copies, versions


_WRITERS = {"grant-ledger": ("mirror-runner",)}
"""What brings the copies may write them, by the bucket's ACL: at a gateway that is to delete versions as well, under
governance too, and an empty bucket."""


def _owned(bucket: Bucket, owner: str, *writers: str) -> Bucket:
    granted = [Grant("named", "full-control", owner), *(Grant("named", "write", writer) for writer in writers)]
    acl: Answer[list[Grant]] = Answer("known", granted)
    return msgspec.structs.replace(bucket, owner=Answer("known", owner), acl=acl, ownership=Answer("unsupported"))


def _unlocked(version: ObjectVersion) -> ObjectVersion:
    return msgspec.structs.replace(version, mode="", until=None, hold=False)


_ALLOW = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject"}
_READ_OTHERWISE: dict[str, list[dict[str, object]]] = {
    # closed by the published language: everything but the region is denied to everybody from elsewhere. The second
    # site's software skips a statement with NotAction, and only the Allow counts
    "ferry-lists": [
        {**_ALLOW, "Resource": "arn:aws:s3:::ferry-lists/*"},
        {"Effect": "Deny", "Principal": "*", "NotAction": "s3:GetBucketLocation",
         "Resource": ["arn:aws:s3:::ferry-lists", "arn:aws:s3:::ferry-lists/*"]},
    ],
    # its look-alike: open by the published language, and an Allow that lets in nobody there
    "ferry-posters": [
        {"Effect": "Allow", "Principal": "*", "NotAction": ["s3:PutObject", "s3:DeleteObject"],
         "Resource": "arn:aws:s3:::ferry-posters/*"},
    ],
}  # fmt: skip
"""Bucket of the second site → the statements of its policy, which its software reads in its own way."""
