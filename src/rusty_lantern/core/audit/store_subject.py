"""One store as a whole: its buckets together with its identities, credentials, encryption keys and links."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any

import msgspec

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.solver.verdict_cache import VerdictCache
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.declared_facts import or_stated
from rusty_lantern.core.baseline.selectors import SubjectRef
from rusty_lantern.core.config.estate import Estate, Store
from rusty_lantern.core.errors import defect
from rusty_lantern.core.facts.registry import UnknownFact, derive
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, Identity, Verb, masked
from rusty_lantern.core.model.resources import EncryptionKey, Link
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.model.subjects import CredentialView, IdentityView, KeyView, LinkView

if TYPE_CHECKING:
    from rusty_lantern.core.audit.bucket_subject import BucketSubject


def with_needs(dossier: Dossier, store: Store | None) -> Dossier:
    """The dossier with what the estate file says that identities need, where they do not say themselves."""
    if store is None or not store.may or dossier.identities.value is None:
        return dossier
    holders = []
    for holder in dossier.identities.value:
        needs = store.needs(holder.name) if holder.may.value is None else None
        said: Answer[list[Verb]] = Answer("known", list(needs or ()), "estate.yaml")
        holders.append(msgspec.structs.replace(holder, may=said) if needs is not None else holder)
    told = msgspec.structs.replace(dossier.identities, value=holders)
    return msgspec.structs.replace(dossier, identities=told)


def credential_title(credential: Credential) -> str:
    """How a message names a credential: its owner, and its id masked."""
    return f"{credential.owner or 'nobody'} {masked(credential.id)}"


class StoreSubject:
    """The buckets of one store together with its identities and keys."""

    def __init__(
        self, dossier: Dossier, moment: datetime, buckets: Mapping[str, BucketSubject], store: Store | None = None
    ) -> None:
        self.buckets = buckets
        self.store = store
        self.moment = moment
        self.shapes = VerdictCache()
        self._can: dict[str, Fact] = {}
        self.roster = StoreIndex(dossier, moment, self.can, self.opened)

    @cached_property
    def across(self) -> EffectivePermissions:
        """What identities can do across the buckets."""
        return EffectivePermissions(self.buckets, self.roster)

    def can(self, holder: Identity) -> Fact:
        """The verbs that an identity has on at least one bucket."""
        if holder.name not in self._can:
            listing = self.roster.dossier.listing
            found: Fact = Answer(listing.state, None, listing.note, listing.evidence)
            if listing.settled:
                found = self.across.verbs(holder)
            self._can[holder.name] = found
        return self._can[holder.name]

    def opened(self, bucket: str, verb: str) -> Fact:
        """How far the public gets into a bucket."""
        view = self.buckets.get(bucket)
        if view is None:
            return Answer("failed", None, f"the bucket {bucket} was not read")
        return view.fact(f"exposure.{verb}")

    def fact(self, name: str, view: Any) -> Fact:
        """A fact of one of the store's subjects other than buckets; of one that was not read, why it was not."""
        if isinstance(view, Answer):
            return or_stated(name, Answer(view.state, None, view.note, view.evidence), self.store, self.moment)
        try:
            found = derive(name, view)
        except UnknownFact:
            raise
        except Exception as error:  # whatever goes wrong is unknown of this subject alone
            found = Answer("failed", None, defect(error))
        return or_stated(name, found, self.store, self.moment)

    def observer(self, view: Any) -> Callable[[str], Fact]:
        """How the facts of one of the store's subjects are asked for."""
        return lambda name: self.fact(name, view)

    def subjects(self) -> Iterator[tuple[SubjectRef, Any]]:
        """Everything besides buckets that a baseline can speak of, with what its facts derive from.

        Where a whole section was not read, one subject stands for all that may be in it.
        """
        dossier = self.roster.dossier
        yield SubjectRef("store", dossier.store, dossier.store, dossier.store), self.roster
        sections: list[tuple[str, Answer[Any], Any]] = [
            ("identity", dossier.identities, self.holder),
            ("credential", dossier.credentials, self.credential),
            ("encryption-key", dossier.encryption_keys, self.key),
            ("link", dossier.links, self.link),
        ]
        for kind, section, view_of in sections:
            if not section.settled:
                yield SubjectRef(kind, dossier.store, "", f"any {kind}", unseen=True), section
            for entry in section.value or ():
                found = view_of(entry)
                if found is not None:
                    yield found

    def holder(self, holder: Identity) -> tuple[SubjectRef, IdentityView]:
        """An identity as a subject."""
        spoken = SubjectRef("identity", self.roster.dossier.store, holder.name, holder.name, holder.tags)
        return spoken, IdentityView(holder, self.roster)

    def credential(self, credential: Credential) -> tuple[SubjectRef, CredentialView] | None:
        """A credential as a subject: sheets speak of it by its owner's name and tags; a disabled one is none."""
        if credential.state.value == "disabled":
            return None
        view = self.credential_view(credential)
        title = credential_title(credential)
        listed = self.roster.dossier.identities
        nobody: Answer[dict[str, str]] = Answer(listed.state if listed.unread else "absent", None, listed.note)
        tags = view.owner.tags if view.owner else nobody
        return SubjectRef("credential", self.roster.dossier.store, credential.owner, title, tags), view

    def credential_view(self, credential: Credential) -> CredentialView:
        """A credential with what its facts derive from."""
        return CredentialView(credential, self.roster)

    def key(self, key: EncryptionKey) -> tuple[SubjectRef, KeyView]:
        """An encryption key as a subject."""
        title = next(iter(key.names), key.id)
        return SubjectRef("encryption-key", self.roster.dossier.store, title, title), KeyView(key, self.roster)

    def link(self, link: Link) -> tuple[SubjectRef, LinkView] | None:
        """A link as a subject, by the name of its bucket; one that opens nothing any more is none."""
        view = LinkView(link, self.roster)
        if view.standing in ("revoked", "expired", "dead"):
            return None
        return self.link_spoken(link), view

    def link_spoken(self, link: Link) -> SubjectRef:
        """How sheets speak of a link."""
        return SubjectRef("link", self.roster.dossier.store, link.bucket, f"{link.bucket}/{link.key}")


def circles(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[StoreSubject]:
    """The stores of a survey, each with its buckets by name."""
    entries = {store.name: store for store in estate.stores} if estate else {}
    trusted = estate.trusted_accounts if estate else frozenset()
    networks = estate.trusted_networks if estate else ()
    found = []
    for dossier in dossiers:
        near: dict[str, BucketSubject] = {}
        entry = entries.get(dossier.store)
        circle = StoreSubject(with_needs(dossier, entry), moment, near, entry)
        for bucket in sorted(dossier.buckets, key=lambda b: b.name):
            near[bucket.name] = BucketSubject(bucket, dossier, moment, entry, trusted, near, circle, networks)
        found.append(circle)
    return found


def views(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[BucketSubject]:
    """All buckets of a survey, store by store, by name."""
    return [view for circle in circles(dossiers, estate, moment) for view in circle.buckets.values()]
