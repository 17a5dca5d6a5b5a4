"""Identities, credentials, encryption keys and links of a store, each with what the facts about it need."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from rusty_lantern.core.answer import Answer, lost, since
from rusty_lantern.core.model.identity import Credential, Identity
from rusty_lantern.core.model.resources import EncryptionKey, Link

if TYPE_CHECKING:
    from rusty_lantern.core.answer import Fact
from rusty_lantern.core.model.store_index import StoreIndex


@dataclass(frozen=True)
class IdentityView:
    """An identity, with its store's roster."""

    holder: Identity
    roster: StoreIndex


@dataclass(frozen=True)
class CredentialView:
    """A credential, with its store's roster."""

    credential: Credential
    roster: StoreIndex

    @property
    def owner(self) -> Identity | None:
        """The identity it belongs to, if the store has one of that name."""
        return self.roster.holders.get(self.credential.owner)


@dataclass(frozen=True)
class KeyView:
    """An encryption key, with its store's roster."""

    key: EncryptionKey
    roster: StoreIndex


@dataclass(frozen=True)
class LinkView:
    """A link, with its store's roster."""

    link: Link
    roster: StoreIndex

    @property
    def standing(self) -> str:
        """`revoked`, `expired`, `dead` (its credential is disabled), `valid`, or `unknown`."""
        link = self.link
        if link.revoked:
            return "revoked"
        if link.expires.value is not None and link.expires.value <= self.roster.moment:
            return "expired"
        signer = self.roster.credentials.get(link.credential)
        if signer is not None and signer.state.value == "disabled":
            return "dead"
        return "valid" if link.expires.settled else "unknown"


def age_of(key: EncryptionKey, roster: StoreIndex) -> Fact:
    """How long a key's material has been in use."""
    if key.rotated.state == "absent":
        age = since(key.created, roster.moment)
        return Answer(age.state, age.value, "never rotated" if age.settled else age.note, age.evidence)
    return since(key.rotated, roster.moment)


def store_may_use(key: EncryptionKey, roster: StoreIndex) -> Fact:
    """Whether the store's own service identity is among those who may use the key."""
    service = roster.dossier.service
    if service.value is None or key.usable_by.value is None:
        return lost(service if service.value is None else key.usable_by)
    allowed = "*" in key.usable_by.value or service.value in key.usable_by.value
    return Answer("known", "on" if allowed else "off", f"the store uses keys as {service.value}")
