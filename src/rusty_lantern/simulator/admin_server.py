"""The administration door of a simulated gateway: users and buckets as the gateway itself keeps them, in its own JSON.

It answers GET alone, of a user with the capability that a question needs, and keeps nothing. As a real one does, it
shows every user's secrets in clear.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from aiohttp import web

from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.simulator.contents import StoreContents

ROOT = "/admin/"
_FLAGS = {"read": 1, "write": 2, "read-acp": 4, "write-acp": 8, "full-control": 15}
_GROUPS = {"anyone": 1, "any-account": 2}
_CAPABILITIES = {"user": "users", "bucket": "buckets", "metadata": "metadata"}
"""First part of a path below the door → the capability to read there."""


class GatewayUser(msgspec.Struct, frozen=True):
    """A user as the door answers it, and the permissions attached to it: name → document."""

    answer: dict[str, Any]
    policies: dict[str, dict[str, Any]] = {}

    @property
    def id(self) -> str:
        """As the door names it: `TENANT$NAME` in a tenant."""
        tenant, name = self.answer.get("tenant", ""), self.answer["user_id"]
        return f"{tenant}${name}" if tenant else name

    def has(self, capability: str) -> bool:
        """Whether it may read what needs that capability."""
        return any(cap["type"] == capability and cap["perm"] in ("read", "*") for cap in self.answer.get("caps", ()))


class AdminDoor:
    """The door of a store with these users."""

    def __init__(self, users: list[GatewayUser]) -> None:
        self.users = {user.id: user for user in users}

    def answer(self, who: str, method: str, path: str, query: Mapping[str, str], held: StoreContents) -> web.Response:
        """One answer to the user `who`, about the buckets that the store holds."""
        rest = path.removeprefix(ROOT)
        needed = _CAPABILITIES.get(rest.partition("/")[0])
        user = self.users.get(who)
        if method != "GET" or needed is None or user is None or not user.has(needed):
            return web.json_response({"Code": "AccessDenied"}, status=403)
        ask = _QUESTIONS.get(rest)
        document = ask(self, query, held) if ask else None
        return (
            web.json_response(document)
            if document is not None
            else web.json_response({"Code": "NoSuchKey"}, status=404)
        )

    def _users(self, query: Mapping[str, str], _: StoreContents) -> Any:
        if "list" in query:
            return {"keys": sorted(self.users), "truncated": "false", "count": len(self.users)}
        user = self.users.get(query.get("uid", ""))
        return {"bucket_quota": NO_QUOTA, "user_quota": NO_QUOTA, **user.answer} if user else None

    def _buckets(self, query: Mapping[str, str], held: StoreContents) -> Any:
        if "policy" in query:
            bucket = held.bucket(query.get("bucket", "").replace("/", ":", 1))
            return {"acl": {"grant_map": [_entry(grant) for grant in bucket.acl.value or ()]}} if bucket else None
        buckets = held.dossier.buckets
        return [_stats(bucket) for bucket in buckets] if "stats" in query else [_written(one.name) for one in buckets]

    def _instance(self, query: Mapping[str, str], held: StoreContents) -> Any:
        bucket = next((one for one in held.dossier.buckets if _key(one) == query.get("key")), None)
        if bucket is None:
            return None
        policy, guards = bucket.policy.value, bucket.public_access_guards.value
        attributes = {"user.rgw.iam-policy": policy.encode()} if policy else {}
        if guards:
            attributes["user.rgw.public-access"] = bytes(msgspec.structs.astuple(guards))
        shown = _attributes(attributes)
        shown["data"]["bucket_info"] = {"flags": int(bucket.enabled.value is False)}
        return shown

    def _user_kept(self, query: Mapping[str, str], _: StoreContents) -> Any:
        user = self.users.get(query.get("key", ""))
        if user is None:
            return None
        return _attributes({"user.rgw.user-policy": _packed(user.policies)} if user.policies else {})


_QUESTIONS: dict[str, Callable[[AdminDoor, Mapping[str, str], StoreContents], Any]] = {
    "user": AdminDoor._users,
    "bucket": AdminDoor._buckets,
    "metadata/bucket.instance": AdminDoor._instance,
    "metadata/user": AdminDoor._user_kept,
}
"""Path below the door → what answers it; None: there is no such thing."""


def _written(name: str) -> str:
    return name.replace(":", "/", 1)


NO_QUOTA = {"enabled": False, "check_on_raw": False, "max_size": -1, "max_objects": -1}


def _key(bucket: Bucket) -> str:
    return f"{_written(bucket.name)}:{_id(bucket)}"


def _id(bucket: Bucket) -> str:
    return f"south.{bucket.name}.1"


def _stats(bucket: Bucket) -> dict[str, Any]:
    tenant, _, name = bucket.name.rpartition(":")
    usage, created = bucket.usage.value, bucket.created.value
    counted = {"rgw.main": {"size": usage.bytes, "num_objects": usage.objects}} if usage else {}
    return {
        "bucket": name,
        "tenant": tenant,
        "id": _id(bucket),
        "owner": bucket.owner.value,
        "creation_time": created and created.strftime("%Y-%m-%dT%H:%M:%S.000000Z"),
        "placement_rule": "default-placement",
        "usage": counted,
        "bucket_quota": NO_QUOTA,
    }


def _entry(grant: Grant) -> dict[str, Any]:
    group = _GROUPS.get(grant.to, 0)
    name = "" if group else grant.identity
    body = {
        "type": {"type": 2 if group else 0},
        "permission": {"flags": _FLAGS[grant.permission]},
        "id": name,
        "group": group,
        "url_spec": "",
    }
    return {"id": name, "grant": body}


def _attributes(attributes: dict[str, bytes]) -> dict[str, Any]:
    listed = [{"key": key, "val": base64.b64encode(value).decode()} for key, value in attributes.items()]
    return {"data": {"attrs": listed}}


def _packed(policies: dict[str, dict[str, Any]]) -> bytes:
    """A count, then names and texts, each after its length; a number has four bytes, the lowest one first."""
    parts = [len(policies).to_bytes(4, "little")]
    for name, document in policies.items():
        for text in (name.encode(), msgspec.json.encode(document)):
            parts += [len(text).to_bytes(4, "little"), text]
    return b"".join(parts)
