"""The answers of the S3-compatible protocol, written from a dossier: the mirror image of the reader's table."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any
from xml.sax.saxutils import escape

from rusty_lantern.core.dossier import (
    Bucket,
    CrossOrigin,
    Encryption,
    Grant,
    Guards,
    LifecycleRule,
    Lock,
    Logging,
    Uploads,
    Versioning,
    Versions,
    Website,
)
from rusty_lantern.core.scales import DAY, YEAR
from rusty_lantern.standin.holdings import Thing

NAMESPACE = "http://s3.amazonaws.com/doc/2006-03-01/"
GROUPS = "http://acs.amazonaws.com/groups/"


def document(root: str, body: str) -> bytes:
    """An answer with this root element."""
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<{root} xmlns="{NAMESPACE}">{body}</{root}>'.encode()


def element(tag: str, value: object) -> str:
    """One element with text in it."""
    return f"<{tag}>{escape(str(value))}</{tag}>"


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


def listing(bucket: str, page: list[Thing], token: str) -> bytes:
    """One page of a listing; `token` leads to the next, if there is one."""
    body = element("Name", bucket) + element("KeyCount", len(page)) + element("IsTruncated", str(bool(token)).lower())
    body += element("NextContinuationToken", token) if token else ""
    for thing in page:
        fields = (
            element("Key", thing.key) + element("LastModified", stamp(thing.modified)) + element("Size", thing.size)
        )
        body += f"<Contents>{fields}</Contents>"
    return document("ListBucketResult", body)


def _grants(grants: list[Grant]) -> bytes:
    uris = {"anyone": "global/AllUsers", "any-account": "global/AuthenticatedUsers", "log-delivery": "s3/LogDelivery"}
    entries = ""
    for grant in grants:
        who = element("URI", GROUPS + uris[grant.to]) if grant.to in uris else element("ID", grant.identity)
        permission = grant.permission.upper().replace("-", "_")
        entries += f"<Grant><Grantee>{who}</Grantee>{element('Permission', permission)}</Grant>"
    owner = next((grant.identity for grant in grants if grant.to == "named"), "")
    return document(
        "AccessControlPolicy", f"<Owner>{element('ID', owner)}</Owner><AccessControlList>{entries}</AccessControlList>"
    )


def guards_answer(guards: Guards) -> bytes:
    """The four public-access guards."""
    switches = {
        "BlockPublicAcls": guards.refuse_new_grants,
        "IgnorePublicAcls": guards.ignore_grants,
        "BlockPublicPolicy": guards.refuse_new_policy,
        "RestrictPublicBuckets": guards.restrict_policy,
    }
    body = "".join(element(tag, str(on).lower()) for tag, on in switches.items())
    return document("PublicAccessBlockConfiguration", body)


def _ownership(mode: str) -> bytes:
    name = "".join(part.capitalize() for part in mode.split("-"))
    return document("OwnershipControls", f"<Rule>{element('ObjectOwnership', name)}</Rule>")


def _versioning(versioning: Versioning) -> bytes:
    words = {"never": "", "on": element("Status", "Enabled"), "suspended": element("Status", "Suspended")}
    second = element("MfaDelete", "Enabled") if versioning.second_factor else ""
    return document("VersioningConfiguration", words[versioning.state] + second)


def _encryption(encryption: Encryption) -> bytes:
    body = element("SSEAlgorithm", encryption.algorithm)
    body += element("KMSMasterKeyID", encryption.key) if encryption.key else ""
    default = f"<ApplyServerSideEncryptionByDefault>{body}</ApplyServerSideEncryptionByDefault>"
    return document("ServerSideEncryptionConfiguration", f"<Rule>{default}</Rule>")


def _lock(lock: Lock) -> bytes:
    body = element("ObjectLockEnabled", "Enabled") if lock.enabled else ""
    if lock.mode:
        years, days = divmod(lock.keep, YEAR)
        period = element("Years", years) if not days else element("Days", lock.keep // DAY)
        default = element("Mode", lock.mode.upper()) + period
        body += f"<Rule><DefaultRetention>{default}</DefaultRetention></Rule>"
    return document("ObjectLockConfiguration", body)


def _tags(tags: dict[str, str]) -> bytes:
    entries = "".join(f"<Tag>{element('Key', key)}{element('Value', value)}</Tag>" for key, value in tags.items())
    return document("Tagging", f"<TagSet>{entries}</TagSet>")


def _logging(logging: Logging | None) -> bytes:
    target = logging and element("TargetBucket", logging.target) + element("TargetPrefix", logging.prefix)
    return document("BucketLoggingStatus", f"<LoggingEnabled>{target}</LoggingEnabled>" if target else "")


def _lifecycle(rules: list[LifecycleRule]) -> bytes:
    body = ""
    for rule in rules:
        parts = element("ID", rule.name) + element("Status", "Enabled" if rule.enabled else "Disabled")
        parts += f"<Filter>{element('Prefix', rule.prefix)}</Filter>"
        for tag, unit, period in (
            ("Expiration", "Days", rule.expires),
            ("NoncurrentVersionExpiration", "NoncurrentDays", rule.expires_old),
            ("AbortIncompleteMultipartUpload", "DaysAfterInitiation", rule.clears_uploads),
        ):
            parts += f"<{tag}>{element(unit, period // DAY)}</{tag}>" if period else ""
        body += f"<Rule>{parts}</Rule>"
    return document("LifecycleConfiguration", body)


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


def _replication(targets: list[str]) -> bytes:
    rules = "".join(
        f"<Rule><Status>Enabled</Status><Destination>{element('Bucket', f'arn:aws:s3:::{to}')}</Destination></Rule>"
        for to in targets
    )
    return document("ReplicationConfiguration", rules)


def _notifications(told: list[str] | None) -> bytes:
    body = "".join(f"<TopicConfiguration>{element('Topic', name)}</TopicConfiguration>" for name in told or ())
    return document("NotificationConfiguration", body)


def versions(bucket: str, found: Versions, page: list[Thing], token: str) -> bytes:
    """One page of versions; the bucket's old ones and its delete markers stand on the last."""
    body = element("Name", bucket) + element("IsTruncated", str(bool(token)).lower())
    body += element("NextKeyMarker", token) if token else ""
    for thing in page:
        body += _version(thing.key, "true", thing.size)
    if not token:
        share, rest = divmod(found.old_bytes, found.old) if found.old else (0, 0)
        body += "".join(_version("old", "false", share + (0 if n else rest)) for n in range(found.old))
        body += f"<DeleteMarker>{element('Key', 'old')}</DeleteMarker>" * found.markers
    return document("ListVersionsResult", body)


