"""Verbs, and the protocol actions under each.

Names and what each action addresses (the bucket, or an object in it) follow the published action table of the
S3-style policy language. An exposure of a verb is an exposure of at least one action under it.
"""

from __future__ import annotations

from functools import cache
from typing import Literal, get_args

import msgspec

from rusty_lantern.core.model.identity import Verb

VERBS: tuple[Verb, ...] = get_args(Verb)
Target = Literal["bucket", "object"]


class Action(msgspec.Struct, frozen=True):
    """One protocol action: its verb, whether it addresses the bucket or an object, and how a client asks for it."""

    name: str
    verb: Verb
    target: Target
    method: str = ""
    """The method of its request; empty for what no client asks for itself: a service of the provider does."""
    query: str = ""


_TABLE: tuple[tuple[Verb, Target, str], ...] = (
    ("list", "bucket", "ListBucket=GET?list-type=2 ListBucketVersions=GET?versions "
     "ListBucketMultipartUploads=GET?uploads"),
    ("read", "object", "GetObject=GET GetObjectVersion=GET?versionId=null GetObjectTorrent=GET?torrent "
     "GetObjectVersionTorrent=GET?torrent&versionId=null GetObjectVersionForReplication"),
    ("write", "object", "PutObject=PUT RestoreObject=POST?restore ReplicateObject InitiateReplication"),
    ("delete", "object", "DeleteObject=DELETE DeleteObjectVersion=DELETE?versionId=null "
     "AbortMultipartUpload=DELETE?uploadId=a ReplicateDelete"),
    ("change-settings", "bucket", "PutBucketPolicy=PUT?policy DeleteBucketPolicy=DELETE?policy PutBucketAcl=PUT?acl "
     "PutBucketPublicAccessBlock=PUT?publicAccessBlock PutBucketOwnershipControls=PUT?ownershipControls "
     "PutBucketVersioning=PUT?versioning PutEncryptionConfiguration=PUT?encryption "
     "PutLifecycleConfiguration=PUT?lifecycle PutBucketObjectLockConfiguration=PUT?object-lock "
     "PutReplicationConfiguration=PUT?replication PutBucketLogging=PUT?logging "
     "PutBucketNotification=PUT?notification PutBucketTagging=PUT?tagging PutBucketWebsite=PUT?website "
     "DeleteBucketWebsite=DELETE?website PutBucketCORS=PUT?cors PutBucketRequestPayment=PUT?requestPayment "
     "PutAccelerateConfiguration=PUT?accelerate PutInventoryConfiguration=PUT?inventory&id=a "
     "PutAnalyticsConfiguration=PUT?analytics&id=a PutMetricsConfiguration=PUT?metrics&id=a "
     "PutIntelligentTieringConfiguration=PUT?intelligent-tiering&id=a PutBucketAbac=PUT?abac "
     "CreateBucketMetadataTableConfiguration=POST?metadataTable "
     "DeleteBucketMetadataTableConfiguration=DELETE?metadataTable "
     "UpdateBucketMetadataInventoryTableConfiguration=PUT?metadataInventoryTable "
     "UpdateBucketMetadataJournalTableConfiguration=PUT?metadataJournalTable "
     "TagResource=POST UntagResource=DELETE?tagKeys=a DeleteBucket=DELETE PauseReplication"),
    ("change-settings", "object", "PutObjectAcl=PUT?acl PutObjectVersionAcl=PUT?acl&versionId=null "
     "PutObjectRetention=PUT?retention PutObjectLegalHold=PUT?legal-hold UpdateObjectEncryption=PUT?encryption "
     "PutObjectTagging=PUT?tagging PutObjectVersionTagging=PUT?tagging&versionId=null "
     "DeleteObjectTagging=DELETE?tagging DeleteObjectVersionTagging=DELETE?tagging&versionId=null "
     "ReplicateTags ObjectOwnerOverrideToBucketOwner"),
    ("bypass-retention", "object", "BypassGovernanceRetention=DELETE?versionId=null"),
    ("read-settings", "bucket",
     "GetBucketPolicy=GET?policy GetBucketPolicyStatus=GET?policyStatus GetBucketAcl=GET?acl "
     "GetBucketPublicAccessBlock=GET?publicAccessBlock GetBucketOwnershipControls=GET?ownershipControls "
     "GetBucketVersioning=GET?versioning GetEncryptionConfiguration=GET?encryption "
     "GetLifecycleConfiguration=GET?lifecycle GetBucketObjectLockConfiguration=GET?object-lock "
     "GetReplicationConfiguration=GET?replication GetBucketLogging=GET?logging "
     "GetBucketNotification=GET?notification GetBucketTagging=GET?tagging GetBucketWebsite=GET?website "
     "GetBucketCORS=GET?cors GetBucketRequestPayment=GET?requestPayment GetBucketLocation=GET?location "
     "GetAccelerateConfiguration=GET?accelerate GetInventoryConfiguration=GET?inventory "
     "GetAnalyticsConfiguration=GET?analytics GetMetricsConfiguration=GET?metrics "
     "GetIntelligentTieringConfiguration=GET?intelligent-tiering GetBucketAbac=GET?abac "
     "GetBucketMetadataTableConfiguration=GET?metadataTable ListTagsForResource=GET?tags"),
    ("read-settings", "object", "GetObjectAcl=GET?acl GetObjectVersionAcl=GET?acl&versionId=null "
     "GetObjectAttributes=GET?attributes GetObjectVersionAttributes=GET?attributes&versionId=null "
     "GetObjectTagging=GET?tagging GetObjectVersionTagging=GET?tagging&versionId=null "
     "GetObjectRetention=GET?retention GetObjectLegalHold=GET?legal-hold "
     "ListMultipartUploadParts=GET?uploadId=a"),
)  # fmt: skip


