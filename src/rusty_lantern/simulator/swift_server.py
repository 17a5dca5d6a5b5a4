"""A simulated door of the open Swift protocol on loopback: a store of its own, or the second door of another.

It gives a token for a user and a key, answers owners in full and lesser readers without ACLs, and requests without a
token by its containers' real ACLs, decided by the plain decider. It keeps nothing.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from email.utils import format_datetime
from urllib.parse import quote, unquote

import msgspec
from aiohttp import web

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.evaluator.request_builder import host_of
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST, always_carried
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.keystone_server import KeystoneServer

MOST = 10_000
PLANTED_KEY = "demo-only-temp-url-key"
"""The key that the store shows its owners in clear; nothing that lantern writes may hold it."""


@dataclass(frozen=True)
class SwiftUser:
    """A user's key, and whether it is shown what only owners are."""

    key: str = field(repr=False)
    owner: bool = True


@dataclass
class SwiftDoor:
    """One door. `account` is the path of its account: `/v1/AUTH_trust`, or `/swift/v1` beside another."""

    holdings: StoreContents
    moment: datetime
    users: Mapping[str, SwiftUser]
    account: str
    keystone: KeystoneServer | None = None
    """The identity service that has its users, instead of `users`."""
    requests: list[tuple[str, str]] = field(default_factory=list)

    def application(self) -> web.Application:
        """The door as an aiohttp application of its own."""
        app = web.Application(client_max_size=1 << 20)
        app.router.add_route("*", r"/{tail:[\s\S]*}", self.serve)
        return app

    @property
    def info_path(self) -> str:
        """Where it shows everybody what it can."""
        return self.account.partition("/v1")[0] + "/info"

    def has(self, path: str) -> bool:
        """Whether a path is this door's."""
        return path in ("/auth/v1.0", self.info_path) or path == self.account or path.startswith(f"{self.account}/")

    async def serve(self, request: web.Request) -> web.Response:
        """Answer one request."""
        self.requests.append((request.method, request.raw_path))
        path = request.raw_path.partition("?")[0]
        if path == "/auth/v1.0":
            return self._token(request.headers)
        if path == self.info_path:
            own: dict[str, object] = {} if self.keystone else {"tempauth": {"account_acls": True}}
            return web.json_response({"swift": {"version": "0.0"}, "versioned_writes": {}} | own)
        if not self.has(path):
            return web.Response(status=404)
        container, _, key = path.removeprefix(self.account).lstrip("/").partition("/")
        user = self._user(request.headers.get("x-auth-token", ""))
        if "x-auth-token" in request.headers and user is None:
            elsewhere = self.keystone is not None and self.keystone.sees(request.headers["x-auth-token"]) == "people"
            return web.Response(status=403 if elsewhere else 401)
        return self._answer(request, unquote(container), unquote(key), user)

    def _token(self, headers: Mapping[str, str]) -> web.Response:
        name = headers.get("x-auth-user", "")
        user = self.users.get(name)
        if user is None or user.key != headers.get("x-auth-key"):
            return web.Response(status=401)
        return web.Response(status=200, headers={"x-auth-token": _token_of(name, user), "x-storage-url": self.account})

    def _user(self, token: str) -> SwiftUser | None:
        if self.keystone is not None:
            return SwiftUser("") if self.keystone.sees(token) == "account" else None
        return next((user for name, user in self.users.items() if token == _token_of(name, user)), None)

    def _answer(self, request: web.Request, container: str, key: str, user: SwiftUser | None) -> web.Response:
        bucket = self.holdings.bucket(container)
        refused = self._refusal(request, bucket, key, user)
        if refused:
            return web.Response(status=refused)
        if bucket is None:
            return web.Response(status=404) if container or user is None else self._of_account(request, user)
        if key:
            return self._object(request, container, key)
        if request.method == "HEAD":
            return web.Response(status=204, headers=self._settings(bucket, owner=user is not None and user.owner))
        return self._listing(request, bucket)

    def _refusal(self, request: web.Request, bucket: Bucket | None, key: str, user: SwiftUser | None) -> int:
        """The status of a refusal; 0 where the request may be answered."""
        if user is not None:
            return 0 if request.method in ("GET", "HEAD") else 403
        return 0 if bucket is not None and self._lets_in(bucket, request, key) else 401

    def _of_account(self, request: web.Request, user: SwiftUser) -> web.Response:
        dossier = self.holdings.dossier
        headers = {"x-account-container-count": str(len(dossier.buckets))}
        if user.owner and dossier.temporary_url_key.value:
            headers["x-account-meta-temp-url-key"] = PLANTED_KEY
        acl = dossier.account_acl.value
        if user.owner and acl is not None:
            levels = {"admin": acl.admin, "read-write": acl.read_write, "read-only": acl.read_only}
            shown = {level: names for level, names in levels.items() if names}
            headers["x-account-access-control"] = msgspec.json.encode(shown).decode()
        if request.method == "HEAD":
            return web.Response(status=204, headers=headers)
        names = sorted(bucket.name for bucket in dossier.buckets if bucket.name > request.query.get("marker", ""))
        return web.json_response([{"name": name} for name in names[: _most(request)]], headers=headers)

    def _settings(self, bucket: Bucket, *, owner: bool) -> dict[str, str]:
        acl, usage, versioning = bucket.container_acl.value, bucket.usage.value, bucket.versioning.value
        headers = {
            "x-container-object-count": str(usage.objects if usage else 0),
            "x-container-bytes-used": str(usage.bytes if usage else 0),
            "x-timestamp": f"{bucket.created.value.timestamp():.5f}" if bucket.created.value else "",
            "x-storage-policy": bucket.tier.value or "",
        }
        kept_in = self._versions_kept_in(bucket)
        if kept_in:
            headers["x-versions-location"] = quote(kept_in)
        elif versioning is not None and versioning.state != "never":
            headers["x-versions-enabled"] = str(versioning.state == "on")
        if acl is not None and owner:
            headers |= {"x-container-read": acl.read, "x-container-write": acl.write}
        if owner and bucket.temporary_url_key.value:
            headers["x-container-meta-temp-url-key"] = PLANTED_KEY
        if owner and bucket.synchronization_key.value:
            headers["x-container-sync-key"] = PLANTED_KEY
        headers |= {f"x-container-meta-{name}": value for name, value in (bucket.tags.value or {}).items()}
        return {name: value for name, value in headers.items() if value and value.isprintable()}

    def _versions_kept_in(self, bucket: Bucket) -> str:
        """The other container in which a container's earlier versions are kept; empty where none is."""
        acls = {one.name: one.container_acl.value for one in self.holdings.dossier.buckets}
        held = (name for name, acl in acls.items() if acl and bucket.name in {one.name for one in acl.versions_of})
        return next(held, "")

    def _listing(self, request: web.Request, bucket: Bucket) -> web.Response:
        every = self.holdings.versions.get(bucket.name, [])
        shown = every if "versions" in request.query else [v for v in every if v.current and not v.marker]
        after = request.query.get("marker", "")
        rows = [_listed(version, several="versions" in request.query) for version in shown if version.key > after]
        return web.json_response(rows[: _most(request)], headers=self._settings(bucket, owner=False))

    def _object(self, request: web.Request, container: str, key: str) -> web.Response:
        wanted = request.query.get("version-id")
        held = next(
            (
                version
                for version in self.holdings.versions.get(container, [])
                if version.key == key and (version.version == wanted if wanted else version.current)
            ),
            None,
        )
        if held is None or held.marker:
            return web.Response(status=404)
        headers = _described(held)
        if request.method == "HEAD":
            return web.Response(headers={**headers, "content-length": str(held.size)})
        return web.Response(body=b" " * min(held.size, 1024), headers=headers)

    def _lets_in(self, bucket: Bucket, request: web.Request, key: str) -> bool:
        """Whether the container's ACLs let in a request without a token."""
        actions = {"GET": "s3:GetObject", "HEAD": "s3:GetObject", "PUT": "s3:PutObject", "DELETE": "s3:DeleteObject"}
        action = actions.get(request.method, "") if key else "s3:ListBucket"
        if not action or (not key and request.method not in ("GET", "HEAD")):
            return False
        context = always_carried(anonymous=True) | {
            REFERER_HOST: (host_of(request.headers.get("referer", "")),),
            "aws:sourceip": (request.headers.get("x-standin-from", "127.0.0.1"),),
        }
        return decide(rules_of(bucket, self.holdings.dossier), Request(action, key, ANONYMOUS, context)).allowed is True


