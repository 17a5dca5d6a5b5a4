"""What a line of a server's own log says was done: which action, on which bucket and object.

Three protocols and their doors are told apart by the path and the query: the common protocol's path style; the open
Swift protocol, at a server of its own (`/v1/AUTH_…`) and at a gateway's door (`/swift/v1`); the blob protocol by its
`restype`. A gateway's administration door (`/admin/…`) names whom it is about. One request of the Swift protocol sets
any of a container's settings: that is `SetContainer`, and `SetAccount` on the account.
"""

from __future__ import annotations

import re
from typing import NamedTuple
from urllib.parse import parse_qs, unquote

_SETTINGS = {
    "policy": "BucketPolicy", "acl": "BucketAcl", "publicaccessblock": "PublicAccessBlock",
    "ownershipcontrols": "BucketOwnershipControls", "versioning": "BucketVersioning", "encryption": "BucketEncryption",
    "object-lock": "BucketObjectLockConfiguration", "tagging": "BucketTagging", "logging": "BucketLogging",
    "lifecycle": "BucketLifecycle", "website": "BucketWebsite", "cors": "BucketCors",
    "replication": "BucketReplication", "notification": "BucketNotification",
    "requestpayment": "BucketRequestPayment", "accelerate": "BucketAccelerateConfiguration",
}  # fmt: skip
_OF_OBJECTS = {"retention": "PutObjectRetention", "legal-hold": "PutObjectLegalHold", "acl": "PutObjectAcl",
               "tagging": "PutObjectTagging"}  # fmt: skip
_SWIFT = re.compile(r"/swift/v1(?:/(?:AUTH|KEY)_[^/]*)?(?P<gateway>/.*)?|/v1(?:\.0)?/[A-Z]+_[^/]*(?P<own>/.*)?")
"""A gateway's path has the account where it is told to. Source: the object storage API; tried on both servers."""
_BLOB = {"acl": "PutBucketAcl", "metadata": "PutBucketTagging", "": ""}
_OF_USERS = {"caps": "PutUserPolicy", "key": "CreateAccessKey", "subuser": "CreateAccessKey"}
"""Part of a gateway's administration door below a user → what it does there."""


class Done(NamedTuple):
    """What a request did."""

    action: str
    bucket: str = ""
    key: str = ""
    about: str = ""


def read_request(method: str, target: str, status: str = "") -> Done:
    """Action, bucket and key of a request line.

    >>> read_request("PUT", "/payroll-drop?policy")
    Done(action='PutBucketPolicy', bucket='payroll-drop', key='', about='')
    >>> read_request("DELETE", "/permits/a%20b?versionId=1")
    Done(action='DeleteObjectVersion', bucket='permits', key='a b', about='')
    >>> read_request("POST", "/swift/v1/payroll-drop")
    Done(action='SetContainer', bucket='payroll-drop', key='', about='')
    >>> read_request("PUT", "/admin/user?caps&uid=yard-pilot")
    Done(action='PutUserPolicy', bucket='', key='', about='yard-pilot')
    """
    path, _, query = target.partition("?")
    parameters = parse_qs(query, keep_blank_values=True, max_num_fields=None)
    lowered = {name.lower(): values[0] for name, values in parameters.items()}
    if swift := _SWIFT.fullmatch(path):
        return _of_swift(method, swift["gateway"] or swift["own"] or "", lowered, status)
    if path in ("/admin/user", "/admin/bucket"):
        return _of_administration(method, path, lowered)
    if lowered.get("restype") in ("container", "service"):
        return _of_blob_protocol(method, path, lowered)
    return _of_common_protocol(method, path, lowered)


def _of_common_protocol(method: str, path: str, parameters: dict[str, str]) -> Done:
    bucket, _, key = (unquote(part) for part in path.lstrip("/").partition("/"))
    bucket = bucket.lstrip(":")  # a gateway's way to name a bucket of no tenant
    if key:
        setting = next((name for part, name in _OF_OBJECTS.items() if part in parameters), "")
        plain = {"PUT": "PutObject", "POST": "PutObject"}.get(method, "DeleteObject")
        version = "Version" if method == "DELETE" and "versionid" in parameters else ""
        return Done(setting or plain + version, bucket, key)
    setting = next((name for part, name in _SETTINGS.items() if part in parameters), "")
    if "delete" in parameters:
        return Done("DeleteObjects", bucket)
    verb = "Delete" if method == "DELETE" else "Put"
    return Done(verb + setting if setting else "DeleteBucket" if method == "DELETE" else "CreateBucket", bucket)


def _of_swift(method: str, path: str, parameters: dict[str, str], status: str) -> Done:
    container, _, key = (unquote(part) for part in path.lstrip("/").partition("/"))
    if "bulk-delete" in parameters:
        return Done("BulkDelete")
    if not container:
        return Done("SetAccount")
    if key:
        return Done({"PUT": "PutObject", "DELETE": "DeleteObject"}.get(method, "SetObject"), container, key)
    if method == "DELETE":
        return Done("DeleteBucket", container)
    return Done("CreateBucket" if method == "PUT" and status != "202" else "SetContainer", container)


def _of_blob_protocol(method: str, path: str, parameters: dict[str, str]) -> Done:
    container = unquote(path.rstrip("/").rpartition("/")[2])
    if parameters["restype"] == "service":
        return Done("SetAccount")
    setting = _BLOB.get(parameters.get("comp", ""), "SetContainer")
    return Done(setting or ("DeleteBucket" if method == "DELETE" else "CreateBucket"), container)


def _of_administration(method: str, path: str, parameters: dict[str, str]) -> Done:
    about = parameters.get("uid", "")
    if path == "/admin/bucket":
        return Done("DeleteBucket" if method == "DELETE" else "SetContainer", parameters.get("bucket", ""), "", about)
    part = next((action for name, action in _OF_USERS.items() if name in parameters), "")
    if method == "DELETE":
        return Done({"CreateAccessKey": "DeleteAccessKey"}.get(part, part) or "DeleteUser", "", "", about)
    return Done(part or ("CreateUser" if method == "PUT" else "UpdateUser"), "", "", about)
