"""The table of settings questions: sub-resource → expected answer → field of the dossier.

Stores differ in how they answer what they do not know. Seen in practice, and handled here once: a listing of the
bucket with status 200; 405 and 501 with a code; a 404 with a code of their own; a root element named differently that
holds the expected children.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from rusty_lantern.core.model.acl import Grant, Permission, named_grant
from rusty_lantern.core.model.bucket import (
    CrossOrigin,
    Encryption,
    Lock,
    Logging,
    Ownership,
    Versioning,
    Website,
)
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.value_types import DAY, YEAR
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.xml import Element, child, children, name, raw_text, switch, text
from rusty_lantern.stores.s3.rule_documents import lifecycle, notifications, number, replication


@dataclass(frozen=True, slots=True)
class Question:
    """One settings question: the dossier field it fills, the sub-resource asked, and how its answer reads.

    `decode` makes a value of the root element, or None where nothing is configured.
    """

    field: str
    ask: str
    roots: frozenset[str]
    decode: Callable[[Element], Any]
    parts: frozenset[str] = frozenset()
    """Children by which an answer is recognised though its root has another name."""
    none: str = ""
    """The word by which the code of a 404 says that no such thing is configured; empty where something always is."""

    def answered_by(self, root: Element) -> bool:
        """Whether a document with this root answers the question, and no other."""
        return name(root) in self.roots or any(name(part) in self.parts for part in root)


def _grants(root: Element) -> list[Grant]:
    grants = []
    listed = child(root, "AccessControlList")
    for entry in children(listed if listed is not None else root, "Grant"):
        who = child(entry, "Grantee")
        permission = text(entry, "Permission").lower().replace("_", "-")
        if who is None or permission not in ("read", "write", "read-acp", "write-acp", "full-control"):
            raise RequestFailed("failed", f'an ACL grant of "{permission[:40]}" is not understood')
        grants.append(_grant(who, permission))  # type: ignore[arg-type]
    return grants


def with_owners(acl: list[Grant], root: Element) -> list[Grant]:
    """An object's ACL with what it does not say: whoever owns the object may read its ACL, and replace it. Tried on a
    gateway 16.2: `tests/test_gateway_logins.py`."""
    who = child(root, "Owner")
    owner = text(who, "ID") if who is not None else ""
    if not owner or named_grant(owner, "full-control") in acl:
        return acl
    return [*acl, *(named_grant(owner, permission) for permission in _OF_OWNERS)]


_OF_OWNERS: tuple[Permission, ...] = ("read-acp", "write-acp")
_GROUPS = {
    "global/AllUsers": "anyone",
    "global/AuthenticatedUsers": "any-account",
    "s3/LogDelivery": "log-delivery",
}


def _grant(who: Element, permission: Permission) -> Grant:
    uri = text(who, "URI")
    for ending, to in _GROUPS.items():
        if uri.endswith(ending):
            return Grant(to, permission)  # type: ignore[arg-type]
    if uri:
        raise RequestFailed("failed", f'an ACL grant to the group "{uri[:80]}" is not understood')
    return named_grant(text(who, "ID") or text(who, "EmailAddress"), permission)


def guards_in(root: Element) -> Guards:
    """The four public-access guards in a document. Raises `RequestFailed`."""
    return Guards(
        switch(root, "BlockPublicAcls"),
        switch(root, "IgnorePublicAcls"),
        switch(root, "BlockPublicPolicy"),
        switch(root, "RestrictPublicBuckets"),
    )


_OWNERSHIP: dict[str, Ownership] = {
    "BucketOwnerEnforced": "bucket-owner-enforced",
    "BucketOwnerPreferred": "bucket-owner-preferred",
    "ObjectWriter": "object-writer",
}


def _ownership(root: Element) -> Ownership:
    mode = text(root, "Rule", "ObjectOwnership")
    if mode not in _OWNERSHIP:
        raise RequestFailed("failed", f'the ownership mode "{mode[:40]}" is not understood')
    return _OWNERSHIP[mode]


def _versioning(root: Element) -> Versioning:
    state = text(root, "Status")
    if state not in ("", "Enabled", "Suspended"):
        raise RequestFailed("failed", f'the versioning state "{state[:40]}" is not understood')
    return Versioning(
        {"": "never", "Enabled": "on", "Suspended": "suspended"}[state],  # type: ignore[arg-type]
        text(root, "MfaDelete") == "Enabled",
    )


def _encryption(root: Element) -> Encryption:
    rule = child(root, "Rule")
    default = child(rule, "ApplyServerSideEncryptionByDefault") if rule is not None else None
    if default is None:
        raise RequestFailed("failed", "the answer names no default encryption")
    algorithm, key = text(default, "SSEAlgorithm"), text(default, "KMSMasterKeyID")
    blocked = child(rule, "BlockedEncryptionTypes") if rule is not None else None
    types = {one.text for one in children(blocked, "EncryptionType")} if blocked is not None else set()
    return Encryption(_keeper(algorithm, key), algorithm, key, customer_provided_refused="SSE-C" in types)


def _keeper(algorithm: str, key: str) -> Literal["", "provider-managed", "customer-managed"]:
    """Who keeps the key. Where a key service is used and no key is named, it is the store's own default key there; keys
    whose alias begins with the service's own name are the provider's too."""
    if algorithm == "AES256":
        return "provider-managed"
    if not algorithm.startswith("aws:kms"):
        return ""
    return "provider-managed" if not key or "alias/aws/" in key else "customer-managed"


def _lock(root: Element) -> Lock:
    default = child(root, "Rule")
    default = child(default, "DefaultRetention") if default is not None else None
    enabled = text(root, "ObjectLockEnabled") == "Enabled"
    if default is None:
        return Lock(enabled)
    mode = text(default, "Mode").lower()
    if mode not in ("governance", "compliance"):
        raise RequestFailed("failed", f'the retention mode "{mode[:40]}" is not understood')
    days, years = (number(text(default, unit)) for unit in ("Days", "Years"))
    return Lock(enabled, mode, days * DAY + years * YEAR)  # type: ignore[arg-type]


def _tags(root: Element) -> dict[str, str]:
    tag_set = child(root, "TagSet")
    tags = children(tag_set, "Tag") if tag_set is not None else iter(())
    return {raw_text(tag, "Key"): raw_text(tag, "Value") for tag in tags}


def _logging(root: Element) -> Logging | None:
    enabled = child(root, "LoggingEnabled")
    return Logging(text(enabled, "TargetBucket"), text(enabled, "TargetPrefix")) if enabled is not None else None


def _website(root: Element) -> Website:
    routed = child(root, "RoutingRules")
    rules = children(routed, "RoutingRule") if routed is not None else ()
    hosts = [text(root, "RedirectAllRequestsTo", "HostName"), *(text(rule, "Redirect", "HostName") for rule in rules)]
    return Website(text(root, "IndexDocument", "Suffix"), ", ".join(dict.fromkeys(filter(None, hosts))))


def _cross_origin(root: Element) -> list[CrossOrigin]:
    return [
        CrossOrigin(
            [one.text or "" for one in children(rule, "AllowedOrigin")],
            [one.text or "" for one in children(rule, "AllowedMethod")],
        )
        for rule in children(root, "CORSRule")
    ]


QUESTIONS: tuple[Question, ...] = (
    Question(
        "owner", "acl", frozenset({"AccessControlPolicy"}), lambda root: text(root, "Owner", "ID") or None,
        frozenset({"AccessControlList"}),
    ),
    Question(
        "logging", "logging", frozenset({"BucketLoggingStatus"}), _logging, frozenset({"LoggingEnabled"})
    ),
    Question(
        "lifecycle", "lifecycle", frozenset({"LifecycleConfiguration"}), lifecycle, frozenset({"Rule"}), "Lifecycle"
    ),
    Question(
        "website", "website", frozenset({"WebsiteConfiguration"}), _website, frozenset({"IndexDocument"}), "Website"
    ),
    Question(
        "cross_origin", "cors", frozenset({"CORSConfiguration"}), _cross_origin, frozenset({"CORSRule"}), "CORS"
    ),
    Question(
        "replication", "replication", frozenset({"ReplicationConfiguration"}), replication, none="Replication"
    ),
    Question(
        "notifications", "notification",
        frozenset({"NotificationConfiguration", "GetBucketNotificationResponse"}), notifications, none="Notification",
    ),
    Question(
        "requester_pays", "requestPayment", frozenset({"RequestPaymentConfiguration"}),
        lambda root: text(root, "Payer") == "Requester", frozenset({"Payer"}),
    ),
    Question(
        "transfer_endpoint", "accelerate",
        frozenset({"AccelerateConfiguration", "GetBucketAccelerateConfigurationResponse"}),
        lambda root: text(root, "Status") == "Enabled", none="Accelerat",
    ),
    Question("acl", "acl", frozenset({"AccessControlPolicy"}), _grants, frozenset({"AccessControlList"})),
    Question(
        "ownership", "ownershipControls", frozenset({"OwnershipControls"}), _ownership, frozenset({"Rule"}), "Ownership"
    ),
    Question("policy", "policy", frozenset(), name, none="Policy"),
    Question(
        "public_status", "policyStatus", frozenset({"PolicyStatus"}), lambda root: switch(root, "IsPublic"),
        frozenset({"IsPublic"}), "Policy",
    ),
    Question(
        "public_access_guards", "publicAccessBlock", frozenset({"PublicAccessBlockConfiguration"}), guards_in,
        frozenset({"BlockPublicAcls"}), "PublicAccessBlock",
    ),
    Question(
        "versioning", "versioning", frozenset({"VersioningConfiguration", "GetBucketVersioningResponse"}),
        _versioning, frozenset({"Status"}),
    ),
    Question(
        "encryption", "encryption", frozenset({"ServerSideEncryptionConfiguration"}), _encryption, frozenset({"Rule"}),
        "Encryption",
    ),
    Question(
        "lock", "object-lock", frozenset({"ObjectLockConfiguration"}), _lock, frozenset({"ObjectLockEnabled"}),
        "ObjectLock",
    ),
    Question("tags", "tagging", frozenset({"Tagging"}), _tags, frozenset({"TagSet"}), "TagSet"),
    Question(
        "region", "location", frozenset({"LocationConstraint", "CreateBucketConfiguration"}),
        lambda root: (text(root, "LocationConstraint") or root.text or "").strip() or "default",
    ),
)  # fmt: skip

ACCOUNT_GUARDS = Question(
    "public_access_guards",
    "publicAccessBlock",
    frozenset({"PublicAccessBlockConfiguration"}),
    guards_in,
    frozenset({"BlockPublicAcls"}),
    "PublicAccessBlock",
)
ACCOUNT_GUARDS_PATH = "/v20180820/configuration/publicAccessBlock"