def _token_of(name: str, user: SwiftUser) -> str:
    return "AUTH_tk" + hashlib.sha256(f"{name} {user.key}".encode()).hexdigest()[:32]


def _most(request: web.Request) -> int:
    written = request.query.get("limit", str(MOST))
    return min(int(written), MOST) if written.isdigit() else MOST


def _listed(version: ObjectVersion, *, several: bool) -> dict[str, object]:
    assert version.written is not None
    row: dict[str, object] = {
        "name": version.key, "bytes": version.size, "hash": version.etag,
        "content_type": version.content_type or "application/octet-stream",
        "last_modified": version.written.strftime("%Y-%m-%dT%H:%M:%S.%f"),
    }  # fmt: skip
    return row | ({"is_latest": version.current, "version_id": version.version} if several else {})


def _described(version: ObjectVersion) -> dict[str, str]:
    assert version.written is not None
    headers = {
        "etag": version.etag,
        "content-type": version.content_type or "application/octet-stream",
        "last-modified": format_datetime(version.written, usegmt=True),
        "cache-control": version.cache_control or "",
        "x-delete-at": str(int(version.expires.timestamp())) if version.expires else "",
        "x-symlink-target": version.points_to if "/" in version.points_to else "",
        "x-static-large-object": "True" if version.points_to == "segments" else "",
    }
    headers |= {f"x-object-meta-{name}": value for name, value in (version.metadata or {}).items()}
    return {name: value for name, value in headers.items() if value}
