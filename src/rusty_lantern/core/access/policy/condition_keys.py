"""Condition keys: what kind of value each has, which requests carry it, and whether an outsider controls it.

This is the table that decides `open` or `restricted`. A key is *caller-controlled* when an outsider may send
whatever they like; then it restricts nothing. Any other key has a value that an outsider cannot bring about; what
they would typically carry instead is `outsider` (often: nothing). A key that is *of the bucket* has one value for
every request, and is understood only where that value was read.

Sources: the published list of global condition keys of the policy language, the published list of condition keys of
the S3 actions, and for what requests without credentials carry, the page on each key.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any, Literal

import msgspec

Audience = Literal["anyone", "any-account", "everybody"]
"""`everybody` takes in the team itself: not an audience to be exposed to, but the one that demands are made of."""
AUDIENCES: tuple[Audience, ...] = ("anyone", "any-account")
ARN = "aws:principalarn"
ACCOUNT, SORT, USER = "aws:principalaccount", "aws:principaltype", "aws:username"
"""Keys that say who asks."""
SERVICE_NAME, IS_SERVICE = "aws:principalservicename", "aws:principalisawsservice"
"""Keys that say which service of the provider asks, and whether one does."""
REFERER_HOST = "referer host"
"""The host in the Referer header, by which container ACLs decide; no policy document can name it."""
FORWARDED = "forwarded address"
"""The address that a request says it is forwarded for; without a word of it, where it comes from."""
ADDRESS_PARAMETER, PARAMETER = "address parameter", "parameter/"
"""What a request carries in a parameter of a condition key's own name (`SourceIp`, `username`), which some software
takes for a further value of that key."""
EXISTING_TAG, STORED_TAG = "s3:existingobjecttag/", "stored-tag/"
"""A tag of the object, with the actions that are published for it; and with those that some software has besides."""
SEVERAL = "several at once"
"""Carried by a deletion of several objects at once, which a store may decide otherwise; no policy can name it."""
POINT_ARN, POINT_ACCOUNT = "s3:dataaccesspointarn", "s3:dataaccesspointaccount"
POINT_ORIGIN, POINT_TAG = "s3:accesspointnetworkorigin", "s3:accesspointtag/"
POINT_KEYS = (POINT_ARN, POINT_ACCOUNT, POINT_ORIGIN, POINT_TAG)
"""Keys that look at the access point that a request comes through."""
Kind = Literal["text", "switch", "address", "number", "date", "name"]
Presence = Literal["always", "maybe", "never"]


class ContextKey(msgspec.Struct, frozen=True):
    """One condition key, or a family of them when the name ends in `/`."""

    name: str
    kind: Kind
    caller_controlled: bool
    reason: str
    unsigned: Presence = "maybe"
    """Whether a request without credentials carries it."""
    signed: Presence = "maybe"
    """Whether a request signed by an unrelated account carries it."""
    actions: frozenset[str] = frozenset()
    """The actions whose requests can carry it; empty: all."""
    many: bool = False
    """Whether it carries several values at once."""
    outsider: tuple[str, ...] = ()
    """Values, besides none, that an outsider could bring about for a key that is not caller-controlled."""
    anonymous: str = ""
    """The value that requests without credentials carry, where they carry one that nobody chooses."""
    words: tuple[str, ...] = ()
    """The only values that a request can carry, where the protocol fixes them."""
    whole: bool = False
    """Whether it is a number that counts something: whole, and not below zero."""
    of_bucket: bool = False
    """Whether its value is the bucket's own, the same for every request."""

    def carried(self, audience: Audience) -> Presence:
        """Whether some request by this audience carries the key, whatever it asks for."""
        return self.presence(audience, next(iter(self.actions), ""))

    def presence(self, audience: Audience, action: str) -> Presence:
        """Whether requests for `action` by this audience carry the key."""
        if self.actions and action not in self.actions:
            return "never"
        if audience == "everybody":
            return self.unsigned if self.unsigned == self.signed else "maybe"
        return self.unsigned if audience == "anyone" else self.signed