def _actions() -> dict[str, Action]:
    actions = {}
    for verb, target, rows in _TABLE:
        for row in rows.split():
            name, _, line = row.partition("=")
            method, _, query = line.partition("?")
            actions[f"s3:{name}"] = Action(f"s3:{name}", verb, target, method, query)
    return actions


ACTIONS: dict[str, Action] = _actions()
"""Every published action on a bucket or an object, by its name."""

_ELSEWHERE = (
    "AssociateAccessGrantsIdentityCenter CreateAccessGrant CreateAccessGrantsInstance CreateAccessGrantsLocation "
    "CreateAccessPoint CreateAccessPointForObjectLambda CreateBucket CreateJob CreateMultiRegionAccessPoint "
    "CreateStorageLensGroup DeleteAccessGrant DeleteAccessGrantsInstance DeleteAccessGrantsInstanceResourcePolicy "
    "DeleteAccessGrantsLocation DeleteAccessPoint DeleteAccessPointForObjectLambda DeleteAccessPointPolicy "
    "DeleteAccessPointPolicyForObjectLambda DeleteJobTagging DeleteMultiRegionAccessPoint "
    "DeleteStorageLensConfiguration DeleteStorageLensConfigurationTagging DeleteStorageLensGroup DescribeJob "
    "DescribeMultiRegionAccessPointOperation DissociateAccessGrantsIdentityCenter GetAccessGrant "
    "GetAccessGrantsInstance GetAccessGrantsInstanceForPrefix GetAccessGrantsInstanceResourcePolicy "
    "GetAccessGrantsLocation GetAccessPoint GetAccessPointConfigurationForObjectLambda GetAccessPointForObjectLambda "
    "GetAccessPointPolicy GetAccessPointPolicyForObjectLambda GetAccessPointPolicyStatus "
    "GetAccessPointPolicyStatusForObjectLambda GetAccountPublicAccessBlock GetDataAccess GetJobTagging "
    "GetMultiRegionAccessPoint GetMultiRegionAccessPointPolicy GetMultiRegionAccessPointPolicyStatus "
    "GetMultiRegionAccessPointRoutes GetStorageLensConfiguration GetStorageLensConfigurationTagging "
    "GetStorageLensDashboard GetStorageLensGroup ListAccessGrants ListAccessGrantsInstances ListAccessGrantsLocations "
    "ListAccessPoints ListAccessPointsForObjectLambda ListAllMyBuckets ListCallerAccessGrants ListJobs "
    "ListMultiRegionAccessPoints ListStorageLensConfigurations ListStorageLensGroups "
    "PutAccessGrantsInstanceResourcePolicy PutAccessPointConfigurationForObjectLambda PutAccessPointPolicy "
    "PutAccessPointPolicyForObjectLambda PutAccessPointPublicAccessBlock PutAccountPublicAccessBlock PutJobTagging "
    "PutMultiRegionAccessPointPolicy PutStorageLensConfiguration PutStorageLensConfigurationTagging "
    "SubmitMultiRegionAccessPointRoutes UpdateAccessGrantsLocation UpdateJobPriority UpdateJobStatus "
    "UpdateStorageLensGroup"
)
ELSEWHERE = frozenset(f"s3:{name}".lower() for name in _ELSEWHERE.split())
"""Published actions, in lower case, on things other than a bucket that is there: no rule of a bucket grants them."""

BY_LOWER_NAME = {name.lower(): name for name in ACTIONS}


@cache
def actions_of(verb: Verb) -> tuple[Action, ...]:
    """The actions under a verb, in table order."""
    return tuple(action for action in ACTIONS.values() if action.verb == verb)


FIRST_ACTION: dict[Verb, str] = {verb: actions_of(verb)[0].name for verb in VERBS}
"""The action that best represents the verb, used to show a witness."""
