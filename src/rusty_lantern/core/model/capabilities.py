"""What each way to read a store can show, as data: the rest of the program knows no protocol, only these rows.

A field of a bucket or store that a protocol does not have is `unsupported`; one that another service beside the store
could show is *not read*, which is unknown. A new kind of store is a row of `PROTOCOLS` and a reader (`stores.reader`).
"""

from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import Answer

FIELD_WORDS = {
    "created": "creation date",
    "region": "region",
    "owner": "owner",
    "tenant": "tenant",
    "acl": "ACLs",
    "ownership": "ownership mode",
    "object_acls": "objects' own ACLs",
    "policy": "access policies",
    "container_acl": "container ACLs",
    "temporary_url_key": "keys of temporary URLs",
    "synchronization_key": "keys of synchronization",
    "owner_acl": "account ACLs of owners",
    "differs_by_door": "differences between doors",
    "rights": "rights and access levels",
    "granted_by": "how rights are given",
    "network": "network rules",
    "public_status": "the store's own public status",
    "public_access_guards": "public-access guards",
    "access_points": "access points",
    "versioning": "versioning",
    "encryption": "default encryption",
    "lock": "object lock and retention",
    "tags": "tags",
    "usage": "objects and bytes (listing)",
    "counters": "objects and bytes (counters)",
    "quota": "quota",
    "versions": "old versions",
    "uploads": "unfinished uploads",
    "soft_delete": "soft delete",
    "bounds": "bounds of retention",
    "tier": "tier",
    "accepts": "accepted uploads",
    "scanned": "malware scan",
    "project": "project",
    "division": "division",
    "scheduled_deletion": "scheduled deletion",
    "logging": "access logging",
    "lifecycle": "expiry rules",
    "website": "web hosting",
    "cross_origin": "cross-origin rules",
    "replication": "replication",
    "notifications": "notifications",
    "requester_pays": "who pays",
    "transfer_endpoint": "transfer endpoint",
    "enabled": "whether it is switched on",
    "redundancy": "redundancy",
    "compression": "compression",
    "legal_hold": "legal hold",
    "leased": "leases",
    "link_policies": "policies of share links",
}
"""How people read the name of each thing that can be asked about a bucket."""

COMMON_HEADERS = (
    "date", "retry-after", "location", "content-", "cache-control", "expires", "etag", "last-modified",
)  # fmt: skip
"""Names, or beginnings of names, of headers that describe a bucket or an object in every protocol over HTTP."""


class Capabilities(msgspec.Struct, frozen=True):
    """One way to read a store: what it shows, and what the rest of the program has to know about it."""

    protocol: str
    """The word after `reads:` in estate.yaml."""
    tells: frozenset[str]
    """The fields of a bucket that can be asked for."""
    tells_of_store: frozenset[str] = frozenset()
    """The fields of the store as a whole that can be asked for."""
    elsewhere: tuple[tuple[str, str], ...] = ()
    """Fields of the store that the protocol does not show and another source could: field → why it was not read."""
    headers: tuple[str, ...] = ()
    """Beginnings of the names of response headers that describe something, besides `COMMON_HEADERS`."""
    passing_headers: tuple[str, ...] = ()
    """Headers that begin so and name one answer only."""
    address: Literal["url", "url or file", "documents"] = "url"
    needs_credential: bool = True
    elsewhere_of_bucket: tuple[tuple[str, str], ...] = ()
    """The same of a bucket's fields."""
    credential: Literal["access-key", "swift", "blob"] = "access-key"
    """What sort of credential is shown to it."""
    documents: Literal["", "s3"] = ""
    """The form of the documents that put settings right; empty where words have to do."""
    probes: bool = True
    """Whether it can be asked without credentials."""
    objects_expire: bool = False
    """Whether an object may say itself when it is removed; only inspecting it shows."""

    def of_bucket(self) -> dict[str, Answer[Any]]:
        """What a bucket's fields are before anything is asked: those that the protocol does not have are settled."""
        fields: dict[str, Answer[Any]] = dict.fromkeys(FIELD_WORDS.keys() - self.tells, Answer("unsupported"))
        return fields | {name: Answer("failed", None, note) for name, note in self.elsewhere_of_bucket}

    def of_store(self) -> dict[str, Answer[Any]]:
        """The same of the store's fields."""
        fields: dict[str, Answer[Any]] = dict.fromkeys(_STORE_FIELDS - self.tells_of_store, Answer("unsupported"))
        return fields | {name: Answer("failed", None, note) for name, note in self.elsewhere}

    def keeps(self, header: str) -> bool:
        """Whether a response header describes something, so that a survey that resumes needs it."""
        return header.startswith(COMMON_HEADERS + self.headers) and header not in self.passing_headers