def _actions(names: str) -> frozenset[str]:
    return frozenset(f"s3:{name}" for name in names.split())


_LISTS = _actions("ListBucket ListBucketVersions")
_PUTS = _actions("PutObject")
_ACL_PUTS = _actions("PutObject PutObjectAcl PutObjectVersionAcl PutBucketAcl")
_TAGGED_PUTS = _actions("PutObject PutObjectTagging PutObjectVersionTagging")
_LOCK_PUTS = _actions("PutObject PutObjectRetention PutObjectLegalHold")
_VERSIONED = _actions(
    "GetObjectVersion GetObjectVersionAcl GetObjectVersionTagging DeleteObjectVersion PutObjectVersionAcl "
    "PutObjectVersionTagging DeleteObjectVersionTagging GetObjectVersionAttributes GetObjectVersionTorrent"
)
_OBJECTS = _actions(
    "GetObject GetObjectVersion GetObjectAcl GetObjectVersionAcl GetObjectTagging GetObjectVersionTagging "
    "PutObjectAcl PutObjectVersionAcl PutObjectTagging PutObjectVersionTagging DeleteObjectTagging "
    "DeleteObjectVersionTagging GetObjectAttributes GetObjectVersionAttributes"
)
_NONE = frozenset({"-"})
"""For keys that belong to actions on something other than a bucket or an object."""

OUTSIDER_ACCOUNT = "909090909090"
"""An account number that stands for any unrelated account; another is taken if a policy names this one."""
OUTSIDER_NAME = f"arn:aws:iam::{OUTSIDER_ACCOUNT}:user/stranger"
"""The resource name of somebody in it, where no name is asked of a caller."""

_HEADER = "a request header, set by the caller"
_PARAMETER, _TAG = "a parameter of the request", "a tag that the object already has"
_NAMED = "a parameter of the condition key's own name, which the sender writes"
_OWN = "an attribute of the caller's own identity, which they set in their own account"
_SESSION = "an attribute of the caller's own session, which a service sets for identities in their own account"
_ENDPOINT = "the private endpoint a request came through; outsiders have only their own"
_SERVICE = "set by a service of the provider that acts on a resource's behalf"
_ORG = "the organisation that the caller's account belongs to; outsiders have at most their own"
_POINT = "the access point that the sender chooses; what it lets in is decided by its own policy"
_INSTANCE = "the grants of access that a request is made by"
_BUCKET = "the bucket's own"
_OTHER = "of an action that addresses no bucket and no object"


def _sent(reason: str, names: str, kind: Kind = "text", **more: Any) -> list[ContextKey]:
    return [ContextKey(name, kind, True, reason, **more) for name in names.split()]


def _not_sent(reason: str, names: str, kind: Kind = "text", **more: Any) -> list[ContextKey]:
    return [ContextKey(name, kind, False, reason, **more) for name in names.split()]


_SIGNED_ONLY: dict[str, Any] = {"unsigned": "never", "signed": "maybe"}
_CANNED = (
    "private", "public-read", "public-read-write", "authenticated-read", "aws-exec-read", "bucket-owner-read",
    "bucket-owner-full-control", "log-delivery-write",
)  # fmt: skip

