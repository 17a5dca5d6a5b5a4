"""What a gateway's administration door answers, as far as it is wanted.

These answers hold every secret of every user. The types have no place for them: an answer is decoded into one and
written again from it before anything keeps it, so no secret is ever in a text that is journalled, logged or saved.
"""

from __future__ import annotations

import base64
from datetime import datetime
from io import BytesIO
from typing import Any

import msgspec

from rusty_lantern.core.model.acl import Grant, Permission, named_grant
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import AttachedPolicy


class Keys(msgspec.Struct):
    """A page of names."""

    keys: list[str]
    truncated: bool | str = False
    marker: str = ""


class AccessKeyId(msgspec.Struct):
    """An access key, by its id alone."""

    user: str
    access_key: str


class SwiftKey(msgspec.Struct):
    """That a user can fetch a token."""

    user: str


class Subuser(msgspec.Struct):
    """A further login of a user, with what it may do."""

    id: str
    permissions: str = ""


class Capability(msgspec.Struct):
    """What a user may do at this very door."""

    type: str
    perm: str

    @property
    def is_full_power(self) -> bool:
        """Whether it is enough to take every permission: to read secrets that are shown there in clear, to add keys, to
        attach permissions, or to take buckets over."""
        writes = self.perm == "*" or "write" in self.perm
        return self.type in SHOWING_SECRETS or (self.type in TAKING_OVER and writes)


SHOWING_SECRETS = frozenset({"users", "metadata", "zone"})
"""Capabilities to read with which secrets are read as well: every user's, or the one that zones show each other."""
TAKING_OVER = frozenset({"user-policy", "buckets"})
"""Those with which whoever may write takes what is another's."""


class QuotaDocument(msgspec.Struct):
    """A quota; negative: none of that kind; 0: nothing may be stored."""

    enabled: bool = False
    max_size: int = -1
    max_objects: int = -1
    check_on_raw: bool = False
    """Whether objects count by their bytes alone, and not with the whole blocks that they take up."""

    @property
    def bytes(self) -> int:
        """The most bytes; 0: no limit."""
        return max(0, self.max_size) if self.enabled else 0

    @property
    def objects(self) -> int:
        """The most objects; 0: no limit."""
        return max(0, self.max_objects) if self.enabled else 0

    @property
    def shut(self) -> bool:
        """Whether it lets nothing more be stored."""
        return self.enabled and 0 in (self.max_size, self.max_objects)


class LinkKey(msgspec.Struct):
    """A key that temporary URLs are signed with, by which of the two it is; the key itself has no place here."""

    key: int = 0


class User(msgspec.Struct):
    """One user."""

    user_id: str
    tenant: str = ""
    suspended: int = 0
    subusers: list[Subuser] = []
    keys: list[AccessKeyId] = []
    swift_keys: list[SwiftKey] = []
    temp_url_keys: list[LinkKey] | None = None
    """None where the answer has no such list, which says nothing."""
    bucket_quota: QuotaDocument | None = None
    """Of each of its buckets that has no quota of its own in force."""
    user_quota: QuotaDocument | None = None
    """Of all its buckets together."""
    caps: list[Capability] = []
    mfa_ids: list[str] = []
    admin: str | bool = "false"
    system: str | bool = "false"
    op_mask: str = ""
    """The operations that it may use, as words with commas between; empty where the answer does not say."""
    type: str = ""
    """`keystone`: a project of a Keystone, whose tokens the gateway takes."""
    account_id: str = ""
    group_ids: list[str] = []

    @property
    def name(self) -> str:
        """As rules name it."""
        return f"{self.tenant}${self.user_id}" if self.tenant else self.user_id

    @property
    def everything(self) -> bool:
        """Whether it may do everything everywhere."""
        return "true" in (str(self.admin).lower(), str(self.system).lower())

    @property
    def full_power(self) -> list[str]:
        """What lets it take every permission: that it is the gateway's own, for whom no refusal counts, or its
        capabilities (each tried on 16.2)."""
        marks = {"admin user": self.admin, "system user": self.system}
        own = [name for name, mark in marks.items() if str(mark).lower() == "true"]
        return own + [f"{one.type}={one.perm}" for one in self.caps if one.is_full_power]

    @property
    def unlike(self) -> str:
        """Why what is attached to it may not be all that says what it can do; empty where it is."""
        if self.account_id or self.group_ids:
            return "what it may by its account and its groups is not read"
        return ""


class BucketCount(msgspec.Struct):
    """One count of a bucket."""

    size: int = 0
    size_actual: int = 0
    """In whole blocks."""
    num_objects: int = 0


class BucketStats(msgspec.Struct):
    """One bucket of any owner."""

    bucket: str
    id: str
    owner: str
    tenant: str = ""
    creation_time: datetime | None = None
    placement_rule: str = ""
    usage: dict[str, BucketCount] = {}
    bucket_quota: QuotaDocument = msgspec.field(default_factory=QuotaDocument)

    @property
    def name(self) -> str:
        """As anybody may ask for it."""
        return f"{self.tenant}:{self.bucket}" if self.tenant else self.bucket


class GrantType(msgspec.Struct):
    """0: a user, 2: a group, 4: a Referer."""

    type: int


class Flags(msgspec.Struct):
    """What is granted, or what is the matter with a bucket, as bits."""

    flags: int


class GrantBody(msgspec.Struct):
    """One grant."""

    type: GrantType
    permission: Flags
    id: str = ""
    group: int = 0
    url_spec: str = ""


