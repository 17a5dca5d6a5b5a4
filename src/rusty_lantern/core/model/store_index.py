"""One store's identities, credentials, encryption keys and links, joined by name, as the facts about them need it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer, Partly, lost
from rusty_lantern.core.model.bucket import Bucket, Encryption, SharedQuota
from rusty_lantern.core.model.dossier import NOT_ALL_LISTED, Dossier
from rusty_lantern.core.model.identity import Credential, Group, Identity
from rusty_lantern.core.model.resources import EncryptionKey

if TYPE_CHECKING:
    from rusty_lantern.core.answer import Fact

_NO_MEMBERS: Mapping[str, frozenset[str]] = {}


NOT_WHOLE = "not all buckets of the store were read"
"""Why something that all buckets of a store would show is unknown."""


def _reached(start: str, next_of: Mapping[str, list[str]]) -> Mapping[str, str]:
    """Every name that is reached from `start`, step by step → the one before it on the way; empty: `start` itself."""
    through = {start: ""}
    queue = [start]
    for middle in queue:
        new = [name for name in next_of.get(middle, ()) if name not in through]
        through |= dict.fromkeys(new, "" if middle == start else middle)
        queue += new
    del through[start]
    return through


def counts_against_quota(bucket: Bucket, *, in_blocks: bool) -> Answer[int]:
    """How many bytes of a bucket count against its quota: current objects, old versions, and what was uploaded of
    uploads that were never finished (tried on a gateway 16.2). The store's own counter, which may lag, where it says
    more. `in_blocks`: objects count with the whole blocks that they take up, which only a counter shows."""
    usage, versions, counters, begun = bucket.usage, bucket.versions, bucket.counters, bucket.uploads.value
    inputs: tuple[Answer[Any], ...] = (usage, versions, bucket.uploads, counters)
    unread = next((one for one in inputs if one.unread and not (one is counters and one.note == NOT_IN_DOSSIER)), None)
    if unread is not None or usage.value is None:
        lost_to = unread or usage
        return Answer(lost_to.state, None, lost_to.note, lost_to.evidence)
    if not usage.value.complete:
        return Answer("failed", None, "counting stopped before the end", usage.evidence)
    parts = 0 if begun is None or (begun.complete and not begun.count) else begun.bytes
    if parts is None:
        note = (begun and begun.bytes_unread) or "the parts were not asked for"
        return Answer("failed", None, f"how much unfinished uploads take: {note}", bucket.uploads.evidence)
    listed = usage.value.bytes + (versions.value.old_bytes if versions.value else 0) + parts
    counted = counters.value
    if in_blocks and listed and not (counted and counted.in_blocks):
        return Answer("failed", None, "how many blocks its objects take up is not shown", usage.evidence)
    by_counter = 0 if counted is None else counted.in_blocks if in_blocks else counted.bytes
    return Answer("known", max(listed, by_counter), "", usage.evidence)


class StoreIndex(msgspec.Struct, frozen=True, dict=True):
    """What one dossier holds besides its buckets, joined by name."""

    dossier: Dossier
    moment: datetime

    @cached_property
    def identities_by_name(self) -> dict[str, Identity]:
        """Identities by name, and by resource name."""
        identities = self.dossier.identities.value or []
        return {h.resource: h for h in identities if h.resource} | {h.name: h for h in identities}

    @cached_property
    def unlisted(self) -> dict[str, str]:
        """Kinds of identities that could not be listed, where one represents all of them → why."""
        identities = self.dossier.identities.value or ()
        return {one.kind: one.state.reason for one in identities if one.name == f"any {one.kind}"}

    @cached_property
    def aliases(self) -> frozenset[str]:
        """The further names by which rules let identities in."""
        return frozenset(alias for one in self.dossier.identities.value or () for alias in one.aliases)

    @cached_property
    def tenants(self) -> frozenset[str]:
        """The tenants of a gateway's users, who are called `TENANT$USER`."""
        names = (one.name.partition("$") for one in self.dossier.identities.value or ())
        return frozenset(tenant for tenant, dollar, _ in names if dollar)

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

    @property
    def unseen_buckets(self) -> str:
        """Why the store may have buckets that are not known; empty where all are."""
        if self.whole:
            return ""
        why = self.dossier.unlisted
        return f"the store {why}" if why.startswith(NOT_ALL_LISTED) else why or NOT_WHOLE

    @cached_property
    def copied_into(self) -> Mapping[str, Mapping[str, str]]:
        """Bucket → those that are copied into one of this name → what narrows that; empty: all of it is copied."""
        return self._copied(by_address=False)

    @cached_property
    def copied_by_address(self) -> Mapping[str, Mapping[str, str]]:
        """The same, where the rule has a whole address, which may be another account's or another store's."""
        return self._copied(by_address=True)

    def _copied(self, *, by_address: bool) -> Mapping[str, Mapping[str, str]]:
        sources: dict[str, dict[str, str]] = {}
        for bucket in sorted(self.dossier.buckets, key=lambda one: one.name):
            for rule in bucket.replication.value or ():
                *rest, name = re.split("[/:]", rule.target.rstrip("/"))
                if bool(rest) is by_address:
                    mine = sources.setdefault(unquote(name) if rest else name, {})
                    mine[bucket.name] = rule.narrowed and mine.get(bucket.name, rule.narrowed)
        return sources

    @cached_property
    def _sources(self) -> Mapping[str, list[str]]:
        either = (self.copied_into, self.copied_by_address)
        return {name: [source for one in either for source in one.get(name, ())] for one in either for name in one}

    @cached_property
    def _targets(self) -> Mapping[str, list[str]]:
        targets: dict[str, list[str]] = {}
        for target in sorted(self._sources):
            for source in self._sources[target]:
                targets.setdefault(source, []).append(target)
        return targets

    def sources_of(self, bucket: str) -> Mapping[str, str]:
        """Buckets from which copies may arrive in this one → the bucket that they come by; empty: they come directly.
        Software differs in whether it copies on what is a copy itself."""
        return _reached(bucket, self._sources)

    def targets_of(self, bucket: str) -> Mapping[str, str]:
        """Buckets in which copies from this one may arrive → the bucket that they come by, in the same way."""
        return _reached(bucket, self._targets)

    @cached_property
    def replication_unread(self) -> Mapping[str, Answer[Any]]:
        """Buckets whose replication was not read → why. A bucket that is gone (404) is copied nowhere."""
        answers = {bucket.name: bucket.replication for bucket in self.dossier.buckets}
        return {n: one for n, one in answers.items() if one.unread and not one.evidence.answer.startswith("404")}

    @cached_property
    def _shared(self) -> dict[tuple[str, str, bool], Answer[int]]:
        """By owner, tier (none: all of them), and whether it is counted in blocks."""
        return {}

    def shared_by(self, bucket: Bucket, quota: SharedQuota) -> Answer[int]:
        """The bytes that count against a quota which a bucket shares with its owner's others."""
        owner = bucket.owner
        if owner.value is None:
            return Answer(owner.state, None, f"which buckets share its quota: {owner.reason}")
        key = (owner.value, quota.tier, quota.in_blocks)
        if key not in self._shared:
            self._shared[key] = self._stored_by(*key)
        return self._shared[key]

    def _stored_by(self, owner: str, tier: str, in_blocks: bool) -> Answer[int]:
        if not self.whole:
            return Answer("failed", None, NOT_WHOLE)
        total = 0
        for bucket in self.dossier.buckets:
            unread = bucket.owner.unread or (tier and bucket.tier.unread)
            if not unread and (bucket.owner.value != owner or tier not in ("", bucket.tier.value)):
                continue
            stored = counts_against_quota(bucket, in_blocks=in_blocks)
            if unread or stored.value is None:
                return Answer("failed", None, f"{bucket.name} may share its quota, and was not counted")
            total += stored.value
        return Answer("known", total)

    def active_keys(self, owner: str) -> Fact:
        """How many credentials of an owner are not disabled. Those whose state was not read may be or not be, and those
        that name no owner may be theirs."""
        listed = self.dossier.credentials
        if not listed.settled:
            return lost(listed)
        states = [credential.state for credential in self.credentials_by_owner.get(owner, ())]
        live = sum(state.value != "disabled" for state in states if state.settled)
        unread = next((state for state in states if not state.settled), None)
        if unread is not None:
            return Partly(unread.state, None, unread.note, unread.evidence, certain=live)
        nobodys = next(
            (c for c in self.credentials_by_owner.get("", ()) if owner and c.state.value != "disabled"), None
        )
        if nobodys is not None:
            return Partly("failed", None, "a key names no owner", listed.evidence, certain=live)
        return Answer("known", live, "", listed.evidence)

    @cached_property
    def credentials_by_owner(self) -> dict[str, list[Credential]]:
        """Owner → their credentials."""
        by_owner: dict[str, list[Credential]] = {}
        for credential in self.dossier.credentials.value or ():
            by_owner.setdefault(credential.owner, []).append(credential)
        return by_owner

    @cached_property
    def credentials(self) -> dict[str, Credential]:
        """Credentials by id."""
        return {credential.id: credential for credential in self.dossier.credentials.value or ()}

    @cached_property
    def keyring(self) -> dict[str, EncryptionKey]:
        """Encryption keys by id and by every other name."""
        by_name: dict[str, EncryptionKey] = {}
        for key in self.dossier.encryption_keys.value or ():
            by_name |= dict.fromkeys([*key.names, key.id], key)
        return by_name

    def key_named(self, name: str) -> EncryptionKey | None:
        """An encryption key by what a bucket calls it: its id, a name, or a resource name that ends in one."""
        return (
            self.keyring.get(name)
            or self.keyring.get(name.rpartition("/")[2])
            or self.keyring.get("alias/" + name.rpartition("alias/")[2])
        )

    @cached_property
    def key_names(self) -> Mapping[str, str]:
        """`customer` or `provider` → every name of the encryption keys that are known to be managed by that one,
        framed."""
        keys = self.dossier.encryption_keys.value or ()
        return {
            manager: framed(name for key in keys if key.managed_by.value == manager for name in names_of_key(key))
            for manager in ("customer", "provider")
        }

    @cached_property
    def protected_by(self) -> dict[str, list[Bucket]]:
        """Encryption key's id → the buckets whose default it is."""
        by_key: dict[str, list[Bucket]] = {}
        for bucket in self.dossier.buckets:
            named = bucket.encryption.value.key if bucket.encryption.value else ""
            key = self.key_named(named) if named else None
            if key is not None:
                by_key.setdefault(key.id, []).append(bucket)
        return by_key


