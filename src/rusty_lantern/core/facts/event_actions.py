"""The protocols' own names of actions that change settings, as access logs record them; the likeliest first."""

from __future__ import annotations

POLICY_ACTIONS = "PutBucketPolicy DeleteBucketPolicy"
_BUCKET_GUARDS = "PutPublicAccessBlock PutBucketPublicAccessBlock DeletePublicAccessBlock DeleteBucketPublicAccessBlock"
ACCOUNT_GUARD_ACTIONS = "PutAccountPublicAccessBlock DeleteAccountPublicAccessBlock"
POINT_ACTIONS = (
    "CreateAccessPoint DeleteAccessPoint PutAccessPointPolicy DeleteAccessPointPolicy "
    "CreateMultiRegionAccessPoint DeleteMultiRegionAccessPoint PutMultiRegionAccessPointPolicy"
)
GUARD_ACTIONS = f"{_BUCKET_GUARDS} {ACCOUNT_GUARD_ACTIONS}"
ACL_ACTIONS = "PutBucketOwnershipControls DeleteBucketOwnershipControls PutBucketAcl"
ACCESS_ACTIONS = (
    f"{POLICY_ACTIONS} PutBucketAcl {_BUCKET_GUARDS} PutBucketOwnershipControls {ACCOUNT_GUARD_ACTIONS} SetRights "
    f"SetNetwork {POINT_ACTIONS}"
)
TAG_ACTIONS = "PutBucketTagging DeleteBucketTagging"
ENCRYPTION_ACTIONS = "PutBucketEncryption PutEncryptionConfiguration"
LOCK_ACTIONS = "PutBucketObjectLockConfiguration PutObjectLockConfiguration"
LIFECYCLE_ACTIONS = "PutBucketLifecycleConfiguration PutLifecycleConfiguration PutBucketLifecycle DeleteBucketLifecycle"
MFA_ACTIONS = "EnableMFADevice DeactivateMFADevice"
PASSWORD_ACTIONS = f"{MFA_ACTIONS} CreateLoginProfile UpdateLoginProfile DeleteLoginProfile ChangePassword"
PERMISSION_ACTIONS = (
    "PutUserPolicy AttachUserPolicy DetachUserPolicy DeleteUserPolicy PutGroupPolicy AttachGroupPolicy "
    "DetachGroupPolicy AddUserToGroup RemoveUserFromGroup CreatePolicyVersion SetDefaultPolicyVersion PutRolePolicy "
    f"AttachRolePolicy DetachRolePolicy {ACCESS_ACTIONS}"
)
KEY_ACTIONS = (
    "DisableKey EnableKey ScheduleKeyDeletion CancelKeyDeletion RotateKeyOnDemand EnableKeyRotation "
    "DisableKeyRotation PutKeyPolicy UpdateAlias CreateKey"
)
