"""A policy as a store's software reads it. What rewrites it is loaded for software that reads something otherwise."""

from __future__ import annotations

import re

import msgspec

from rusty_lantern.core.access.policy.document import Policy
from rusty_lantern.core.model.dialect import Dialect, Readings

_COMMON = Readings()


def as_read(policy: Policy, dialect: Dialect) -> Policy:
    """The policy as the dialect reads it; the same object where it reads it as the common language does."""
    if dialect.readings == _COMMON:
        return policy
    from rusty_lantern.core.access.dialects.rewrite import rewritten

    return rewritten(policy, dialect.readings)


def in_its_tenant(policy: Policy, bucket: str) -> Policy:
    """The policy of a bucket whose name is given with its tenant (`marsh:notes`); the policy's resources name it
    without."""
    tenant, colon, _ = bucket.partition(":")
    if not colon:
        return policy

    def in_tenant(name: str) -> str:
        return _RESOURCE.sub(rf"\g<1>{tenant}:\g<2>", name)

    statements = (
        msgspec.structs.replace(one, resources=tuple(map(in_tenant, one.resources))) for one in policy.statements
    )
    return msgspec.structs.replace(policy, statements=tuple(statements))


_RESOURCE = re.compile(r"^((?:[^:]*:){5})(.+)$", re.DOTALL)
"""A resource name: all that comes before the bucket's name, and the rest."""
