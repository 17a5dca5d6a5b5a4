"""Which recorded actions can have caused which change."""

from __future__ import annotations

_POLICY = "PutBucketPolicy DeleteBucketPolicy"


_GUARDS = "PutPublicAccessBlock PutBucketPublicAccessBlock DeletePublicAccessBlock DeleteBucketPublicAccessBlock"


_ACCOUNT_GUARDS = "PutAccountPublicAccessBlock DeleteAccountPublicAccessBlock"


_DOORS = f"{_POLICY} PutBucketAcl {_GUARDS} PutBucketOwnershipControls {_ACCOUNT_GUARDS} SetRights SetNetwork"


_TAGS = "PutBucketTagging DeleteBucketTagging"


KEY_ACTIONS = (
    "DisableKey EnableKey ScheduleKeyDeletion CancelKeyDeletion RotateKeyOnDemand EnableKeyRotation DisableKeyRotation"
)


MAY_CAUSE = "PutUserPolicy AttachUserPolicy DetachUserPolicy DeleteUserPolicy PutGroupPolicy AttachGroupPolicy "


CAUSES: dict[str, str] = {
    "bucket new": "CreateBucket",
    "bucket gone": "DeleteBucket",
    "identity new": "CreateUser CreateRole",
    "identity gone": "DeleteUser DeleteRole",
    "credential new": "CreateAccessKey UpdateAccessKey",
    "credential gone": "UpdateAccessKey DeleteAccessKey DeleteUser",
    "encryption-key new": "CreateKey ImportKeyMaterial",
    "encryption-key gone": "ScheduleKeyDeletion DeleteKey",
    "exposure.": _DOORS,
    "access.": _DOORS,
    "policy": _POLICY,
    "encryption.required": _POLICY,
    "transport.required": _POLICY,
    "lock.shortest": _POLICY,
    "lock.longest": _POLICY,
    "public-status": _DOORS,
    "guards.": f"{_GUARDS} {_ACCOUNT_GUARDS}",
    "grants.": "PutBucketOwnershipControls DeleteBucketOwnershipControls PutBucketAcl",
    "versioning": "PutBucketVersioning",
    "encryption.key": f"{KEY_ACTIONS} PutBucketEncryption PutEncryptionConfiguration",
    "encryption.": "PutBucketEncryption PutEncryptionConfiguration DeleteBucketEncryption",
    "lock.": "PutBucketObjectLockConfiguration PutObjectLockConfiguration",
    "tags.": _TAGS,
    "logging": "PutBucketLogging",
    "lifecycle.": "PutBucketLifecycleConfiguration PutLifecycleConfiguration PutBucketLifecycle DeleteBucketLifecycle",
    "website": "PutBucketWebsite DeleteBucketWebsite",
    "cross-origin": "PutBucketCors PutBucketCORS DeleteBucketCors",
    "replication": "PutBucketReplication PutReplicationConfiguration DeleteBucketReplication",
    "notifications.": "PutBucketNotification PutBucketNotificationConfiguration",
    "requester-pays": "PutBucketRequestPayment",
    "transfer-endpoint": "PutBucketAccelerateConfiguration PutAccelerateConfiguration",
    "network.": "SetNetwork",
    "soft-delete": "SetSoftDelete",
    "identity.second-factor": "EnableMFADevice DeactivateMFADevice",
    "identity.password": "EnableMFADevice DeactivateMFADevice CreateLoginProfile UpdateLoginProfile DeleteLoginProfile "
    "ChangePassword",
    "identity.state": "UpdateUser DisableUser EnableUser",
    "identity.": f"{MAY_CAUSE} {_DOORS}",
    "credential.": f"UpdateAccessKey {MAY_CAUSE} {_DOORS}",
    "encryption-key.": KEY_ACTIONS,
    "vanished": "DeleteObjectVersion DeleteObject DeleteObjects",
    "retention": "PutObjectRetention",
    "mode": "PutObjectRetention",
    "legal hold": "PutObjectLegalHold",
}
"""What changed (its kind with `new` or `gone`, or the beginning of the fact) → the actions that can bring it about, the
likeliest first. The protocols' own names of actions."""


ACCOUNT_WIDE = frozenset(_ACCOUNT_GUARDS.split())
