"""What a store is asked with, and where: credentials, addresses and identity services in estate.yaml."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal
from urllib.parse import urlsplit

from rusty_lantern.core.config.estate import Credential, RoleMeanings, Service
from rusty_lantern.core.errors import Place, ProblemList
from rusty_lantern.core.yaml_source import FieldReader, Node

_CREDENTIAL = ("profile", "environment", "file", "token", "keystone", "application-credential", "user", "scope")
_OF_BLOBS = ("token", "signed-link", "account-key")
"""What a store of the blob protocol is shown: each is named as env:VARIABLE or file:PATH."""
_ROLES = ("operator", "reseller-admin", "project-reader", "system-reader")


def check_address(complaints: ProblemList, at: str, node: Node, store: str, *, plain_http: bool) -> None:
    """Complain of an address that is none, holds a secret, or is read along on the way."""
    try:
        parts = urlsplit(at)
        port = parts.port
    except ValueError:
        parts, port = urlsplit(""), None
    if parts.scheme not in ("http", "https") or not parts.hostname or port == 0:
        complaints.add(f"store {store} needs an address", node.place, "at: https://objects.example")
    elif parts.username or parts.password:
        complaints.add("an address must not carry a user name or a password", node.place, "name a credential instead")
    elif parts.query or parts.fragment:
        complaints.add("an address ends before any ? or #", node.place)
    elif parts.scheme == "http" and not plain_http:
        complaints.add(
            "plain http lets everyone on the way read along",
            node.place,
            "use https, or say `plain-http: allowed`",
        )


def read_service(reader: FieldReader, node: Node | None, store: str, *, plain_http: bool) -> Service | None:
    """The identity service that an entry names; None without one."""
    if node is None:
        return None
    fields = reader.fields(node, ("at", "signing-place", "keystone", "minio", "credential", "roles"), "identities")
    kind: Literal["iam", "keystone", "minio"] = "keystone" if "keystone" in fields else "iam"
    kind = "minio" if "minio" in fields else kind
    where = fields.get("keystone") or fields.get("minio") or fields.get("at")
    at = reader.text(where, "at")
    check_address(reader.complaints, at, where or node, f"{store}'s identity service", plain_http=plain_http)
    for name in _NOT_WITH[kind]:
        if name in fields:
            reader.complaints.add(f"{name} is not said of an identity service of this kind", fields[name].place)
    credential = fields.get("credential")
    shown = None
    if credential is not None:
        whose = f"{store}'s identity service"
        shown = read_credential(reader, credential, node.place, needed=True, whose=whose, plain_http=plain_http)
    place = reader.text(fields.get("signing-place"), "signing-place", "us-east-1")
    return Service(at.rstrip("/"), place, kind, shown, _roles(reader, fields.get("roles")))


_NOT_WITH = {
    "iam": ("credential", "roles"), "keystone": ("signing-place", "minio", "at"), "minio": ("roles", "keystone", "at"),
}  # fmt: skip
"""Kind of an identity service → what its entry cannot say."""


def _roles(reader: FieldReader, node: Node | None) -> RoleMeanings | None:
    """Role names as the store's proxy has them; case does not count there."""
    if node is None:
        return None
    fields = reader.fields(node, _ROLES, "roles")
    said = {
        kind.replace("-", "_"): frozenset((item.text or "").lower() for item in reader.texts(fields[kind], kind))
        for kind in fields
    }
    return RoleMeanings(**said)


def read_credential(
    reader: FieldReader,
    node: Node | None,
    place: Place,
    *,
    needed: bool,
    whose: str = "a store",
    sort: str = "access-key",
    plain_http: bool = False,
) -> Credential:
    """Where a credential is found. `sort`: what the store is shown (`Capabilities.credential`)."""
    if sort == "blob":
        return _of_blobs(reader, node, place, whose)
    if node is not None:
        return _by_name(reader, node, whose, plain_http=plain_http)
    if needed:
        how = "{environment: PREFIX}" if sort == "swift" else "{profile: NAME}"
        reader.complaints.add(f"{whose} needs a credential", place, f"credential: {how}")
    return Credential("chain" if needed else "none")


