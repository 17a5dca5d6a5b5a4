"""Encryption keys, share links and certificates of a store."""

from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread
from rusty_lantern.core.model.identity import Verb


class EncryptionKey(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One key that protects data at rest."""

    id: str
    names: list[str] = []
    """Other names that settings may call it by."""
    group: str = ""
    region: Answer[str] = unread()
    state: Answer[Literal["enabled", "disabled", "pending-deletion", "destroyed"]] = unread()
    managed_by: Answer[Literal["provider", "customer"]] = unread()
    kept_in: Answer[Literal["software", "hardware-module", "external-manager"]] = unread()
    created: Answer[datetime] = unread()
    rotates: Answer[int] = unread()
    """The period of its rotation in seconds; absent: it is not rotated by itself."""
    rotated: Answer[datetime] = unread()
    """Absent: never."""
    next_rotation: Answer[datetime] = unread()
    """When it is rotated next; absent: no rotation is planned."""
    deleted: Answer[datetime] = Answer("absent")
    """When it is going to be destroyed; absent: it is not."""
    usable_by: Answer[list[str]] = unread()
    """Identities that may encrypt and decrypt with it."""


TEMPORARY_URL_KEY = "temporary-URL key"
"""Stands for the credential of a temporary URL: a key of the container or of its account, which nobody names."""


class Link(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One share link: whoever has it gets in. Its secret part is never kept. `bucket` is empty where it opens all."""

    bucket: str
    key: str = ""
    """The object, or what the keys it opens begin with."""
    scope: Literal["object", "prefix", "bucket", "store"] = "object"
    verbs: list[Verb] = []
    presumed: bool = False
    """Whether it does not say what it was signed for: `verbs` is what such links are usually for."""
    credential: str = ""
    """The id of the credential that signed it."""
    of_session: bool = False
    """Whether that credential is a session's: no store lists those."""
    issued: Answer[datetime] = unread()
    expires: Answer[datetime] = unread()
    """Absent: never."""
    revoked: bool = False
    form: Literal["", "ad-hoc", "stored-policy", "account", "identity"] = ""
    """How it was made, in a protocol with several ways: for itself, by a policy that the bucket stores, for the account
    as a whole, by an identity's own short-lived key."""
    policy: str = ""
    """The stored policy that it names."""
    starts: datetime | None = None
    """When it begins to work; None: at once."""
    networks: list[str] = []
    """The addresses that may use it, in CIDR form or as a range; none named: every address."""
    tls_only: bool = False
    services: list[str] = []
    """What else of the account it opens besides its buckets, for one of the account as a whole."""
    found: str = ""
    """Where it was found."""


class Certificate(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a store shows in the TLS handshake. `verdict` is ours, by the trust that the estate file names."""

    names: list[str]
    issuer: str
    begins: datetime
    ends: datetime
    verdict: Literal["trusted", "expired", "not-yet", "other-name", "self-signed", "not-trusted"]
    protocol: str = ""


class ShownCertificate(msgspec.Struct, frozen=True, omit_defaults=True):
    """What another address of a store shows in the TLS handshake: a node's, a region's, or a door's."""

    at: str
    shown: Answer[Certificate] = unread()
