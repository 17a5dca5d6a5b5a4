"""The demo's store `slipway`: an account of the blob protocol, whose management side is told by an export beside it."""

from __future__ import annotations

import base64
from datetime import UTC, datetime, timedelta
from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, Encryption, Guards, LinkPolicy, Lock
from rusty_lantern.core.model.capabilities import BLOB
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.blob_server import BlobServer
from rusty_lantern.simulator.contents import Holdings
from rusty_lantern.stores.blob.documents import rights_of

ACCOUNT = "slipway"
KEY = b"demo-only-account-key"
KEY_TEXT = base64.b64encode(KEY).decode()
_ENDS = datetime(2027, 3, 31, tzinfo=UTC)
_CONTAINERS: tuple[tuple[str, str, dict[str, Any]], ...] = (
    ("$web", "", {}),  # the static site serves it, whatever the levels and the account's switch say
    ("berth-records", "", {"whole": True, "versions": True}),  # kept by a rule that is locked
    ("claims", "", {"held": True}),
    ("crane-tests", "container", {"whole": True}),  # a level that the account's switch overrides; a rule not locked yet
    ("crew-handover", "", {"scope": "crew-scope"}),  # who keeps the key of that scope, nothing here tells
    ("yard-photos", "", {"policies": True, "versions": True}),
)
"""Name, public access level, what else is special."""


def slipway(moment: datetime) -> Holdings:
    """The store as its server would tell it."""
    versions = {name: _blobs(name, 4 + 3 * n, moment, **more) for n, (name, _, more) in enumerate(_CONTAINERS)}
    guards: Answer[Guards] = Answer("known", Guards(ignore_acls=True))
    buckets = [_container(name, level, **more) for name, level, more in _CONTAINERS]
    return Holdings(Dossier(store="slipway", taken=moment, public_access_guards=guards, buckets=buckets), {}, versions)


def server(moment: datetime) -> BlobServer:
    """The account's stand-in server."""
    return BlobServer(slipway(moment), moment, ACCOUNT, KEY, site="index.html", soft_delete_days=14)


def _container(name: str, level: str, **more: Any) -> Bucket:
    policies = [LinkPolicy("yard", ["read", "list"], None, _ENDS), LinkPolicy("forever", ["read", "write"])]
    told: dict[str, Any] = {
        "rights": rights_of(level),  # type: ignore[arg-type]
        "lock": Lock(bool(more.get("whole")), whole=bool(more.get("whole"))),
        "legal_hold": bool(more.get("held")),
        "leased": name == "berth-records",
        "encryption": Encryption("", key=more.get("scope", "")),
        "link_policies": policies if more.get("policies") else None,
        "redundancy": "several-regions",
        "tags": {"steward": "slip-crew", "class": "working"},
    }
    fields = {field: Answer("known", value) if value is not None else Answer("absent") for field, value in told.items()}
    return Bucket(name=name, **(BLOB.of_bucket() | fields))


def _blobs(container: str, count: int, moment: datetime, *, versions: bool = False, **_: Any) -> list[ObjectVersion]:
    """Blobs of the last weeks; where there are versions, every third was overwritten, and one was deleted."""
    found: list[ObjectVersion] = []
    kind, ending = ("text/html", "html") if container == "$web" else ("image/jpeg", "jpg")
    for number in range(count):
        key = "index.html" if container == "$web" and not number else f"{number:03d}.{ending}"
        written = moment - timedelta(days=20 + number)
        common: dict[str, Any] = {"key": key, "content_type": kind, "tier": "Hot", "checksum": "md5"}
        stamp = written.strftime("%Y-%m-%dT%H:%M:%S.0000000Z")
        version = stamp if versions else "null"
        found.append(
            ObjectVersion(version=version, size=9_000 + number, etag=f"0x{number:015X}", written=written, **common)
        )
        if versions and number % 3 == 0:
            before = written - timedelta(days=9)
            stamp = before.strftime("%Y-%m-%dT%H:%M:%S.0000000Z")
            old = ObjectVersion(
                version=stamp, current=False, size=8_000, etag=f"0x{number + 90:015X}", written=before, **common
            )
            found.append(old)
    return found
