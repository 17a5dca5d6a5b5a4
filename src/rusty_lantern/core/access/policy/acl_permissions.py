"""What each permission in an ACL lets its holder do: as the protocol's documentation has it, and as a gateway has it.

A gateway has four bits (read, write, and the same of the ACL), and one for each request that no policy decides; so
`write` on a bucket lets its holder delete versions, bypass governance and delete the bucket, and `write-acp` replace
its policy. Measured request by request on release 16.2: `tests/test_gateway_acls.py` does it again.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from rusty_lantern.core.model.acl import Permission


def _actions(names: str) -> frozenset[str]:
    return frozenset(f"s3:{name}" for name in names.split())


class AclPermissions(NamedTuple):
    """Permission → the actions that it allows, in the ACL of a bucket, and in that of an object, on that object."""

    on_bucket: Mapping[Permission, frozenset[str]]
    on_object: Mapping[Permission, frozenset[str]]


def _permissions(bucket: dict[Permission, str], objects: dict[Permission, str]) -> AclPermissions:
    """Both tables; full control is all the others together."""
    nothing: dict[Permission, str] = {"read": "", "write": "", "read-acp": "", "write-acp": ""}
    on_bucket, on_object = (
        {permission: _actions(names) for permission, names in (nothing | table).items()} for table in (bucket, objects)
    )
    return AclPermissions(
        {**on_bucket, "full-control": frozenset().union(*on_bucket.values())},
        {**on_object, "full-control": frozenset().union(*on_object.values())},
    )


PUBLISHED = _permissions(
    {
        "read": "ListBucket ListBucketVersions ListBucketMultipartUploads",
        "write": "PutObject DeleteObject AbortMultipartUpload",
        "read-acp": "GetBucketAcl",
        "write-acp": "PutBucketAcl",
    },
    {
        "read": "GetObject GetObjectVersion GetObjectTorrent GetObjectVersionTorrent",
        "write": "",
        "read-acp": "GetObjectAcl GetObjectVersionAcl",
        "write-acp": "PutObjectAcl PutObjectVersionAcl",
    },
)
"""Reading the list of a bucket is not reading its objects: that is up to each object's own ACL. Source: the S3
family's documentation of ACLs, mapping of permissions."""

AT_GATEWAY = _permissions(
    {
        "read": "ListBucket ListBucketVersions ListBucketMultipartUploads",
        "write": "PutObject DeleteObject DeleteObjectVersion AbortMultipartUpload BypassGovernanceRetention "
        "DeleteBucket",
        "read-acp": "GetBucketAcl GetBucketPolicy GetBucketPolicyStatus GetBucketPublicAccessBlock "
        "GetLifecycleConfiguration GetReplicationConfiguration GetBucketTagging",
        "write-acp": "PutBucketAcl PutBucketPolicy DeleteBucketPolicy PutBucketPublicAccessBlock "
        "PutLifecycleConfiguration",
    },
    {
        "read": "GetObject GetObjectVersion GetObjectTorrent GetObjectVersionTorrent GetObjectTagging "
        "GetObjectVersionTagging GetObjectRetention GetObjectLegalHold",
        "write": "PutObjectRetention PutObjectLegalHold PutObjectTagging PutObjectVersionTagging DeleteObjectTagging "
        "DeleteObjectVersionTagging",
        "read-acp": "GetObjectAcl GetObjectVersionAcl",
        "write-acp": "PutObjectAcl PutObjectVersionAcl",
    },
)

AT_SEAWEED = _permissions({"read": "ListBucket GetObject GetObjectVersion"}, {})
"""What `read` for everybody in the ACL of a bucket allows on a SeaweedFS server; no other permission counts there."""

_READING = AT_GATEWAY.on_object["read"] | AT_GATEWAY.on_object["read-acp"] | AT_GATEWAY.on_bucket["read-acp"]
CONTAINER_READ_AT_GATEWAY = tuple(sorted(AT_GATEWAY.on_bucket["read"] | _READING))
"""What a container's read ACL allows at a gateway's S3 door, besides what it allows at its Swift door."""
CONTAINER_WRITE_AT_GATEWAY = tuple(
    sorted(AT_GATEWAY.on_bucket["write"] | AT_GATEWAY.on_bucket["write-acp"] | AT_GATEWAY.on_object["write"])
)
"""The same of its write ACL: whoever may write may replace the bucket's policy and ACL."""
