"""Buckets that differ in one setting each: ACL kinds, public-access guards, a policy beside them, an object's own ACL.

A row stands for one bucket and what is set on it, in this order: the bucket's ACL, an object's own ACL, the policy, the
guards. So the guards find everything standing.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

GUARDS = ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")
ACLS = ("private", "public-read", "public-read-write", "authenticated-read")
OBJECT_ACLS = ("private", "public-read")
POLICIES: dict[str, dict[str, object] | None] = {
    "no policy": None,
    "everybody reads": {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject"},
    "nobody reads": {"Effect": "Deny", "Principal": "*", "Action": "s3:GetObject"},
    "the second user writes": {"Effect": "Allow", "Principal": {"AWS": ["arn:aws:iam:::user/deck"]},
                               "Action": "s3:PutObject"},
}  # fmt: skip


@dataclass(frozen=True)
class Setting:
    """What is set on one bucket."""

    acl: str
    object_acl: str
    policy: str
    guards: tuple[str, ...]

    @property
    def name(self) -> str:
        """In words."""
        guards = "all guards" if self.guards == GUARDS else " ".join(self.guards) or "no guards"
        return f"ACL {self.acl}, object ACL {self.object_acl}, {self.policy}, {guards}"


def settings() -> list[Setting]:
    """Every row."""
    sets = [(), *((guard,) for guard in GUARDS), GUARDS]
    return [Setting(*row) for row in itertools.product(ACLS, OBJECT_ACLS, POLICIES, sets)]
