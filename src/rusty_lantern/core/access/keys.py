"""Condition keys: what kind of value each has, which requests carry it, and whether an outsider controls it.

This is the table that decides `open` or `narrow`. A key is *theirs* when an outsider may send whatever they
like; then it fences nothing. A key that is not theirs has a value that an outsider cannot bring about; what
they would typically carry instead is `stranger` (often: nothing).
"""

from __future__ import annotations

from typing import Literal

import msgspec

Audience = Literal["anyone", "any-account", "everybody"]
"""`everybody` takes in the team itself: not an audience to be exposed to, but the one that demands are made of."""
AUDIENCES: tuple[Audience, ...] = ("anyone", "any-account")
Kind = Literal["text", "switch", "address", "number", "date", "name"]
Presence = Literal["always", "maybe", "never"]


class ContextKey(msgspec.Struct, frozen=True):
    """One condition key, or a family of them when the name ends in `/`."""

    name: str
    kind: Kind
    theirs: bool
    reason: str
    unsigned: Presence = "maybe"
    """Whether a request without credentials carries it."""
    signed: Presence = "maybe"
    """Whether a request signed by an unrelated account carries it."""
    actions: frozenset[str] = frozenset()
    """The actions whose requests can carry it; empty: all."""
    many: bool = False
    """Whether it carries several values at once."""
    stranger: tuple[str, ...] = ()
    """Values, besides none, that an outsider could bring about for a key that is not theirs."""

    anonymous: str = ""
    """The value that requests without credentials carry, where they carry one that nobody chooses."""

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
    "PutObjectVersionTagging DeleteObjectVersionTagging GetObjectVersionAttributes"
)
_OBJECTS = _actions(
    "GetObject GetObjectVersion GetObjectAcl GetObjectVersionAcl GetObjectTagging GetObjectVersionTagging "
    "PutObjectAcl PutObjectVersionAcl PutObjectTagging PutObjectVersionTagging DeleteObjectTagging "
    "DeleteObjectVersionTagging"
)

STRANGER_ACCOUNT = "909090909090"
"""An account number that stands for any unrelated account; another is taken if a policy names this one."""

_HEADER = "a header of the request, set by whoever sends it"
_OWN = "an attribute of the caller's own identity, which they set in their own account"
_ENDPOINT = "the private endpoint a request came through; outsiders have only their own"
_SERVICE = "set by a service of the provider that acts on a resource's behalf"
_ORG = "the organisation that the caller's account belongs to; outsiders have at most their own"

