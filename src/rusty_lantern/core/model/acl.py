"""ACLs: of buckets, and what those of single objects grant the public."""

from __future__ import annotations

from typing import Literal

import msgspec

Grantee = Literal["anyone", "any-account", "log-delivery", "named"]
Permission = Literal["read", "write", "read-acp", "write-acp", "full-control"]


class Grant(msgspec.Struct, frozen=True, omit_defaults=True):
    """One entry of an ACL: to whom, and what. `identity` names the grantee where `to` is `named`."""

    to: Grantee
    permission: Permission
    identity: str = ""


class ObjectGrant(msgspec.Struct, frozen=True, omit_defaults=True):
    """What some object's own ACL grants the public; `key` is one such object, the first by name."""

    to: Literal["anyone", "any-account"]
    permission: Permission
    key: str = ""


class ObjectAcls(msgspec.Struct, frozen=True, omit_defaults=True):
    """What objects' own ACLs grant the public. `complete`: those of all versions were read."""

    acl: list[ObjectGrant] = []
    complete: bool = True