def names_of_key(key: EncryptionKey) -> tuple[str, ...]:
    """What an object may call an encryption key: its id, the id without what leads to it, or another name."""
    return key.id, key.id.rpartition("/")[2], *key.names


def framed(names: Iterable[str]) -> str:
    """Names in one text, each between two line ends, so that a whole name can be looked for in it."""
    return "".join(f"\n{name}\n" for name in sorted(set(names)))


def keeper_of(encryption: Encryption, key: EncryptionKey | None) -> str:
    """Who manages the key of a bucket's default encryption: the key itself says so, where it is known; empty where
    nothing does."""
    if key is not None and key.managed_by.value is not None:
        return f"{key.managed_by.value}-managed"
    return encryption.by


def members(groups: Iterable[Group]) -> dict[str, frozenset[str]]:
    """Group → everybody in it, directly or through groups within it. A loop of groups has the members of them all."""
    direct = {group.name: group for group in groups}
    members_of: dict[str, frozenset[str]] = {}
    for name in direct:
        seen, left = {name}, [name]
        while left:
            inner = set(direct[left.pop()].groups) & direct.keys() - seen
            seen |= inner
            left.extend(inner)
        members_of[name] = frozenset(member for group in seen for member in direct[group].members)
    return members_of


def groups_of(dossier: Dossier) -> dict[str, list[str]]:
    """Identity → the groups whose permissions it has, by either side's word, in order of name."""
    groups_by_member: dict[str, set[str]] = {h.name: set(h.groups.value or ()) for h in dossier.identities.value or ()}
    for group, inside in members(dossier.groups.value or ()).items():
        for name in inside:
            groups_by_member.setdefault(name, set()).add(group)
    return {name: sorted(groups) for name, groups in groups_by_member.items()}
