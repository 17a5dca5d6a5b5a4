"""What a dossier holds about a store besides its buckets: who there is, which keys they hold, which keys protect data,
which links are out, and how the store is reached.

Names follow the trade: an *identity* is anybody or anything that can be let in by name; a *credential* is what proves
it; an *encryption key* protects data at rest; a *link* lets whoever has it do one thing without a credential.
"""

import hashlib
from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread

Verb = Literal["list", "read", "write", "delete", "change-settings", "bypass-retention", "read-settings"]
Given = Literal[Verb, "create", "update"]
"""What a store without policies gives: a verb, or half of `write`, to store new objects or to overwrite old ones."""
Kind = Literal["root", "person", "service", "role", "user", "unknown"]
"""A `user` is a person or a service; which one, the store does not say."""
Operation = Literal["read", "write", "delete"]
Use = Literal["administration", "application"]
CredentialKind = Literal["access-key", "token", "certificate", "application-credential", "trust"]
"""An application credential acts for its owner in one project; a trust lets another identity do so."""


class AttachedPolicy(msgspec.Struct, frozen=True, omit_defaults=True):
    """One access-policy document that is attached to an identity or a group; `via` says how it got there."""

    name: str
    text: str
    via: str = ""
    doubt: str = ""
    """Why it may not count; empty where it does."""


class Password(msgspec.Struct, frozen=True, omit_defaults=True):
    """That an identity can sign in with a password: since when it is this one, and when it was last used."""

    changed: Answer[datetime] = unread()
    last_used: Answer[datetime] = unread()
    """Absent: never."""
    expires: Answer[datetime] = Answer("unsupported")
    """When it has to be changed at the latest. Absent: never."""


AssumableBy = Literal["nobody", "services", "own-account", "federated", "other-accounts", "anybody"]
"""From the narrowest. `federated`: whoever an identity provider outside vouches for."""
MEMBERS_UNKNOWN = "who meets its condition is not known"
"""Of a trust policy that is understood, and lets in an organisation."""


class Identity(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One identity of a store."""

    name: str
    """As the store names it; no other identity of the store has this name."""
    resource: str = ""
    """Its resource name, as rules name it; where empty, rules name it by its name."""
    aliases: list[str] = []
    """Further names by which rules let it in."""
    acl_level: str = ""
    """Of a further login of a user: what it has of what ACLs give that user (`read`, `write`, `read-write`, `none`, or
    another word of the store's own). Empty: all of it."""
    kind: Kind = "unknown"
    state: Answer[Literal["enabled", "disabled"]] = unread()
    created: Answer[datetime] = unread()
    mfa: Answer[bool] = unread()
    password: Answer[Password] = unread()
    """Absent: it cannot sign in with a password."""
    groups: Answer[list[str]] = unread()
    policies: Answer[list[AttachedPolicy]] = unread()
    """Its own permissions, those of its groups left out."""
    boundary: Answer[str] = Answer("absent")
    """A policy document that bounds what its own permissions can grant."""
    operations: Answer[list[Operation]] = Answer("absent")
    """The only kinds of operation that the store lets it use, whatever permissions it has. Absent: all of them."""
    may: Answer[list[Verb]] = unread("estate.yaml does not say what it needs")
    """What it needs, by the word of whoever answers for it."""
    tags: Answer[dict[str, str]] = unread()
    administers: Answer[list[str]] = Answer("unsupported")
    """Where it has the administrator's role of the identity service, or its capabilities at an administration door. One
    is enough to give itself any permission anywhere. Absent: nothing."""
    assumable_by: Answer[AssumableBy] = Answer("unsupported")
    """The widest sort of caller that may assume it, by its trust policy; nobody may assume what is no role."""
    assumes: Answer[list[str]] = Answer("unsupported")
    """The roles of the store that it may assume for certain, by name: then it can do what they can."""
    perhaps_assumes: list[str] = []
    """The roles that it may assume, or may not: nobody knows."""
    assumed_from: list[str] = []
    """Whom outside the account its trust policy lets in: numbers of accounts, organisations, sign-in services; `*`
    where it may be everybody."""
    unknown_services: list[str] = []
    """Sign-in services that its trust policy names without a subject, and that this tool does not know: they may give
    tokens to anybody."""

    def assumable_by_trusted(self, trusted: frozenset[str]) -> bool:
        """Whether it is assumed from outside the account, and there by those alone that the team trusts. What was not
        read is nobody's that is trusted."""
        by, named = self.assumable_by, self.assumed_from
        understood = by.value not in (None, "anybody") or MEMBERS_UNKNOWN in by.note
        return understood and bool(named) and trusted.issuperset(named)


class Group(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """A group of identities: its members, the groups within it, and its permissions."""

    name: str
    members: list[str] = []
    groups: list[str] = []
    """Groups whose members are members of this one too."""
    policies: Answer[list[AttachedPolicy]] = unread()


class Credential(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One key, token or certificate: never its secret."""

    id: str
    name: str = ""
    """What its owner calls it, where it has a name besides its id."""
    owner: str = ""
    kind: CredentialKind = "access-key"
    state: Answer[Literal["active", "disabled"]] = unread()
    created: Answer[datetime] = unread()
    last_used: Answer[datetime] = unread()
    """Absent: never used, as far as the store keeps a record."""
    expires: Answer[datetime] = unread()
    """Absent: never."""
    used_for: Answer[list[Use]] = unread("what it is used for is not recorded")
    stands_for: Identity | None = None
    """Whoever it makes one, where that is less than its owner; None: its owner, with all that the owner can."""
    limits: Answer[list[str]] = Answer("unsupported")
    """The only requests that it is good for, as method and path. Absent: every request."""
    makes_more: Answer[bool] = Answer("unsupported")
    """Whether it can make further credentials of its owner's."""
    used_by: str = ""
    """Who else may use it: whom a trust was given to."""


ADMINISTRATORS = frozenset({"admin", "administrator", "root", "superuser", "sysadmin", "operator", "manager"})
"""Names that stores are delivered with, or that everybody tries first. One with a number or `-user` counts too."""


def is_well_known(name: str) -> bool:
    """Whether an identity has an unchanged default or well-known administrator's name.

    >>> is_well_known("Admin"), is_well_known("admin01@trust"), is_well_known("tide-reader")
    (True, True, False)
    """
    plain = name.lower().partition("@")[0].rstrip("0123456789").removesuffix("-user").removesuffix("_user").rstrip("-_")
    return plain in ADMINISTRATORS


def masked(key: str) -> str:
    """Enough of a credential's id to match it by eye, and not enough to use it.

    >>> masked("DEMOKEYFORTIDES00042")
    'DEMO…0042'
    """
    if len(key) < 8:
        return f"{key[:2]}…"
    return f"{key[:4]}…{key[-4:]}" if len(key) >= 12 else f"{key[:2]}…{key[-2:]}"


def fingerprint(key: str) -> str:
    """Eight hexadecimal digits by which the same credential is known again elsewhere."""
    return hashlib.sha256(key.encode()).hexdigest()[:8]
