"""What a Keystone identity service answers, as far as it is wanted. Source: the Identity API v3.

Its answers hold the secrets of keys for the S3 protocol in clear. The types have no place for them: such an answer is
written again from its type before anything keeps it.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any, TypeVar

import msgspec

from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.reply import Reply

T = TypeVar("T")


class Options(msgspec.Struct):
    """A user's options that say which factors signing in takes."""

    multi_factor_auth_enabled: bool | None = None
    multi_factor_auth_rules: list[list[str]] | None = None
    ignore_password_expiry: bool | None = None


class User(msgspec.Struct):
    """A user of a domain."""

    id: str
    name: str
    domain_id: str = ""
    enabled: bool = True
    password_expires_at: str | None = None
    options: Options = msgspec.field(default_factory=Options)


class Named(msgspec.Struct):
    """Anything by its id, its name, and whether it is in use."""

    id: str
    name: str = ""
    enabled: bool = True
    domain_id: str | None = None


class Project(msgspec.Struct):
    """A project, as an assignment names it."""

    id: str
    name: str = ""


class Scope(msgspec.Struct):
    """What a role is held in: one of the three."""

    project: Project | None = None
    domain: Project | None = None
    system: dict[str, bool] | None = None

    @property
    def words(self) -> str:
        """`project NAME`, `domain NAME` or `the whole system`."""
        if self.project is not None:
            return f"project {self.project.name or self.project.id}"
        return f"domain {self.domain.name or self.domain.id}" if self.domain is not None else "the whole system"


class Links(msgspec.Struct):
    """Where an assignment comes from."""

    membership: str = ""


class Assignment(msgspec.Struct):
    """An effective role of a user: groups, inheritance and implied roles are worked out by the service."""

    role: Named
    scope: Scope
    user: Named | None = None
    links: Links = msgspec.field(default_factory=Links)


class AccessRule(msgspec.Struct):
    """A sort of request that an application credential is good for."""

    service: str
    path: str
    method: str


class ApplicationCredential(msgspec.Struct):
    """A credential that acts for its owner in one project."""

    id: str
    name: str
    project_id: str | None = None
    expires_at: str | None = None
    unrestricted: bool | None = None
    roles: list[Named] = []
    access_rules: list[AccessRule] | None = None


class S3Key(msgspec.Struct):
    """A key for the S3 protocol, by its id alone."""

    access: str
    tenant_id: str | None = None
    trust_id: str | None = None


class Trust(msgspec.Struct):
    """One user lets another act for it in one project."""

    id: str
    trustor_user_id: str
    trustee_user_id: str
    project_id: str | None = None
    impersonation: bool = False
    expires_at: str | None = None
    remaining_uses: int | None = None
    redelegation_count: int = 0
    """How often it may be handed on."""
    deleted_at: str | None = None
    roles: list[Named] = []


class Inference(msgspec.Struct):
    """A role that gives others to whoever holds it."""

    prior_role: Named
    implies: list[Named]


class Following(msgspec.Struct):
    """Where a list goes on."""

    next: str | None = None


class Page(msgspec.Struct):
    """The frame of every list."""

    links: Following = msgspec.field(default_factory=Following)
    truncated: bool = False


def read_list(reply: Reply, name: str, entry: type[T]) -> tuple[list[T], str]:
    """The entries of a list, and where it goes on. Raises `RequestFailed` for another status, for what is no such
    list, and for one that the service cut off."""
    fields = _fields(reply, name)
    page = _decoded(reply.body, Page)
    if page.truncated:
        raise RequestFailed("failed", "the service cut the list off", "truncated")
    return _converted(fields[name], list[entry]), page.links.next or ""  # type: ignore[valid-type]


def read_one(reply: Reply, name: str, entry: type[T]) -> T:
    """The one entry that an answer holds. Raises `RequestFailed`."""
    return _converted(_fields(reply, name)[name], entry)


def is_gone(reply: Reply) -> bool:
    """Whether the service itself says that there is no such entry; anything in front of it may answer 404 as well."""
    if reply.status != 404:
        return False
    with suppress(msgspec.DecodeError, UnicodeDecodeError):
        return msgspec.json.decode(reply.body, type=_Refusal).error.code == 404
    return False


class _Error(msgspec.Struct):
    code: int


class _Refusal(msgspec.Struct):
    error: _Error


def without_secrets(body: bytes) -> bytes:
    """A list of keys for the S3 protocol, written again without their secrets. Raises `RequestFailed`."""
    document = _decoded(body, dict[str, msgspec.Raw])
    if "credentials" not in document:
        raise RequestFailed("failed", "the answer has no credentials", "unreadable answer")
    keys = _decoded(bytes(document["credentials"]), list[S3Key])
    page = _decoded(body, Page)
    return msgspec.json.encode({"credentials": keys, "links": page.links, "truncated": page.truncated})


def _fields(reply: Reply, name: str) -> dict[str, Any]:
    read_status(reply)
    fields = _decoded(reply.body, dict[str, Any])
    if name not in fields:
        raise RequestFailed("failed", f"the answer has no {name.replace('_', ' ')}", "unreadable answer")
    return fields


def _decoded(body: bytes, wanted: type[T]) -> T:
    try:
        return msgspec.json.decode(body, type=wanted)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RequestFailed("failed", f"the answer cannot be read: {str(error)[:120]}", "unreadable answer") from None


def _converted(value: object, wanted: type[T]) -> T:
    try:
        return msgspec.convert(value, wanted)
    except msgspec.ValidationError as error:
        raise RequestFailed("failed", f"the answer cannot be read: {str(error)[:120]}", "unreadable answer") from None
