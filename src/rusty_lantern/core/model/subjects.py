"""Identities, credentials, encryption keys and links of a store, each with what the facts about it need."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

import msgspec

from rusty_lantern.core.answer import Answer, lost, since
from rusty_lantern.core.model.identity import Credential, Identity
from rusty_lantern.core.model.resources import EncryptionKey, Link

if TYPE_CHECKING:
    from rusty_lantern.core.answer import Fact
from rusty_lantern.core.model.store_index import StoreIndex


class Permissions(Protocol):
    """What is decided of access across a store, as far as facts about its identities and links need it."""

    def of_identity(self, identity: Identity) -> Fact:
        """The verbs that an identity has on at least one bucket."""

    def of_public(self, bucket: str, verb: str) -> Fact:
        """How far the public gets into a bucket by the bucket's own rules."""


@dataclass(frozen=True)
class IdentityView:
    """An identity, with its store's roster."""

    holder: Identity
    index: StoreIndex
    permissions: Permissions


@dataclass(frozen=True)
class CredentialView:
    """A credential, with its store's roster."""

    credential: Credential
    index: StoreIndex
    permissions: Permissions

    @property
    def owner(self) -> Identity | None:
        """The identity it belongs to, if the store has one of that name."""
        return self.index.holders.get(self.credential.owner)

    @property
    def stands_for(self) -> Identity | None:
        """Whoever it makes one, with what its owner needs; None where the store does not know its owner."""
        owner, less = self.owner, self.credential.stands_for
        return owner if less is None or owner is None else msgspec.structs.replace(less, may=owner.may)


@dataclass(frozen=True)
class KeyView:
    """An encryption key, with its store's roster."""

    key: EncryptionKey
    index: StoreIndex


@dataclass(frozen=True)
class LinkView:
    """A link, with its store's roster."""

    link: Link
    index: StoreIndex
    permissions: Permissions

    @property
    def standing(self) -> str:
        """`revoked`, `expired`, `signing key disabled`, `valid`, or `unknown`."""
        link = self.link
        if link.revoked:
            return "revoked"
        if link.expires.value is not None and link.expires.value <= self.index.moment:
            return "expired"
        signer = self.index.credentials.get(link.credential)
        if signer is not None and signer.state.value == "disabled":
            return "signing key disabled"
        return "valid" if link.expires.settled else "unknown"


def age_of(key: EncryptionKey, index: StoreIndex) -> Fact:
    """How long a key's material has been in use."""
    if key.rotated.state == "absent":
        age = since(key.created, index.moment)
        return Answer(age.state, age.value, "never rotated" if age.settled else age.note, age.evidence)
    return since(key.rotated, index.moment)


def store_may_use(key: EncryptionKey, index: StoreIndex) -> Fact:
    """Whether the store's own service identity is among those who may use the key."""
    service = index.dossier.service
    if service.value is None or key.usable_by.value is None:
        return lost(service if service.value is None else key.usable_by)
    allowed = "*" in key.usable_by.value or service.value in key.usable_by.value
    return Answer("known", "on" if allowed else "off", f"the store uses keys as {service.value}")
