"""A simulated store of the blob protocol on loopback: containers with public access levels, and what servers for
laptops leave out: versions, retention, legal holds, deleted blobs that can be brought back.

It takes the account's key and signed links, and answers requests without either by its containers' real rules, decided
by the plain decider. It keeps nothing.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from email.utils import format_datetime
from urllib.parse import unquote

from aiohttp import web
from lxml import etree

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.model.bucket import Bucket, LinkPolicy
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.intake.signed_link import PERMISSIONS
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.stores.blob.shared_key import SharedKey

PAGE = 5_000
LETTERS: Mapping[Verb, str] = {verb: letter for letter, verbs in reversed(list(PERMISSIONS.items())) for verb in verbs}


@dataclass
class BlobServer:
    """One account, with the key that opens all of it."""

    holdings: StoreContents
    moment: datetime
    account: str
    key: bytes = field(repr=False)
    site: str = ""
    """The index document of its static site; empty: none is served."""
    soft_delete_days: int = 0
    logs: tuple[str, ...] = ()
    """What its own logging records: `Read`, `Write`, `Delete`."""
    link: str = ""
    """The signature of the only signed link that it takes for reading; empty: it takes none."""
    requests: list[tuple[str, str]] = field(default_factory=list)

    def application(self) -> web.Application:
        """The store as an aiohttp application."""
        app = web.Application(client_max_size=1 << 20)
        app.router.add_route("*", r"/{tail:[\s\S]*}", self.serve)
        return app

    async def serve(self, request: web.Request) -> web.Response:
        """Answer one request."""
        self.requests.append((request.method, request.raw_path.partition("sig=")[0]))
        path = request.raw_path.partition("?")[0]
        if path != f"/{self.account}" and not path.startswith(f"/{self.account}/"):
            return _refused(400, "InvalidUri")
        if request.method not in ("GET", "HEAD"):
            return _refused(405, "UnsupportedHttpVerb")
        container, _, blob = path.removeprefix(f"/{self.account}").lstrip("/").partition("/")
        bucket = self.holdings.bucket(unquote(container)) if container else None
        refusal = self._refusal(request, bucket, unquote(blob))
        if refusal is not None:
            return refusal
        if not container:
            return self._of_account(request)
        if bucket is None:
            return _refused(404, "ContainerNotFound")
        return self._blob(request, bucket, unquote(blob)) if blob else self._of_container(request, bucket)

    def _refusal(self, request: web.Request, bucket: Bucket | None, blob: str) -> web.Response | None:
        """Why a request is not answered; None where it is."""
        shown = request.headers.get("authorization", "")
        if shown:
            return None if self._is_signed(request, shown) else _refused(403, "AuthenticationFailed")
        if "sig" in request.query:
            takes = self.link and hmac.compare_digest(request.query["sig"], self.link)
            if takes and request.query.get("comp") == "acl":
                return _refused(403, "AuthorizationPermissionMismatch")
            return None if takes else _refused(403, "AuthenticationFailed")
        action = (
            "s3:GetObject" if blob else {"list": "s3:ListBucket"}.get(request.query.get("comp", ""), "s3:GetBucketAcl")
        )
        if bucket is None or (blob and "comp" in request.query):
            return _refused(404, "ResourceNotFound")
        guards = self.holdings.dossier.public_access_guards.value
        if guards is not None and guards.ignore_acls:
            return _refused(409, "PublicAccessNotPermitted")
        context = always_carried(anonymous=True) | {"aws:sourceip": ("127.0.0.1",)}
        bare = Bucket(
            name=bucket.name, rights=bucket.rights.map(lambda all_: [one for one in all_ if one.door != "web"])
        )
        allowed = decide(
            rules_of(_only_rights(bucket, bare), self.holdings.dossier), Request(action, blob, ANONYMOUS, context)
        )
        return None if allowed.allowed is True else _refused(404, "ResourceNotFound")

    def _is_signed(self, request: web.Request, shown: str) -> bool:
        path, _, query = request.raw_path.partition("?")
        sent = {name.lower(): value for name, value in request.headers.items()}
        text = SharedKey(self.account, self.key).to_sign(request.method, path, query, sent)  # type: ignore[arg-type]
        signed = base64.b64encode(hmac.new(self.key, text.encode(), hashlib.sha256).digest()).decode()
        return hmac.compare_digest(shown, f"SharedKey {self.account}:{signed}")

    def _of_account(self, request: web.Request) -> web.Response:
        if request.query.get("restype") == "account":
            spread = {"one-zone": "LRS", "several-zones": "ZRS", "several-regions": "GRS"}
            first = next((b.redundancy.value for b in self.holdings.dossier.buckets if b.redundancy.value), "one-zone")
            return web.Response(headers={"x-ms-sku-name": f"Standard_{spread[first]}"})
        if request.query.get("comp") == "properties":
            return _xml(self._properties())
        after = request.query.get("marker", "")
        names = sorted(bucket.name for bucket in self.holdings.dossier.buckets if bucket.name > after)
        page, more = names[:PAGE], names[PAGE:]
        listed = [_container(bucket) for name in page if (bucket := self.holdings.bucket(name)) is not None]
        return _xml(_e("EnumerationResults", _e("Containers", *listed), _e("NextMarker", page[-1] if more else "")))

    def _properties(self) -> etree._Element:
        logs = [_e(what, str(what in self.logs).lower()) for what in ("Delete", "Read", "Write")]
        days = [_e("Days", str(self.soft_delete_days))] if self.soft_delete_days else []
        site = [_e("IndexDocument", self.site)] if self.site else []
        return _e(
            "StorageServiceProperties",
            _e("Logging", _e("Version", "1.0"), *logs),
            _e("Cors"),
            _e("DeleteRetentionPolicy", _e("Enabled", str(bool(days)).lower()), *days),
            _e("StaticWebsite", _e("Enabled", str(bool(site)).lower()), *site),
        )

    def _of_container(self, request: web.Request, bucket: Bucket) -> web.Response:
        level = _level(bucket)
        headers = {"x-ms-blob-public-access": level} if level else {}
        if request.query.get("comp") == "acl":
            policies = [_policy(one) for one in bucket.link_policies.value or ()]
            return _xml(_e("SignedIdentifiers", *policies), headers)
        if request.query.get("comp") != "list":
            return web.Response(headers=headers)
        wanted = request.query.get("include", "").split(",")
        after = request.query.get("marker", "")
        rows = [v for v in self.holdings.versions.get(bucket.name, []) if _is_listed(v, wanted)]
        start = int(after) if after.isdigit() else 0
        most = min(int(request.query.get("maxresults", str(PAGE))), PAGE)
        page = rows[start : start + most]
        following = str(start + most) if start + most < len(rows) else ""
        return _xml(_e("EnumerationResults", _e("Blobs", *map(_blob, page)), _e("NextMarker", following)))

    def _blob(self, request: web.Request, bucket: Bucket, key: str) -> web.Response:
        wanted = request.query.get("versionid") or (
            f"snapshot {request.query['snapshot']}" if "snapshot" in request.query else ""
        )
        blob = next(
            (
                version
                for version in self.holdings.versions.get(bucket.name, [])
                if version.key == key and (version.version == wanted if wanted else version.current)
            ),
            None,
        )
        if blob is None or _is_deleted(blob):
            return _refused(404, "BlobNotFound")
        if request.query.get("comp") == "tags":
            tags = [_e("Tag", _e("Key", name), _e("Value", value)) for name, value in (blob.tags or {}).items()]
            return _xml(_e("Tags", _e("TagSet", *tags)))
        headers = _described(blob)
        if request.method == "HEAD":
            return web.Response(headers={**headers, "content-length": str(blob.size)})
        return web.Response(body=b" " * min(blob.size, 1024), headers=headers)


def _only_rights(bucket: Bucket, bare: Bucket) -> Bucket:
    """A bucket as far as its public access level goes."""
    from rusty_lantern.core.model.capabilities import BLOB

    return Bucket(name=bucket.name, **(BLOB.of_bucket() | {"rights": bare.rights}))


def _level(bucket: Bucket) -> str:
    verbs = {verb for right in bucket.rights.value or () if right.door != "web" for verb in right.verbs}
    return "container" if "list" in verbs else "blob" if "read" in verbs else ""


def _is_deleted(version: ObjectVersion) -> bool:
    return version.version == "deleted"


def _is_listed(version: ObjectVersion, wanted: list[str]) -> bool:
    if _is_deleted(version):
        return "deleted" in wanted
    return version.current or ("snapshots" if version.version.startswith("snapshot ") else "versions") in wanted


def _container(bucket: Bucket) -> etree._Element:
    level, lock, encryption = _level(bucket), bucket.lock.value, bucket.encryption.value
    properties = {
        "PublicAccess": level,
        "LeaseState": "leased" if bucket.leased.value else "available",
        "LeaseDuration": "infinite" if bucket.leased.value else "",
        "HasImmutabilityPolicy": str(lock is not None and lock.enabled and lock.whole).lower(),
        "HasLegalHold": str(bool(bucket.legal_hold.value)).lower(),
        "ImmutableStorageWithVersioningEnabled": str(lock is not None and lock.enabled and not lock.whole).lower(),
        "DefaultEncryptionScope": (encryption.key if encryption else "") or "$account-encryption-key",
        "DenyEncryptionScopeOverride": str(encryption is not None and encryption.enforced).lower(),
    }
    metadata = [_e(name, value) for name, value in (bucket.tags.value or {}).items()]
    return _e(
        "Container",
        _e("Name", bucket.name),
        _e("Properties", *(_e(name, value) for name, value in properties.items() if value)),
        _e("Metadata", *metadata),
    )


def _policy(policy: LinkPolicy) -> etree._Element:
    parts_by_name = {
        "Start": policy.starts.isoformat().replace("+00:00", "Z") if policy.starts else "",
        "Expiry": policy.expires.isoformat().replace("+00:00", "Z") if policy.expires else "",
        "Permission": "".join(LETTERS[verb] for verb in policy.verbs),
    }
    parts = [_e(name, value) for name, value in parts_by_name.items() if value]
    return _e("SignedIdentifier", _e("Id", policy.name), _e("AccessPolicy", *parts))


def _blob(version: ObjectVersion) -> etree._Element:
    return _e("Blob", *_entry(version))


def _entry(version: ObjectVersion) -> Iterator[etree._Element]:
    yield _e("Name", version.key)
    if version.version.startswith("snapshot "):
        yield _e("Snapshot", version.version.removeprefix("snapshot "))
    elif _is_deleted(version):
        yield _e("Deleted", "true")
    elif version.version != "null":
        yield _e("VersionId", version.version)
        if version.current:
            yield _e("IsCurrentVersion", "true")
    properties = {
        "Last-Modified": format_datetime(version.written, usegmt=True) if version.written else "",
        "Etag": version.etag,
        "Content-Length": str(version.size),
        "Content-Type": version.content_type or "application/octet-stream",
        "BlobType": "BlockBlob",
        "AccessTier": version.tier,
    }
    yield _e("Properties", *(_e(name, value) for name, value in properties.items() if value))


def _described(version: ObjectVersion) -> dict[str, str]:
    mode = {"governance": "unlocked", "compliance": "locked"}.get(version.mode or "", "")
    headers = {
        "etag": version.etag,
        "content-type": version.content_type or "application/octet-stream",
        "content-md5": "x" if version.checksum else "",
        "last-modified": format_datetime(version.written, usegmt=True) if version.written else "",
        "x-ms-access-tier": version.tier,
        "x-ms-server-encrypted": "true",
        "x-ms-immutability-policy-mode": mode,
        "x-ms-immutability-policy-until-date": format_datetime(version.until, usegmt=True) if version.until else "",
        "x-ms-legal-hold": "true" if version.hold else "",
        "x-ms-tag-count": str(len(version.tags)) if version.tags else "",
    }
    headers |= {f"x-ms-meta-{name}": value for name, value in (version.metadata or {}).items()}
    return {name: value for name, value in headers.items() if value}


def _e(name: str, *parts: str | etree._Element) -> etree._Element:
    """An element with its text, or with what is in it."""
    made = etree.Element(name)
    for part in parts:
        if isinstance(part, str):
            made.text = part
        else:
            made.append(part)
    return made


def _xml(root: etree._Element, headers: Mapping[str, str] | None = None) -> web.Response:
    body = etree.tostring(root, xml_declaration=True, encoding="utf-8")
    return web.Response(body=body, content_type="application/xml", headers=dict(headers or {}))


def _refused(status: int, code: str) -> web.Response:
    body = etree.tostring(
        _e("Error", _e("Code", code), _e("Message", "refused")), xml_declaration=True, encoding="utf-8"
    )
    return web.Response(status=status, body=body, content_type="application/xml", headers={"x-ms-error-code": code})
