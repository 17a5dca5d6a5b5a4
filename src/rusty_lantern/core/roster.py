"""One store's identities, credentials, encryption keys and links, joined by name, as the facts about them need it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any

from rusty_lantern.core.access.own import Side, groups_of, members, own_side
from rusty_lantern.core.dossier import Bucket, Dossier
from rusty_lantern.core.evidence import Answer, Partly
from rusty_lantern.core.holders import Credential, EncryptionKey, Group, Holder, Link

if TYPE_CHECKING:
    from rusty_lantern.core.facts import Fact

_NO_MEMBERS: Mapping[str, frozenset[str]] = {}


@dataclass(frozen=True)
class Roster:
    """What one dossier tells besides its buckets. `can` answers which verbs an identity has on any bucket of it."""

    dossier: Dossier
    moment: datetime
    can: Callable[[Holder], Fact]
    opened: Callable[[str, str], Fact]
    """Bucket, verb → how far the public gets in by the bucket's own rules."""

    @cached_property
    def holders(self) -> dict[str, Holder]:
        """Identities by name, and by resource name."""
        found = self.dossier.identities.value or []
        return {h.resource: h for h in found if h.resource} | {h.name: h for h in found}

    @cached_property
    def groups(self) -> dict[str, Group]:
        """Groups by name."""
        return {group.name: group for group in self.dossier.groups.value or ()}

    @cached_property
    def members(self) -> Mapping[str, frozenset[str]]:
        """Group → everybody in it."""
        return members(self.groups.values()) if self.groups else _NO_MEMBERS

    @cached_property
    def memberships(self) -> dict[str, list[str]]:
        """Identity → its groups."""
        return groups_of(self.dossier)

    @property
    def whole(self) -> bool:
        """Whether all buckets of the store were read."""
        return self.dossier.listing.value is not None and len(self.dossier.buckets) >= self.dossier.listing.value

    def side(self, holder: Holder) -> Side:
        """An identity's own permissions and its groups'. Groups that were not read may have anybody in them."""
        listed = self.dossier.groups
        unread = listed.reason if listed.unread else ""
        return own_side(holder, self.groups, self.memberships.get(holder.name, []), unread)

    def live_keys(self, owner: str) -> Fact:
        """How many credentials of an owner are not disabled. Those whose state was not read may be or not be."""
        listed = self.dossier.credentials
        if not listed.settled:
            return lost(listed)
        states = [credential.state for credential in self.keys_of.get(owner, ())]
        live = sum(state.value != "disabled" for state in states if state.settled)
        unread = next((state for state in states if not state.settled), None)
        if unread is not None:
            return Partly(unread.state, None, unread.note, unread.evidence, certain=live)
        return Answer("known", live, "", listed.evidence)

    @cached_property
    def keys_of(self) -> dict[str, list[Credential]]:
        """Owner → their credentials."""
        found: dict[str, list[Credential]] = {}
        for credential in self.dossier.credentials.value or ():
            found.setdefault(credential.owner, []).append(credential)
        return found

    @cached_property
    def credentials(self) -> dict[str, Credential]:
        """Credentials by id."""
        return {credential.id: credential for credential in self.dossier.credentials.value or ()}

    @cached_property
    def keyring(self) -> dict[str, EncryptionKey]:
        """Encryption keys by id and by every other name."""
        found: dict[str, EncryptionKey] = {}
        for key in self.dossier.encryption_keys.value or ():
            found |= dict.fromkeys([*key.names, key.id], key)
        return found

    def key_named(self, name: str) -> EncryptionKey | None:
        """An encryption key by what a bucket calls it: its id, a name, or a resource name that ends in one."""
        return (
            self.keyring.get(name)
            or self.keyring.get(name.rpartition("/")[2])
            or self.keyring.get("alias/" + name.rpartition("alias/")[2])
        )

    @cached_property
    def protected_by(self) -> dict[str, list[Bucket]]:
        """Encryption key's id → the buckets whose default it is."""
        found: dict[str, list[Bucket]] = {}
        for bucket in self.dossier.buckets:
            named = bucket.encryption.value.key if bucket.encryption.value else ""
            key = self.key_named(named) if named else None
            if key is not None:
                found.setdefault(key.id, []).append(bucket)
        return found


@dataclass(frozen=True)
class HolderView:
    """An identity, with its store's roster."""

    holder: Holder
    roster: Roster


@dataclass(frozen=True)
class CredentialView:
    """A credential, with its store's roster."""

    credential: Credential
    roster: Roster

    @property
    def owner(self) -> Holder | None:
        """The identity it belongs to, if the store has one of that name."""
        return self.roster.holders.get(self.credential.owner)


@dataclass(frozen=True)
class KeyView:
    """An encryption key, with its store's roster."""

    key: EncryptionKey
    roster: Roster


@dataclass(frozen=True)
class LinkView:
    """A link, with its store's roster."""

    link: Link
    roster: Roster

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


def since(answer: Answer[datetime], moment: datetime) -> Fact:
    """How many seconds before `moment` something was; never less than none."""
    return answer.map(lambda then: max(0, int((moment - then).total_seconds())))


def lost(answer: Answer[Any]) -> Fact:
    """The same state without a value: why something that follows from an answer cannot be told."""
    return Answer(answer.state, None, answer.note, answer.evidence)


def age_of(key: EncryptionKey, roster: Roster) -> Fact:
    """How long a key's material has been in use."""
    if key.rotated.state == "absent":
        age = since(key.created, roster.moment)
        return Answer(age.state, age.value, "never rotated" if age.settled else age.note, age.evidence)
    return since(key.rotated, roster.moment)


def store_may_use(key: EncryptionKey, roster: Roster) -> Fact:
    """Whether the store's own service identity is among those who may use the key."""
    service = roster.dossier.service
    if service.value is None or key.usable_by.value is None:
        return lost(service if service.value is None else key.usable_by)
    allowed = "*" in key.usable_by.value or service.value in key.usable_by.value
    return Answer("known", "on" if allowed else "off", f"the store uses keys as {service.value}")
