"""A request to a simulated store of the S3-compatible protocol, and which action of the protocol it asks for."""

from __future__ import annotations

from dataclasses import dataclass

from rusty_lantern.simulator.contents import StandinKey


@dataclass(frozen=True, slots=True)
class Call:
    """A request as the store understands it."""

    method: str
    bucket: str
    key: str
    query: dict[str, str]
    headers: dict[str, str]
    access: StandinKey | None


_OBJECT_ACTIONS = {"GET": "s3:GetObject", "HEAD": "s3:GetObject", "PUT": "s3:PutObject", "DELETE": "s3:DeleteObject"}
_SETTING_ACTIONS = {
    "acl": "BucketAcl", "policy": "BucketPolicy", "policyStatus": "BucketPolicyStatus",
    "publicAccessBlock": "BucketPublicAccessBlock", "ownershipControls": "BucketOwnershipControls",
    "versioning": "BucketVersioning", "encryption": "EncryptionConfiguration",
    "object-lock": "BucketObjectLockConfiguration", "tagging": "BucketTagging", "location": "BucketLocation",
    "logging": "BucketLogging", "lifecycle": "LifecycleConfiguration", "website": "BucketWebsite", "cors": "BucketCORS",
    "replication": "ReplicationConfiguration", "notification": "BucketNotification",
    "requestPayment": "BucketRequestPayment", "accelerate": "AccelerateConfiguration",

}  # fmt: skip


_KEPT_ACTIONS = {"retention": "ObjectRetention", "legal-hold": "ObjectLegalHold", "tagging": "ObjectTagging"}


def action_of(call: Call) -> str:
    """The protocol action that a request asks for."""
    if call.key:
        return _object_action(call)
    question = next((q for q in call.query if q in _SETTING_ACTIONS), None)
    if question:
        verb = {"GET": "Get", "PUT": "Put", "DELETE": "Delete"}.get(call.method, "Get")
        return f"s3:{verb}{_SETTING_ACTIONS[question]}"
    if call.method == "DELETE":
        return "s3:DeleteBucket"
    listed = {"versions": "s3:ListBucketVersions", "uploads": "s3:ListBucketMultipartUploads"}
    return next((action for name, action in listed.items() if name in call.query), "s3:ListBucket")


def _object_action(call: Call) -> str:
    if "uploadId" in call.query:
        return "s3:ListMultipartUploadParts"
    if "acl" in call.query:
        return "s3:PutObjectAcl" if call.method == "PUT" else "s3:GetObjectAcl"
    kept = next((action for name, action in _KEPT_ACTIONS.items() if name in call.query), None)
    if kept:
        return f"s3:{'Put' if call.method == 'PUT' else 'Get'}{kept}"
    if "versionId" in call.query:
        return "s3:DeleteObjectVersion" if call.method == "DELETE" else "s3:GetObjectVersion"
    return _OBJECT_ACTIONS.get(call.method, "s3:PutObject")
