"""Identities, credentials, encryption keys and links of a store, each with what the facts about it need."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Protocol

import msgspec

from rusty_lantern.core.answer import Answer, lost, since, unread
from rusty_lantern.core.model.assumed_roles import RolesOf
from rusty_lantern.core.model.bucket import LinkPolicy
from rusty_lantern.core.model.identity import Credential, Identity, Verb
from rusty_lantern.core.model.resources import EncryptionKey, Link

if TYPE_CHECKING:
    from rusty_lantern.core.answer import Fact
from rusty_lantern.core.model.store_index import StoreIndex


class Permissions(Protocol):
    """What is decided of access across a store, as far as facts about its identities and links need it."""

    def of_identity(self, identity: Identity) -> Fact:
        """The verbs that an identity has on at least one bucket."""

    def roles_of(self, identity: Identity) -> RolesOf:
        """The roles that an identity may assume."""

    def of_public(self, bucket: str, verb: str) -> Fact:
        """How far the public gets into a bucket by the bucket's own rules."""


class IdentityView(msgspec.Struct, frozen=True):
    """An identity, with its store's roster."""

    identity: Identity
    index: StoreIndex
    permissions: Permissions
    trusted: frozenset[str] = frozenset()
    """Accounts, organisations and sign-in services that the team trusts."""


class CredentialView(msgspec.Struct, frozen=True):
    """A credential, with its store's roster."""

    credential: Credential
    index: StoreIndex
    permissions: Permissions

    @property
    def owner(self) -> Identity | None:
        """The identity it belongs to, if the store has one of that name."""
        return self.index.identities_by_name.get(self.credential.owner)

    @property
    def stands_for(self) -> Identity | None:
        """Whoever it makes one, with what its owner needs; None where the store does not know its owner."""
        owner, less = self.owner, self.credential.stands_for
        return owner if less is None or owner is None else msgspec.structs.replace(less, may=owner.may)


class KeyView(msgspec.Struct, frozen=True):
    """An encryption key, with its store's roster."""

    key: EncryptionKey
    index: StoreIndex


OVER = ("policy removed", "account keys off", "signing key disabled", "expired", "revoked")
"""The states of a link that opens nothing any more."""
LINK_STATUSES = ("valid", "unknown", "not yet", *OVER)
"""The states of a link, what matters most first."""


class LinkView(msgspec.Struct, frozen=True):
    """A link, with its store's roster."""

    link: Link
    index: StoreIndex
    permissions: Permissions

    @property
    def status(self) -> str:
        """One of `LINK_STATUSES`."""
        link, now = self.link, self.index.moment
        own, policy = (link.starts, link.expires.value), self.policy
        own_over, own_ahead = _out_of(own, now)
        over_by_policy, ahead_by_policy = _out_of((policy.starts, policy.expires), now) if policy else (False, False)
        alone = not link.policy
        signer = self.index.credentials.get(link.credential)
        by_account = link.form in ("ad-hoc", "stored-policy", "account")
        over = (
            ("revoked", link.revoked),
            ("policy removed", bool(link.policy) and self.policies.settled and self.policy is None),
            ("expired", over_by_policy or (own_over and alone)),
            ("not yet", ahead_by_policy or (own_ahead and alone)),
            ("account keys off", by_account and self.index.dossier.shared_keys.value is False),
            ("signing key disabled", signer is not None and signer.state.value == "disabled"),
            # what a link says beside its policy counts, or does not: servers differ
            ("unknown", own_over or own_ahead),
            ("unknown", self.policy_unread),
            ("unknown", not link.expires.settled and self.policy is None),
        )
        return next((word for word, holds in over if holds), "valid")

    @property
    def verbs(self) -> list[Verb]:
        """What it allows: by its own word, and by the policy that it names."""
        return list(dict.fromkeys([*self.link.verbs, *(self.policy.verbs if self.policy else ())]))

    @property
    def policy_unread(self) -> bool:
        """Whether it names a policy, and the bucket's were not read."""
        return bool(self.link.policy) and not self.policies.settled

    @property
    def policies(self) -> Answer[list[LinkPolicy]]:
        """The policies that the link's bucket stores."""
        buckets = self.index.dossier.buckets
        bucket = next((bucket for bucket in buckets if bucket.name == self.link.bucket), None)
        return bucket.link_policies if bucket is not None else unread("the bucket was not read")

    @property
    def policy(self) -> LinkPolicy | None:
        """The stored policy that the link names, where there is one of that name."""
        if not self.link.policy:
            return None
        return next((one for one in self.policies.value or () if one.name == self.link.policy), None)

    @property
    def ends(self) -> tuple[datetime | None, ...]:
        """When the link ends by its own word and by its policy's; the earlier counts."""
        return self.link.expires.value, self.policy.expires if self.policy else None


def _out_of(span: tuple[datetime | None, datetime | None], now: datetime) -> tuple[bool, bool]:
    """Whether a span of time is over, and whether it has not begun."""
    start, end = span
    return end is not None and end <= now, start is not None and start > now


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
