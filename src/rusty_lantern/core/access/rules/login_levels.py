"""Further logins of a gateway's user, each with a level: the part that it has of what ACLs give the user.

A level is a choice of the four bits that ACLs are made of there. What a bucket's policy, or a permission of the user's
own, allows or refuses counts for each login in full, and so does what an owner may do without any ACL. Measured on
release 16.2, request by request, at both doors: `tests/test_gateway_logins.py` does it again.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rusty_lantern.core.access.policy.acl_permissions import AT_GATEWAY, AclPermissions
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE, DOOR
from rusty_lantern.core.access.policy.document import Fault, Statement
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.model.acl import Permission

_BITS: Mapping[str, frozenset[Permission]] = {
    "read": frozenset({"read"}),
    "write": frozenset({"write"}),
    "read-write": frozenset({"read", "write"}),
    "none": frozenset(),
}
"""Level → the bits of ACLs that a login of it has; `full-control` has all of them."""
_AT_SWIFT_DOOR: Mapping[str, Permission] = {
    "s3:ListBucket": "read", "s3:GetObject": "read", "s3:GetBucketAcl": "read",
    "s3:PutObject": "write", "s3:DeleteObject": "write",
}  # fmt: skip
"""The bit that each action takes at the Swift door, where a container's ACL is shown to whoever may read."""


def of_level(rules: Rules, level: str) -> Rules:
    """The rules of a bucket, as they count for a login of a level; an empty one takes nothing away."""
    if not level:
        return rules
    bits = _BITS.get(level)
    if bits is None:
        return _in_doubt(rules, f"what its level ({level}) leaves of what ACLs give its user is not known")
    statements = [_with_bits(one, bits) for one in rules.policy.statements]
    return msgspec.structs.replace(
        rules,
        policy=msgspec.structs.replace(rules.policy, statements=tuple(one for one in statements if one is not None)),
        acl_permissions=_tables(rules.acl_permissions, bits),
    )


def _with_bits(statement: Statement, bits: frozenset[Permission]) -> Statement | None:
    """A statement as these bits leave it; None where they leave nothing."""
    if not statement.door or statement.effect != "Allow" or statement.by_post == BULK_DELETE:
        return statement
    if statement.by_post:
        return statement if "write" in bits else None
    actions = tuple(action for action in statement.actions if _bit_of(action, statement.door) in (None, *bits))
    return msgspec.structs.replace(statement, actions=actions) if actions else None


def _bit_of(action: str, door: str) -> Permission | None:
    """The bit that an action takes at a door; None for what an owner may do without any."""
    return (_AT_SWIFT_DOOR if door == DOOR else _AT_S3_DOOR).get(action)


_AT_S3_DOOR: Mapping[str, Permission] = {
    action: permission
    for table in AT_GATEWAY
    for permission, actions in table.items()
    if permission != "full-control"
    for action in actions
}


def _tables(permissions: AclPermissions, bits: frozenset[Permission]) -> AclPermissions:
    """The tables of what each permission of an ACL allows, with these bits alone."""
    on_bucket, on_object = (
        {permission: frozenset(a for a in actions if _AT_S3_DOOR.get(a) in bits) for permission, actions in one.items()}
        for one in permissions
    )
    return AclPermissions(on_bucket, on_object)


def _in_doubt(rules: Rules, why: str) -> Rules:
    """The rules, with whatever ACLs allow in doubt."""
    fault = Fault("", why)
    statements = tuple(
        msgspec.structs.replace(one, faults=(*one.faults, fault)) if one.door and one.effect == "Allow" else one
        for one in rules.policy.statements
    )
    return msgspec.structs.replace(
        rules,
        policy=msgspec.structs.replace(rules.policy, statements=statements),
        acl_permissions=_tables(rules.acl_permissions, frozenset()),
        acl_permissions_doubt=why,
    )
