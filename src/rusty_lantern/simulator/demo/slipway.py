"""The demo's store `slipway`: an account of the blob protocol, whose management side is in an export beside it."""

from __future__ import annotations

import base64
from datetime import UTC, datetime, timedelta
from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, Encryption, LinkPolicy, Lock
from rusty_lantern.core.model.capabilities import BLOB
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.network import Network
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.blob_server import BlobServer
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.demo.containers import container
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
    ("crew-handover", "", {"scope": "crew-scope"}),  # nothing here says who keeps the key of that scope
    ("yard-photos", "", {"policies": True, "versions": True}),
)
"""Name, public access level, what else is special."""


def slipway(moment: datetime) -> StoreContents:
    """The store as its server would show it."""
    versions = {name: _blobs(name, 4 + 3 * n, moment, **more) for n, (name, _, more) in enumerate(_CONTAINERS)}
    guards: Answer[Guards] = Answer("known", Guards(ignore_acls=True))
    buckets = [_container(name, level, **more) for name, level, more in _CONTAINERS]
    anywhere: Answer[Network] = Answer("known", Network("allow"))
    dossier = Dossier(store="slipway", taken=moment, public_access_guards=guards, network=anywhere, buckets=buckets)
    return StoreContents(dossier, {}, versions)


def server(moment: datetime) -> BlobServer:
    """The account's stand-in server."""
    return BlobServer(slipway(moment), moment, ACCOUNT, KEY, site="index.html", soft_delete_days=14)


def _container(name: str, level: str, **more: Any) -> Bucket:
    policies = [LinkPolicy("yard", ["read", "list"], None, _ENDS), LinkPolicy("forever", ["read", "write"])]
    values: dict[str, Any] = {
        "rights": rights_of(level),  # type: ignore[arg-type]
        "lock": Lock(bool(more.get("whole")), whole=bool(more.get("whole"))),
        "legal_hold": bool(more.get("held")),
        "leased": name == "berth-records",
        "encryption": Encryption("", key=more.get("scope", "")),
        "link_policies": policies if more.get("policies") else None,
        "redundancy": "several-regions",
        "tags": {"steward": "slip-crew", "class": "working"},
    }
    return container(name, BLOB, values)


def _blobs(container: str, count: int, moment: datetime, *, versions: bool = False, **_: Any) -> list[ObjectVersion]:
    """Blobs of the last weeks; where there are versions, every third was overwritten, and one was deleted."""
    made: list[ObjectVersion] = []
    kind, ending = ("text/html", "html") if container == "$web" else ("image/jpeg", "jpg")
    for number in range(count):
        key = "index.html" if container == "$web" and not number else f"{number:03d}.{ending}"
        written = moment - timedelta(days=20 + number)
        common: dict[str, Any] = {"key": key, "content_type": kind, "tier": "Hot", "checksum": "md5"}
        stamp = written.strftime("%Y-%m-%dT%H:%M:%S.0000000Z")
        version = stamp if versions else "null"
        made.append(
            ObjectVersion(version=version, size=9_000 + number, etag=f"0x{number:015X}", written=written, **common)
        )
        if versions and number % 3 == 0:
            before = written - timedelta(days=9)
            stamp = before.strftime("%Y-%m-%dT%H:%M:%S.0000000Z")
            old = ObjectVersion(
                version=stamp, current=False, size=8_000, etag=f"0x{number + 90:015X}", written=before, **common
            )
            made.append(old)
    return made


def mail(address: str) -> str:
    """A mail with links into the store: by a policy that is there, by one that is gone, for itself, for the account."""
    at, sig = f"{address}/{ACCOUNT}", "sig=demo-only-no-signature%3D"
    return f"""\
From the yard, about the photographs of the crane:
{at}/yard-photos?sv=2021-12-02&sr=c&si=yard&{sig}
{at}/yard-photos?sv=2021-12-02&sr=c&si=forever&{sig}
{at}/yard-photos?sv=2021-12-02&sr=c&si=spring-2024&{sig}
{at}/claims/000.jpg?sv=2021-12-02&sr=b&sp=r&st=2026-10-01T00:00:00Z&se=2026-12-31T00:00:00Z&sip=198.51.100.7&spr=https&{sig}
The backup job uses this one for everything:
{at}/?sv=2021-12-02&ss=bf&srt=sco&sp=rwdl&se=2029-12-31T00:00:00Z&{sig}
"""
