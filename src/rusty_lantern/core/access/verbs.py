"""Verbs, and the protocol actions under each.

Names and what each action addresses (the bucket, or an object in it) follow the published action table of the
S3-style policy language. An exposure of a verb is an exposure of at least one action under it.
"""

from __future__ import annotations

from typing import Literal, get_args

import msgspec

from rusty_lantern.core.holders import Verb

VERBS: tuple[Verb, ...] = get_args(Verb)
Target = Literal["bucket", "object"]


class Action(msgspec.Struct, frozen=True):
    """One protocol action: its verb, and whether it addresses the bucket or an object."""

    name: str
    verb: Verb
    target: Target


_TABLE: dict[tuple[Verb, Target], str] = {
    ("list", "bucket"): "ListBucket ListBucketVersions ListBucketMultipartUploads",
    ("read", "object"): "GetObject GetObjectVersion GetObjectTorrent",
    ("write", "object"): "PutObject ReplicateObject RestoreObject PutObjectTagging PutObjectVersionTagging",
    ("delete", "object"): "DeleteObject DeleteObjectVersion ReplicateDelete DeleteObjectTagging "
    "DeleteObjectVersionTagging AbortMultipartUpload",
    ("govern", "bucket"): "PutBucketPolicy DeleteBucketPolicy PutBucketAcl PutBucketPublicAccessBlock "
    "PutBucketOwnershipControls PutBucketVersioning PutEncryptionConfiguration PutLifecycleConfiguration "
    "PutBucketObjectLockConfiguration PutReplicationConfiguration PutBucketLogging PutBucketNotification "
    "PutBucketTagging PutBucketWebsite DeleteBucketWebsite PutBucketCORS PutBucketRequestPayment "
    "PutAccelerateConfiguration PutInventoryConfiguration PutAnalyticsConfiguration PutMetricsConfiguration "
    "DeleteBucket",
    ("govern", "object"): "PutObjectAcl PutObjectVersionAcl PutObjectRetention PutObjectLegalHold "
    "ObjectOwnerOverrideToBucketOwner",
    ("unlock", "object"): "BypassGovernanceRetention",
    ("inspect", "bucket"): "GetBucketPolicy GetBucketPolicyStatus GetBucketAcl GetBucketPublicAccessBlock "
    "GetBucketOwnershipControls GetBucketVersioning GetEncryptionConfiguration GetLifecycleConfiguration "
    "GetBucketObjectLockConfiguration GetReplicationConfiguration GetBucketLogging GetBucketNotification "
    "GetBucketTagging GetBucketWebsite GetBucketCORS GetBucketRequestPayment GetBucketLocation "
    "GetAccelerateConfiguration GetInventoryConfiguration GetAnalyticsConfiguration GetMetricsConfiguration",
    ("inspect", "object"): "GetObjectAcl GetObjectVersionAcl GetObjectAttributes GetObjectVersionAttributes "
    "GetObjectTagging GetObjectVersionTagging GetObjectRetention GetObjectLegalHold "
    "GetObjectVersionForReplication ListMultipartUploadParts",
}

ACTIONS: dict[str, Action] = {
    f"s3:{name}": Action(f"s3:{name}", verb, target)
    for (verb, target), names in _TABLE.items()
    for name in names.split()
}
"""Every action by its name."""

BY_LOWER_NAME = {name.lower(): name for name in ACTIONS}


def actions_of(verb: Verb) -> tuple[Action, ...]:
    """The actions under a verb, in table order."""
    return tuple(action for action in ACTIONS.values() if action.verb == verb)


FIRST_ACTION: dict[Verb, str] = {verb: actions_of(verb)[0].name for verb in VERBS}
"""The action that best stands for the verb, used to show a witness."""

# What an access-list permission on a *bucket* lets its holder do. Reading the list of a bucket is not reading its
# objects: that door belongs to each object's own list.
_LIST = ["s3:ListBucket", "s3:ListBucketVersions", "s3:ListBucketMultipartUploads"]
_WRITE = ["s3:PutObject", "s3:DeleteObject", "s3:AbortMultipartUpload"]
GRANTED: dict[str, frozenset[str]] = {
    "read": frozenset(_LIST),
    "write": frozenset(_WRITE),
    "read-acp": frozenset({"s3:GetBucketAcl"}),
    "write-acp": frozenset({"s3:PutBucketAcl"}),
    "full-control": frozenset([*_LIST, *_WRITE, "s3:GetBucketAcl", "s3:PutBucketAcl"]),
}