def _version(key: str, latest: str, size: int) -> str:
    return f"<Version>{element('Key', key)}{element('IsLatest', latest)}{element('Size', size)}</Version>"


def uploads(bucket: str, found: Uploads) -> bytes:
    """The unfinished uploads."""
    begun = element("Initiated", stamp(found.oldest)) if found.oldest else ""
    entries = f"<Upload>{element('Key', 'unfinished')}{begun}</Upload>" * found.count
    return document("ListMultipartUploadsResult", element("Bucket", bucket) + entries)


WRITERS: dict[str, tuple[str, Callable[[Any], bytes], str]] = {
    "acl": ("grants", _grants, "NoSuchAccessList"),
    "ownershipControls": ("ownership", _ownership, "OwnershipControlsNotFoundError"),
    "policy": ("policy", lambda text: text.encode(), "NoSuchBucketPolicy"),
    "policyStatus": (
        "public_status", lambda public: document("PolicyStatus", element("IsPublic", str(public).lower())),
        "NoSuchBucketPolicy",
    ),
    "publicAccessBlock": ("guards", guards_answer, "NoSuchPublicAccessBlockConfiguration"),
    "versioning": ("versioning", _versioning, "NoSuchVersioning"),
    "encryption": ("encryption", _encryption, "ServerSideEncryptionConfigurationNotFoundError"),
    "object-lock": ("lock", _lock, "ObjectLockConfigurationNotFoundError"),
    "tagging": ("tags", _tags, "NoSuchTagSet"),
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
    "location": ("place", lambda place: document("LocationConstraint", escape(place)), "NoSuchLocation"),
}  # fmt: skip
"""Sub-resource → the dossier's field, how its value is written, and the code for *not configured*."""
