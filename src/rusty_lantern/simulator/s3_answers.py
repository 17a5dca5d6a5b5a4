"""The answers of the S3-compatible protocol, written from a dossier: the mirror image of the reader's table."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from email.utils import format_datetime
from html import escape
from typing import Any
from urllib.parse import quote

from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Bucket, CrossOrigin, LifecycleRule, Logging, ReplicationRule, Website
from rusty_lantern.core.model.bucket_contents import Uploads
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.remediation.s3_documents import (
    document,
    element,
    encryption_document,
    grants_document,
    guards_document,
    lock_document,
    ownership_document,
    tags_document,
    versioning_document,
)
from rusty_lantern.core.value_types import DAY


def stamp(moment: datetime) -> str:
    """A moment as the protocol writes it."""
    return moment.strftime("%Y-%m-%dT%H:%M:%S.000Z")


def error(code: str, message: str) -> bytes:
    """An error document."""
    return f"<?xml version='1.0'?>\n<Error>{element('Code', code)}{element('Message', message)}</Error>".encode()


def list_of_buckets(owner: str, buckets: list[Bucket]) -> bytes:
    """The answer to `GET /`."""
    entries = "".join(
        "<Bucket>" + element("Name", b.name) + element("CreationDate", stamp(b.created.value)) + "</Bucket>"
        for b in buckets
        if b.created.value
    )
    return document("ListAllMyBucketsResult", f"<Owner>{element('ID', owner)}</Owner><Buckets>{entries}</Buckets>")


def listing(bucket: str, page: list[ObjectVersion], *, more: bool, encoded: bool) -> bytes:
    """One page of a listing of objects."""
    body = _listed(bucket, more=more, encoded=encoded) + element("KeyCount", len(page))
    body += "".join(f"<Contents>{_described(version, encoded=encoded)}</Contents>" for version in page)
    return document("ListBucketResult", body)


def versions(bucket: str, page: list[ObjectVersion], *, more: bool, encoded: bool) -> bytes:
    """One page of a listing of versions."""
    body = _listed(bucket, more=more, encoded=encoded)
    for version in page:
        tag = "DeleteMarker" if version.marker else "Version"
        latest = element("VersionId", version.version) + element("IsLatest", str(version.current).lower())
        body += f"<{tag}>{_described(version, encoded=encoded)}{latest}</{tag}>"
    return document("ListVersionsResult", body)


def _listed(bucket: str, *, more: bool, encoded: bool) -> str:
    kind = element("EncodingType", "url") if encoded else ""
    return element("Name", bucket) + element("IsTruncated", str(more).lower()) + kind


def _described(version: ObjectVersion, *, encoded: bool) -> str:
    body = element("Key", quote(version.key) if encoded else version.key)
    body += element("LastModified", stamp(version.written)) if version.written else ""
    if version.marker:
        return body
    return (
        body
        + element("ETag", f'"{version.etag}"')
        + element("Size", version.size)
        + element("StorageClass", version.tier)
    )


def headers(version: ObjectVersion) -> dict[str, str]:
    """The headers of the answer to HEAD of a version."""
    assert version.written is not None
    values = {
        "etag": f'"{version.etag}"',
        "last-modified": format_datetime(version.written, usegmt=True),
        "content-type": version.content_type,
        "cache-control": version.cache_control,
        "content-encoding": version.content_encoding,
        "content-disposition": version.disposition,
        "x-amz-version-id": version.version,
        "x-amz-server-side-encryption": {"provider-managed": "AES256", "customer-managed": "aws:kms"}.get(
            version.encryption or ""
        ),
        "x-amz-server-side-encryption-aws-kms-key-id": version.encryption_key,
        "x-amz-object-lock-mode": (version.mode or "").upper(),
        "x-amz-object-lock-retain-until-date": stamp(version.until) if version.until else None,
        "x-amz-object-lock-legal-hold": "ON" if version.hold else None,
        "x-amz-storage-class": version.tier if version.tier != "STANDARD" else None,
    }
    values |= {f"x-amz-meta-{name}": value for name, value in (version.metadata or {}).items()}
    return {name: value for name, value in values.items() if value}


def retention(version: ObjectVersion) -> bytes:
    """A version's retention, where it has one."""
    until = element("RetainUntilDate", stamp(version.until)) if version.until else ""
    return document("Retention", element("Mode", (version.mode or "").upper()) + until)


def object_acls(version: ObjectVersion, owner: str) -> bytes:
    """The ACL of a version."""
    public: dict[str, list[Grant]] = {
        "read": [Grant("anyone", "read")],
        "write": [Grant("anyone", "read"), Grant("anyone", "write-acp")],
    }
    return grants_document([Grant("named", "full-control", owner), *public.get(version.public or "", [])])


def _logging(logging: Logging | None) -> bytes:
    target = logging and element("TargetBucket", logging.target) + element("TargetPrefix", logging.prefix)
    return document("BucketLoggingStatus", f"<LoggingEnabled>{target}</LoggingEnabled>" if target else "")