_CALLER = [
    *_not_sent("the caller's resource name, in their account", "aws:principalarn", "name",
             unsigned="never", signed="always"),
    *_not_sent("the caller's account number; an anonymous request has a fixed word instead",
             "aws:principalaccount", unsigned="always", signed="always", anonymous="anonymous"),
    *_not_sent("what sort of identity the caller is", "aws:principaltype", unsigned="always", signed="always",
             outsider=("Account", "User", "AssumedRole", "FederatedUser"), anonymous="Anonymous"),
    *_not_sent("the caller's unique id, given by the provider", "aws:userid", unsigned="always", signed="always",
             outsider=("AIDASTRANGER00000000X",), anonymous="anonymous"),
    *_sent(_OWN, "aws:username aws:principaltag/", **_SIGNED_ONLY),
    *_sent(_OWN, "aws:multifactorauthpresent", "switch", **_SIGNED_ONLY),
    *_sent(_OWN, "aws:multifactorauthage", "number", whole=True, **_SIGNED_ONLY),
    *_sent(_OWN, "aws:sourceidentity aws:federatedprovider", **_SIGNED_ONLY),
    *_not_sent("when the session's credentials were issued", "aws:tokenissuetime", "date", **_SIGNED_ONLY),
    *_not_sent(_ORG, "aws:principalorgid", outsider=("o-0strange00",), **_SIGNED_ONLY),
    *_not_sent(_ORG, "aws:principalorgpaths", many=True, outsider=("o-0strange00/r-0str/ou-0str-00000000/",),
             **_SIGNED_ONLY),
    *_not_sent(_SERVICE, IS_SERVICE, "switch", unsigned="never", signed="always", outsider=("false",)),
    *_not_sent(_SERVICE, SERVICE_NAME, **_SIGNED_ONLY),
    *_not_sent(_SERVICE, "aws:principalservicenameslist", many=True, **_SIGNED_ONLY),
    *_not_sent("set for a session of an account's root that its organisation's manager opened", "aws:assumedroot",
             "switch", outsider=("false",), **_SIGNED_ONLY),
    *_not_sent(_SESSION, "aws:ec2instancesourcevpc", outsider=("vpc-0strange",), **_SIGNED_ONLY),
    *_sent(_SESSION, "aws:ec2instancesourceprivateipv4", "address", **_SIGNED_ONLY),
    *_sent(_SESSION, "ec2:roledelivery", **_SIGNED_ONLY),
    *_not_sent(_SESSION, "aws:chatbotsourcearn ec2:sourceinstancearn lambda:sourcefunctionarn ssm:sourceinstancearn",
             "name", **_SIGNED_ONLY),
    *_not_sent(_SESSION, "glue:roleassumedby glue:credentialissuingservice identitystore:userid", **_SIGNED_ONLY),
]  # fmt: skip
_ROUTE = [
    *_not_sent("any address of the public Internet; none through a private endpoint", "aws:sourceip", "address"),
    *_not_sent(_ENDPOINT, "aws:sourcevpc", outsider=("vpc-0strange",)),
    *_not_sent(_ENDPOINT, "aws:sourcevpce", outsider=("vpce-0strange",)),
    *_not_sent(_ENDPOINT, "aws:vpceaccount", outsider=(OUTSIDER_ACCOUNT,)),
    *_not_sent(_ENDPOINT, "aws:vpceorgid", outsider=("o-0strange00",)),
    *_not_sent(_ENDPOINT, "aws:vpceorgpaths", many=True, outsider=("o-0strange00/r-0str/ou-0str-00000000/",)),
    *_not_sent(_ENDPOINT, "aws:sourcevpcarn", "name"),
    *_sent("an address in the private network that the request comes from: everybody numbers their own",
             "aws:vpcsourceip", "address"),
    *_sent("the sender chooses https or http", "aws:securetransport", "switch", unsigned="always", signed="always"),
    *_sent("the sender chooses the protocol version", "s3:tlsversion", "number", words=("1.0", "1.1", "1.2", "1.3")),
    *_sent(_POINT, POINT_ARN, "name"),
    *_sent(_POINT, f"{POINT_ACCOUNT} {POINT_ORIGIN} {POINT_TAG}"),
    *_not_sent(_INSTANCE, "s3:accessgrantsinstancearn", "name"),
]  # fmt: skip
_REQUEST = [
    *_sent(_HEADER, "aws:referer aws:useragent"),
    ContextKey(REFERER_HOST, "text", True, "the host in the Referer header, which the sender writes; empty without one",
               unsigned="always", signed="always"),
    ContextKey(SEVERAL, "switch", True, "the caller deletes one object, or several at once", words=("true",),
               actions=_actions("BypassGovernanceRetention DeleteObject DeleteBucket")),
    ContextKey(FORWARDED, "address", True, "an address in a header, which the sender writes", "always", "always"),
    ContextKey(ADDRESS_PARAMETER, "address", True, _NAMED),
    *_sent(_NAMED, PARAMETER),
    *_not_sent(
        "the moment of the request", "aws:currenttime aws:epochtime", "date", unsigned="always", signed="always"
    ),
    *_not_sent(_SERVICE, "aws:viaawsservice", "switch", unsigned="always", signed="always", outsider=("false",)),
    *_not_sent(_SERVICE, "aws:sourceaccount aws:sourceorgid aws:sourceowner aws:calledviafirst aws:calledvialast"),
    *_not_sent(_SERVICE, "aws:sourcearn", "name"),
    *_not_sent(_SERVICE, "aws:calledvia aws:sourceorgpaths", many=True),
    *_sent("a tag sent with the request", "aws:requesttag/", actions=_actions("PutBucketTagging")),
    *_sent("tags sent with the request", "aws:tagkeys", actions=_actions("PutBucketTagging"), many=True),
]  # fmt: skip
_OF_BUCKET = [
    *_not_sent(f"{_BUCKET} account", "aws:resourceaccount s3:resourceaccount", of_bucket=True),
    *_not_sent(f"{_BUCKET} region", "aws:requestedregion", of_bucket=True),
    *_not_sent(f"{_BUCKET} organisation", "aws:resourceorgid aws:resourceorgpaths", of_bucket=True),
    *_not_sent(f"{_BUCKET} tag", "aws:resourcetag/ s3:buckettag/", of_bucket=True),
]
_LISTING = [
    *_sent("a parameter of the listing", "s3:prefix s3:delimiter", actions=_LISTS),
    *_sent("a parameter of the listing", "s3:max-keys", "number", actions=_LISTS, whole=True),
    *_sent(_PARAMETER, "s3:versionid", actions=_VERSIONED),
]
_OBJECT = [
    *_not_sent(_TAG, EXISTING_TAG, actions=_OBJECTS),
    *_not_sent(f"{_TAG}, in requests for which only some software looks at it", STORED_TAG),
    *_sent("a tag sent with the upload", "s3:requestobjecttag/", actions=_TAGGED_PUTS),
    *_sent("tags sent with the upload", "s3:requestobjecttagkeys", actions=_TAGGED_PUTS, many=True),
    *_sent(_HEADER, "s3:x-amz-acl", actions=_ACL_PUTS, words=_CANNED),
    *_sent(
        _HEADER,
        "s3:x-amz-grant-read s3:x-amz-grant-write s3:x-amz-grant-read-acp s3:x-amz-grant-write-acp "
        "s3:x-amz-grant-full-control",
        actions=_ACL_PUTS,
    ),
    *_sent(_HEADER, "s3:x-amz-copy-source s3:x-amz-server-side-encryption s3:x-amz-storage-class", actions=_PUTS),
    *_sent(_HEADER, "s3:x-amz-metadata-directive", actions=_PUTS, words=("COPY", "REPLACE")),
    *_sent(
        _HEADER,
        "s3:x-amz-server-side-encryption-aws-kms-key-id s3:x-amz-website-redirect-location s3:if-match "
        "s3:if-none-match",
        actions=_PUTS,
    ),
    *_sent(_HEADER, "s3:x-amz-server-side-encryption-customer-algorithm", actions=_PUTS, words=("AES256",)),
    *_sent("whether the upload is in one piece or in parts", "s3:objectcreationoperation", "switch", actions=_PUTS),
    *_sent(_HEADER, "s3:object-lock-mode", actions=_LOCK_PUTS, words=("GOVERNANCE", "COMPLIANCE")),
    *_sent(_HEADER, "s3:object-lock-legal-hold", actions=_LOCK_PUTS, words=("ON", "OFF")),
    *_sent(_HEADER, "s3:object-lock-retain-until-date", "date", actions=_LOCK_PUTS),
    *_sent(_HEADER, "s3:object-lock-remaining-retention-days", "number", actions=_LOCK_PUTS, whole=True),
]
_SIGNING = [
    *_sent(_HEADER, "s3:x-amz-content-sha256"),
    *_sent("the sender chooses how to sign", "s3:authtype", unsigned="never", signed="always",
             words=("REST-HEADER", "REST-QUERY-STRING", "POST")),
    *_sent("the sender chooses how to sign", "s3:signatureversion", unsigned="never", signed="always",
             words=("AWS", "AWS4-HMAC-SHA256")),
    *_sent("the sender chooses when to sign", "s3:signatureage", "number", whole=True, **_SIGNED_ONLY),
]  # fmt: skip
_ELSEWHERE = [
    *_sent(_PARAMETER, "s3:x-amz-object-ownership s3:locationconstraint", actions=_NONE),
    *_not_sent(
        _OTHER,
        "s3:existingjoboperation s3:existingjobpriority s3:jobsuspendedcause s3:requestjoboperation "
        "s3:requestjobpriority s3:destinationregion s3:isreplicationpauserequest",
        actions=_NONE,
    ),
    *_sent(_PARAMETER, "s3:inventoryaccessibleoptionalfields", actions=_actions("PutInventoryConfiguration"),
             many=True),
]  # fmt: skip
_ROWS: tuple[ContextKey, ...] = (
    *_ROUTE, *_REQUEST, *_CALLER, *_OF_BUCKET, *_LISTING, *_OBJECT, *_SIGNING, *_ELSEWHERE,
)  # fmt: skip
SENT = "sent "
"""Before the name of a key that only some requests are published to carry: the same key in any request that sends it,
as some software looks at it."""
_SENT_WITH_ANY = tuple(
    msgspec.structs.replace(row, name=SENT + row.name, actions=frozenset(), words=())
    for row in _ROWS
    if row.actions and row.caller_controlled and not row.name.endswith("/")
)
KEYS = {row.name: row for row in (*_ROWS, *_SENT_WITH_ANY)}