_STORE_FIELDS = frozenset({
    "account", "public_access_guards", "identities", "groups", "credentials", "encryption_keys", "service", "links",
    "network", "certificate", "plain_http", "legacy_signatures", "account_acl", "doors", "temporary_url_key",
    "minimum_tls", "shared_keys", "bucket_soft_delete",
})  # fmt: skip

STORE_FIELD_WORDS = {
    "identities": "identities",
    "groups": "groups",
    "credentials": "access keys",
    "encryption_keys": "encryption keys",
    "service": "the store's own service identity",
    "links": "share links",
    "public_access_guards": "public-access guards of the account",
    "network": "network rules of the account",
    "minimum_tls": "the oldest TLS that is accepted",
    "shared_keys": "whether keys of the account are accepted",
    "bucket_soft_delete": "soft delete of buckets",
}
"""How people read the name of each thing about a store as a whole that another source could tell."""

_NO_SERVICE = "not asked: estate.yaml names no identity service of the store"
_BY_MANAGEMENT = "only the account's management side has it: an export of its settings beside the store can say it"
_NO_DOSSIER = "the protocol does not show it; a dossier beside the store can"
BESIDE = (
    *((name, _NO_SERVICE) for name in ("identities", "groups", "credentials")),
    *((name, _NO_DOSSIER) for name in ("encryption_keys", "service", "links")),
)
"""What an identity service, or a dossier beside the store, can say about a store."""

S3 = Capabilities(
    "s3",
    tells=frozenset({
        "created", "region", "owner", "tenant", "acl", "ownership", "object_acls", "policy", "public_status",
        "public_access_guards", "versioning", "encryption", "lock", "tags", "usage", "counters", "quota", "versions",
        "uploads", "logging", "lifecycle", "website", "cross_origin", "replication", "notifications", "requester_pays",
        "transfer_endpoint", "container_acl",
    }),
    tells_of_store=frozenset({
        "account", "public_access_guards", "certificate", "plain_http", "legacy_signatures", "account_acl", "doors",
    }),
    elsewhere=BESIDE,
    headers=("x-amz-", "x-rgw-", "access-control-allow-origin", "tus-resumable"),
    passing_headers=("x-amz-request-id", "x-amz-id-2"),
    documents="s3",
)  # fmt: skip
DOSSIER = Capabilities(
    "dossier",
    tells=frozenset(FIELD_WORDS),
    tells_of_store=_STORE_FIELDS,
    address="url or file",
    needs_credential=False,
    probes=False,
)
EXPORT = msgspec.structs.replace(DOSSIER, protocol="export", address="documents")

SWIFT = Capabilities(
    "swift",
    tells=frozenset({
        "created", "owner", "container_acl", "versioning", "tier", "quota", "website", "cross_origin", "replication",
        "temporary_url_key", "synchronization_key", "tags", "usage", "counters", "versions", "encryption",
    }),
    tells_of_store=frozenset({"account", "account_acl", "temporary_url_key", "doors"}),
    elsewhere=BESIDE,
    credential="swift",
    objects_expire=True,
    headers=(
        "x-container-", "x-account-", "x-versions-", "x-history-", "x-storage-policy", "x-object-", "x-delete-at",
        "x-timestamp", "x-static-large-object", "x-symlink-",
    ),
)  # fmt: skip

BLOB = Capabilities(
    "blob",
    tells=frozenset({
        "owner", "rights", "granted_by", "encryption", "lock", "legal_hold", "leased", "tags", "usage", "versions",
        "soft_delete", "logging", "website", "cross_origin", "link_policies", "redundancy",
    }),
    tells_of_store=frozenset({"account"}),
    elsewhere=(
        *BESIDE,
        *((name, _BY_MANAGEMENT) for name in (
            "public_access_guards", "network", "minimum_tls", "shared_keys", "bucket_soft_delete",
        )),
    ),
    elsewhere_of_bucket=(
        *((name, _BY_MANAGEMENT) for name in (
            "versioning", "region", "tier", "lifecycle", "replication", "notifications",
        )),
        ("uploads", "not asked for: the service itself removes them after a week"),
    ),
    headers=("x-ms-",),
    passing_headers=("x-ms-request-id", "x-ms-client-request-id"),
    credential="blob",
)  # fmt: skip

PROTOCOLS: dict[str, Capabilities] = {one.protocol: one for one in (S3, SWIFT, BLOB, DOSSIER, EXPORT)}
"""Every way to read a store, by its name in estate.yaml."""


def objects_expire(protocol: str) -> bool:
    """Whether objects in a store of this protocol may say themselves when they are removed."""
    return protocol in PROTOCOLS and PROTOCOLS[protocol].objects_expire