def _lifecycle(rules: list[LifecycleRule]) -> bytes:
    body = ""
    for rule in rules:
        parts = element("ID", rule.name) + element("Status", "Enabled" if rule.enabled else "Disabled")
        parts += f"<Filter>{element('Prefix', rule.prefix)}{_narrowed(rule)}</Filter>"
        for tag, unit, period in (
            ("Expiration", "Days", rule.expires),
            ("NoncurrentVersionExpiration", "NoncurrentDays", rule.expires_old),
            ("AbortIncompleteMultipartUpload", "DaysAfterInitiation", rule.clears_uploads),
        ):
            parts += f"<{tag}>{element(unit, period // DAY)}</{tag}>" if period else ""
        body += f"<Rule>{parts}</Rule>"
    return document("LifecycleConfiguration", body)


def _narrowed(rule: LifecycleRule) -> str:
    return "<Tag><Key>kind</Key><Value>draft</Value></Tag>" if rule.narrowed == "Tag" else ""


def _website(site: Website) -> bytes:
    redirect = element("HostName", site.redirects_to)
    body = f"<IndexDocument>{element('Suffix', site.index)}</IndexDocument>" if site.index else ""
    body += f"<RedirectAllRequestsTo>{redirect}</RedirectAllRequestsTo>" if site.redirects_to else ""
    return document("WebsiteConfiguration", body)


def _cross_origin(rules: list[CrossOrigin]) -> bytes:
    body = ""
    for rule in rules:
        origins = "".join(element("AllowedOrigin", origin) for origin in rule.origins)
        body += f"<CORSRule>{origins}{''.join(element('AllowedMethod', m) for m in rule.methods)}</CORSRule>"
    return document("CORSConfiguration", body)


def _replication(rules_of: list[ReplicationRule]) -> bytes:
    rules = "".join(
        f"<Rule><Status>Enabled</Status>{'<Prefix>a/</Prefix>' if rule.narrowed else ''}"
        f"<Destination>{element('Bucket', f'arn:aws:s3:::{rule.target}')}"
        f"{element('Account', rule.account) if rule.account else ''}</Destination></Rule>"
        for rule in rules_of
    )
    return document("ReplicationConfiguration", rules)


def _notifications(topics: list[str] | None) -> bytes:
    body = "".join(f"<TopicConfiguration>{element('Topic', name)}</TopicConfiguration>" for name in topics or ())
    return document("NotificationConfiguration", body)


def uploads(bucket: str, pending: Uploads) -> bytes:
    """The unfinished uploads."""
    begun = element("Initiated", stamp(pending.oldest)) if pending.oldest else ""
    entries = "".join(
        f"<Upload>{element('Key', 'unfinished')}{element('UploadId', str(n))}{begun}</Upload>"
        for n in range(pending.count)
    )
    return document("ListMultipartUploadsResult", element("Bucket", bucket) + entries)


def parts(bucket: str, pending: Uploads, upload: str) -> bytes | None:
    """The parts of an unfinished upload: two, of about the same size; None where there is no such upload."""
    if not upload.isdigit() or int(upload) >= pending.count:
        return None
    every = 2 * pending.count
    sizes = [(pending.bytes or 0) * (n + 1) // every - (pending.bytes or 0) * n // every for n in range(every)]
    entries = "".join(
        f"<Part>{element('PartNumber', n + 1)}{element('Size', size)}</Part>"
        for n, size in enumerate(sizes[2 * int(upload) :][:2])
    )
    return document("ListPartsResult", element("Bucket", bucket) + element("UploadId", upload) + entries)


WRITERS: dict[str, tuple[str, Callable[[Any], bytes], str]] = {
    "acl": ("acl", grants_document, "NoSuchAccessList"),
    "ownershipControls": ("ownership", ownership_document, "OwnershipControlsNotFoundError"),
    "policy": ("policy", lambda text: text.encode(), "NoSuchBucketPolicy"),
    "policyStatus": (
        "public_status", lambda public: document("PolicyStatus", element("IsPublic", str(public).lower())),
        "NoSuchBucketPolicy",
    ),
    "publicAccessBlock": ("public_access_guards", guards_document, "NoSuchPublicAccessBlockConfiguration"),
    "versioning": ("versioning", versioning_document, "NoSuchVersioning"),
    "encryption": ("encryption", encryption_document, "ServerSideEncryptionConfigurationNotFoundError"),
    "object-lock": ("lock", lock_document, "ObjectLockConfigurationNotFoundError"),
    "tagging": ("tags", tags_document, "NoSuchTagSet"),
    "logging": ("logging", _logging, "") ,
    "lifecycle": ("lifecycle", _lifecycle, "NoSuchLifecycleConfiguration"),
    "website": ("website", _website, "NoSuchWebsiteConfiguration"),
    "cors": ("cross_origin", _cross_origin, "NoSuchCORSConfiguration"),
    "replication": ("replication", _replication, "ReplicationConfigurationNotFoundError"),
    "notification": ("notifications", _notifications, ""),
    "requestPayment": (
        "requester_pays",
        lambda on: document("RequestPaymentConfiguration", element("Payer", "Requester" if on else "BucketOwner")), "",
    ),
    "accelerate": (
        "transfer_endpoint",
        lambda on: document("AccelerateConfiguration", element("Status", "Enabled" if on else "Suspended")), "",
    ),
    "location": ("region", lambda region: document("LocationConstraint", escape(region)), "NoSuchLocation"),
}  # fmt: skip
"""Sub-resource → the dossier's field, how its value is written, and the code for *not configured*."""