def _by_name(reader: FieldReader, node: Node, whose: str, *, plain_http: bool) -> Credential:
    if node.text is not None:
        if node.text == "chain":
            return Credential("chain", place=node.place)
        reader.complaints.add(
            f'a credential cannot be "{node.text[:20]}"', node.place,
            "one of {profile: NAME}, {environment: PREFIX}, {file: PATH}, or chain",
        )  # fmt: skip
        return Credential("chain")
    fields = reader.fields(node, _CREDENTIAL, "credential")
    if "keystone" in fields:
        return _by_keystone(reader, node, fields, whose, plain_http=plain_http)
    for kind in ("token", "file", "environment", "profile"):
        if kind in fields:
            name = reader.text(fields[kind], kind) if kind != "token" else _secret_named(reader, fields[kind], kind)
            profile = reader.text(fields.get("profile"), "profile") if kind == "file" else ""
            return Credential(kind, name, profile, node.place)
    return Credential("chain", place=node.place)


def _of_blobs(reader: FieldReader, node: Node | None, place: Place, whose: str) -> Credential:
    """`{signed-link: env:NAME}`, `{token: env:NAME}` or `{account-key: env:NAME}`."""
    how = "credential: {signed-link: env:NAME}, {token: env:NAME} or {account-key: env:NAME}"
    if node is None or node.fields is None:
        reader.complaints.add(f"{whose} needs a credential", node.place if node else place, how)
        return Credential("none")
    fields = reader.fields(node, _OF_BLOBS, "credential")
    if len(fields) != 1:
        reader.complaints.add(f"{whose} is shown one credential", node.place, how)
        return Credential("none")
    kind, named = next(iter(fields.items()))
    return Credential(kind, _secret_named(reader, named, kind), "", node.place)


def read_signing(reader: FieldReader, node: Node) -> Credential:
    """`sign: {key: file:PATH}` or `{key: env:VARIABLE}`."""
    fields = reader.fields(node, ("key",), "sign")
    if "key" not in fields and node.fields is not None:
        reader.complaints.add("what signs is a key", node.place, "sign: {key: file:PATH}, or env:VARIABLE")
    return Credential(
        "signing-key", _secret_named(reader, fields["key"], "key") if "key" in fields else "", "", node.place
    )


def _secret_named(reader: FieldReader, node: Node, kind: str) -> str:
    text = reader.text(node, kind)
    if not re.fullmatch(r"(env|file):.+", text):
        where = "env:VARIABLE" if kind in (*_OF_BLOBS, "key") else "env:PREFIX"
        what = f"{'an' if kind[0] in 'aeio' else 'a'} {kind} is named here, never written"
        reader.complaints.add(what, node.place, f"{kind}: {where}, or {kind}: file:PATH")
    return text


def _by_keystone(
    reader: FieldReader, node: Node, fields: Mapping[str, Node], whose: str, *, plain_http: bool
) -> Credential:
    """`{keystone: URL, application-credential: env:PREFIX}`, or `{keystone: URL, user: env:PREFIX, scope: system}`."""
    at = reader.text(fields["keystone"], "keystone").rstrip("/")
    check_address(reader.complaints, at, fields["keystone"], f"{whose}'s keystone", plain_http=plain_http)
    sort: Literal["application-credential", "user"] = "user" if "user" in fields else "application-credential"
    shown = fields.get(sort)
    if shown is None:
        how = "credential: {keystone: URL, application-credential: env:PREFIX}, or user: env:PREFIX"
        reader.complaints.add("an identity service is shown an application credential or a user", node.place, how)
    scope = reader.text(fields.get("scope"), "scope")
    if scope and (sort != "user" or not re.fullmatch(r"system|(project|domain):.+", scope)):
        only = "a user alone has a scope" if sort != "user" else f'a scope cannot be "{scope[:20]}"'
        reader.complaints.add(only, fields["scope"].place, "one of system, project:NAME, domain:NAME")
    name = _secret_named(reader, shown, sort) if shown is not None else ""
    profile = reader.text(fields.get("profile"), "profile")
    return Credential("keystone", name, profile, node.place, at, sort, scope)