_ROWS: tuple[ContextKey, ...] = (
    ContextKey(
        "aws:sourceip",
        "address",
        False,
        "any address of the public Internet; none through a private endpoint",
    ),
    ContextKey("aws:securetransport", "switch", True, "the sender chooses https or http", "always", "always"),
    ContextKey("aws:referer", "text", True, _HEADER),
    ContextKey("aws:useragent", "text", True, _HEADER),
    ContextKey("aws:currenttime", "date", False, "the moment of the request", "always", "always"),
    ContextKey("aws:epochtime", "date", False, "the moment of the request", "always", "always"),
    ContextKey("aws:sourcevpc", "text", False, _ENDPOINT, stranger=("vpc-0strange",)),
    ContextKey("aws:sourcevpce", "text", False, _ENDPOINT, stranger=("vpce-0strange",)),
    ContextKey("aws:vpcsourceip", "address", False, "an address inside the caller's private network"),
    ContextKey("aws:principalorgid", "text", False, _ORG, "never", "maybe", stranger=("o-0strange00",)),
    ContextKey(
        "aws:principalorgpaths",
        "text",
        False,
        _ORG,
        "never",
        "maybe",
        many=True,
        stranger=("o-0strange00/r-0str/ou-0str-00000000/",),
    ),
    ContextKey(
        "aws:principalaccount",
        "text",
        False,
        "the caller's account number; a request without credentials carries a word of its own",
        "always",
        "always",
        stranger=(STRANGER_ACCOUNT,),
        anonymous="anonymous",
    ),
    ContextKey(
        "aws:principaltype",
        "text",
        False,
        "what sort of identity the caller is",
        "always",
        "always",
        stranger=("Account", "User", "AssumedRole"),
        anonymous="Anonymous",
    ),
    ContextKey(
        "aws:userid",
        "text",
        False,
        "the caller's unique id, given by the provider",
        "always",
        "always",
        stranger=("AIDASTRANGER00000000X",),
        anonymous="anonymous",
    ),
    ContextKey("aws:principalarn", "name", False, "the caller's resource name, in their account", "never", "always"),
    ContextKey("aws:principaltag/", "text", True, _OWN, "never", "maybe"),
    ContextKey("aws:username", "text", True, _OWN, "never", "maybe"),
    ContextKey("aws:multifactorauthpresent", "switch", True, _OWN, "never", "maybe"),
    ContextKey("aws:multifactorauthage", "number", True, _OWN, "never", "maybe"),
    ContextKey("aws:principalisawsservice", "switch", False, _SERVICE, "never", "always", stranger=("false",)),
    ContextKey("aws:viaawsservice", "switch", False, _SERVICE, "always", "always", stranger=("false",)),
    ContextKey("aws:sourceaccount", "text", False, _SERVICE),
    ContextKey("aws:sourcearn", "name", False, _SERVICE),
    ContextKey("aws:sourceorgid", "text", False, _SERVICE),
    ContextKey("aws:calledvia", "text", False, _SERVICE, many=True),
    ContextKey("aws:principalservicename", "text", False, _SERVICE),
    ContextKey("s3:prefix", "text", True, "a parameter of the listing", actions=_LISTS),
    ContextKey("s3:delimiter", "text", True, "a parameter of the listing", actions=_LISTS),
    ContextKey("s3:max-keys", "number", True, "a parameter of the listing", actions=_LISTS),
    ContextKey("s3:versionid", "text", True, "a parameter of the request", actions=_VERSIONED),
    ContextKey("s3:existingobjecttag/", "text", False, "a tag that the object already has", actions=_OBJECTS),
    ContextKey("s3:requestobjecttag/", "text", True, "a tag sent with the upload", actions=_TAGGED_PUTS),
    ContextKey("s3:requestobjecttagkeys", "text", True, "tags sent with the upload", actions=_TAGGED_PUTS, many=True),
    ContextKey("s3:x-amz-acl", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-grant-read", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-grant-write", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-grant-read-acp", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-grant-write-acp", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-grant-full-control", "text", True, _HEADER, actions=_ACL_PUTS),
    ContextKey("s3:x-amz-copy-source", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-metadata-directive", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-server-side-encryption", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-server-side-encryption-aws-kms-key-id", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-server-side-encryption-customer-algorithm", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-storage-class", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-website-redirect-location", "text", True, _HEADER, actions=_PUTS),
    ContextKey("s3:x-amz-content-sha256", "text", True, _HEADER),
    ContextKey("s3:object-lock-mode", "text", True, _HEADER, actions=_LOCK_PUTS),
    ContextKey("s3:object-lock-legal-hold", "text", True, _HEADER, actions=_LOCK_PUTS),
    ContextKey("s3:object-lock-retain-until-date", "date", True, _HEADER, actions=_LOCK_PUTS),
    ContextKey("s3:object-lock-remaining-retention-days", "number", True, _HEADER, actions=_LOCK_PUTS),
    ContextKey("s3:tlsversion", "number", True, "the sender chooses the protocol version"),
    ContextKey("s3:authtype", "text", True, "the sender chooses how to sign", "never", "always"),
    ContextKey("s3:signatureversion", "text", True, "the sender chooses how to sign", "never", "always"),
    ContextKey("s3:signatureage", "number", True, "the sender chooses when to sign", "never", "maybe"),
    ContextKey("s3:dataaccesspointarn", "name", False, "the access point a request came through"),
    ContextKey("s3:dataaccesspointaccount", "text", False, "the access point a request came through"),
    ContextKey("s3:accesspointnetworkorigin", "text", False, "the access point a request came through"),
)
KEYS = {row.name: row for row in _ROWS}


def context_key(name: str) -> ContextKey | None:
    """The row for a lower-case condition key, or None if the key is not understood."""
    family, slash, word = name.partition("/")
    return KEYS.get(name) if not slash else (KEYS.get(family + "/") if word else None)


_SORTS = ((":root", "Account"), (":user/", "User"), (":role/", "AssumedRole"), (":sts:", "AssumedRole"))


def always_carried(*, anonymous: bool, arn: str = "") -> dict[str, tuple[str, ...]]:
    """What a request carries whether or not anybody thinks of it, as far as its caller tells."""
    found: dict[str, tuple[str, ...]] = {}
    for row in _ROWS:
        if anonymous and row.anonymous:
            found[row.name] = (row.anonymous,)
        elif row.kind == "switch" and row.stranger and (row.unsigned if anonymous else row.signed) == "always":
            found[row.name] = row.stranger
    sort = next((sort for part, sort in _SORTS if part in arn), "")
    return found | ({"aws:principaltype": (sort,)} if sort else {})


# Beyond this many public addresses, a set of networks is no fence: no single organisation holds more, so it takes
# in hosting providers, where anyone can rent an address. A /8 of IPv4; a /32 of IPv6.
FENCE_V4 = 2**24
FENCE_V6 = 2**96