class GrantEntry(msgspec.Struct):
    """One grant, by whom it is to."""

    id: str
    grant: GrantBody


class AclBody(msgspec.Struct):
    """The grants of a bucket, as the store itself holds them, whichever door set them."""

    grant_map: list[GrantEntry]


class AclAnswer(msgspec.Struct):
    """The answer that has them."""

    acl: AclBody


class Attribute(msgspec.Struct):
    """One attribute of a bucket; its value in base64."""

    key: str
    val: str


POLICY, GUARDS = "user.rgw.iam-policy", "user.rgw.public-access"
ACCOUNT_ACL = "user.rgw.x-amz-access-control"
OWN_POLICIES = "user.rgw.user-policy"
MANAGED_POLICIES = "user.rgw.managed-policy"
WANTED = frozenset({
    POLICY, GUARDS, ACCOUNT_ACL, OWN_POLICIES, MANAGED_POLICIES,
})  # fmt: skip
"""Attributes that are kept; a temporary-URL key is one of the others."""


class InstanceData(msgspec.Struct):
    """The attributes of a bucket or a user; of a bucket, its own record too."""

    attrs: list[Attribute] = []
    bucket_info: Flags | None = None
    """The lowest bit: its owner is suspended."""


class Instance(msgspec.Struct):
    """The answer that has them, of a bucket or of a user."""

    data: InstanceData

    @property
    def suspended(self) -> bool | None:
        """Whether a bucket's owner is suspended; None where its record is not shown."""
        return bool(self.data.bucket_info.flags & 1) if self.data.bucket_info else None

    def has(self, key: str) -> bool:
        """Whether there is such an attribute."""
        return any(attribute.key == key for attribute in self.data.attrs)

    def value(self, key: str) -> bytes:
        """An attribute's value; empty where there is none. Raises `ValueError` for one that cannot be read."""
        encoded = next((attribute.val for attribute in self.data.attrs if attribute.key == key), "")
        try:
            return base64.b64decode(encoded, validate=True)
        except ValueError:
            raise ValueError(f"{key} is not in base64") from None


def rewritten(body: bytes, wanted: type[Any]) -> bytes:
    """An answer with nothing in it but what its type has; empty where it is no such document."""
    try:
        document = msgspec.json.decode(body, type=wanted)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return b""
    if isinstance(document, Instance):
        document.data.attrs = [attribute for attribute in document.data.attrs if attribute.key in WANTED]
    return msgspec.json.encode(document)


_READ, _WRITE, _READ_ACP, _WRITE_ACP, _SWIFT_READ, _SWIFT_WRITE = 1, 2, 4, 8, 16, 32
_BITS: tuple[tuple[int, Permission], ...] = (
    (_READ, "read"), (_WRITE, "write"), (_READ_ACP, "read-acp"), (_WRITE_ACP, "write-acp"),
)  # fmt: skip
_FULL = 15
_GROUPS = {1: "anyone", 2: "any-account"}


def acl_of(held: AclAnswer) -> tuple[list[Grant], ContainerAcl]:
    """The grants that the S3 door sets, and the container ACL that the Swift door sets. Raises `ValueError` for a group
    that is not known."""
    grants: list[Grant] = []
    read: list[str] = []
    write: list[str] = []
    for entry in held.acl.grant_map:
        grant, flags = entry.grant, entry.grant.permission.flags
        if grant.type.type == 4:
            read.append(f".r:{'' if flags & _SWIFT_READ else '-'}{grant.url_spec}")
            continue
        if grant.type.type == 2 and grant.group not in _GROUPS:
            raise ValueError(f"a grant to group {grant.group}, which is not known")
        to: Any = _GROUPS[grant.group] if grant.type.type == 2 else "named"
        name = grant.id if to == "named" else ""
        permissions: list[Permission] = [permission for bit, permission in _BITS if flags & bit]
        if flags & _FULL == _FULL:
            permissions = ["full-control"]
        for permission in permissions:
            grants.append(named_grant(name, permission) if name else Grant(to, permission))
        read += [name or to] if flags & _SWIFT_READ else []
        write += [name or to] if flags & _SWIFT_WRITE else []
    return grants, ContainerAcl(",".join(read), ",".join(write))


def own_policies(instance: Instance) -> list[AttachedPolicy]:
    """The permissions that are attached to a user. Raises `ValueError` where they are not written as measured on 16.2:
    a count, then that many names and texts, each after its length; a number has four bytes, the lowest one first."""
    if not instance.has(OWN_POLICIES):
        return []
    left = BytesIO(instance.value(OWN_POLICIES))
    policies = [AttachedPolicy(_text(left), _text(left), "inline") for _ in range(_number(left))]
    if left.read(1):
        raise ValueError("more follows")
    return policies


def _number(left: BytesIO) -> int:
    return int.from_bytes(_exactly(left, 4), "little")


def _text(left: BytesIO) -> str:
    return _exactly(left, _number(left)).decode()


def _exactly(left: BytesIO, length: int) -> bytes:
    content = left.read(length)
    if len(content) < length:
        raise ValueError("it ends too early")
    return content


def guards_of(instance: Instance) -> Guards | None:
    """The public-access guards; None where none are set. Four bytes at the end, one each (measured on 16.2). Raises
    `ValueError`."""
    written = instance.value(GUARDS)
    if not written:
        return None
    if len(written) < 4:
        raise ValueError(f"{GUARDS} ends too early")
    first, second, third, fourth = (byte == 1 for byte in written[-4:])
    return Guards(first, second, third, fourth)