def context_key(name: str) -> ContextKey | None:
    """The row for a condition key as `key_name` writes it, or None if the key is not understood."""
    family, slash, word = name.partition("/")
    return KEYS.get(name) if not slash else (KEYS.get(family + "/") if word else None)


SORTS = ((":root", "Account"), (":user/", "User"), (":role/", "AssumedRole"), (":federated-user/", "FederatedUser"))
"""A word in a caller's resource name → what sort of identity it is (`aws:PrincipalType`)."""


def always_carried(*, anonymous: bool, arn: str = "") -> dict[str, tuple[str, ...]]:
    """What every request carries by itself, as far as it follows from its caller."""
    return dict(_UNSIGNED if anonymous else _carried_by(arn))


@lru_cache(maxsize=1_024)
def _carried_by(arn: str) -> dict[str, tuple[str, ...]]:
    """What signed requests of this caller carry; to be copied."""
    sort = next((sort for part, sort in SORTS if part in arn), "")
    named = {"aws:username": (arn.rpartition("/")[2].partition(":")[0],)} if sort == "User" else {}
    return _SIGNED | named | ({"aws:principaltype": (sort,)} if sort else {})


_UNSIGNED = (
    {row.name: (row.anonymous,) for row in _ROWS if row.anonymous}
    | {row.name: row.outsider for row in _ROWS if row.kind == "switch" and row.outsider and row.unsigned == "always"}
    | {REFERER_HOST: ("",)}
)
_SIGNED = {
    row.name: row.outsider for row in _ROWS if row.kind == "switch" and row.outsider and row.signed == "always"
} | {REFERER_HOST: ("",), "s3:authtype": ("REST-HEADER",), "s3:signatureversion": ("AWS4-HMAC-SHA256",)}


RESTRICTION_ACCOUNTS = 10**8
"""Beyond this many of the 10^12 account numbers, a pattern of accounts is no restriction: of ten thousand accounts that
somebody opens, one is likely to fit."""
