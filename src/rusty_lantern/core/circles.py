"""One store as a whole: its buckets together with its identities, credentials, encryption keys and links."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any

import msgspec

from rusty_lantern.core.access.across import Across
from rusty_lantern.core.access.shapes import Shapes
from rusty_lantern.core.baseline.choosing import Spoken
from rusty_lantern.core.dossier import Dossier
from rusty_lantern.core.errors import defect
from rusty_lantern.core.estate import Stated, Store
from rusty_lantern.core.evidence import Answer
from rusty_lantern.core.facts import Fact, UnknownFact, derive, lookup
from rusty_lantern.core.holders import Credential, EncryptionKey, Holder, Link, Verb, masked
from rusty_lantern.core.roster import CredentialView, HolderView, KeyView, LinkView, Roster
from rusty_lantern.core.scales import NotOnScale, read_moment

if TYPE_CHECKING:
    from rusty_lantern.core.assess import BucketView


def or_stated(name: str, found: Fact, store: Store | None, moment: datetime) -> Fact:
    """A fact; where it could not be read and the store's owner states it, what is stated."""
    if found.settled or store is None:
        return found
    said = next((s for s in store.stated if s.fact == name), None)
    return _stated(said, found, moment) if said else found


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


class Circle:
    """The buckets of one store together with its identities and keys."""

    def __init__(
        self, dossier: Dossier, moment: datetime, buckets: Mapping[str, BucketView], store: Store | None = None
    ) -> None:
        self.buckets = buckets
        self.store = store
        self.moment = moment
        self.shapes = Shapes()
        self._can: dict[str, Fact] = {}
        self.roster = Roster(dossier, moment, self.can, self.opened)

    @cached_property
    def across(self) -> Across:
        """What identities can do across the buckets."""
        return Across(self.buckets, self.roster)

    def can(self, holder: Holder) -> Fact:
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

    def subjects(self) -> Iterator[tuple[Spoken, Any]]:
        """Everything besides buckets that a baseline can speak of, with what its facts derive from.

        Where a whole section was not read, one subject stands for all that may be in it.
        """
        dossier = self.roster.dossier
        yield Spoken("store", dossier.store, dossier.store, dossier.store), self.roster
        sections: list[tuple[str, Answer[Any], Any]] = [
            ("identity", dossier.identities, self.holder),
            ("credential", dossier.credentials, self.credential),
            ("encryption-key", dossier.encryption_keys, self.key),
            ("link", dossier.links, self.link),
        ]
        for kind, section, view_of in sections:
            if not section.settled:
                yield Spoken(kind, dossier.store, "", f"any {kind}", unseen=True), section
            for entry in section.value or ():
                found = view_of(entry)
                if found is not None:
                    yield found

    def holder(self, holder: Holder) -> tuple[Spoken, HolderView]:
        """An identity as a subject."""
        spoken = Spoken("identity", self.roster.dossier.store, holder.name, holder.name, holder.tags)
        return spoken, HolderView(holder, self.roster)

    def credential(self, credential: Credential) -> tuple[Spoken, CredentialView] | None:
        """A credential as a subject: sheets speak of it by its owner's name and tags; a disabled one is none."""
        if credential.state.value == "disabled":
            return None
        view = self.credential_view(credential)
        title = credential_title(credential)
        listed = self.roster.dossier.identities
        nobody: Answer[dict[str, str]] = Answer(listed.state if listed.unread else "absent", None, listed.note)
        tags = view.owner.tags if view.owner else nobody
        return Spoken("credential", self.roster.dossier.store, credential.owner, title, tags), view

    def credential_view(self, credential: Credential) -> CredentialView:
        """A credential with what its facts derive from."""
        return CredentialView(credential, self.roster)

    def key(self, key: EncryptionKey) -> tuple[Spoken, KeyView]:
        """An encryption key as a subject."""
        title = next(iter(key.names), key.id)
        return Spoken("encryption-key", self.roster.dossier.store, title, title), KeyView(key, self.roster)

    def link(self, link: Link) -> tuple[Spoken, LinkView] | None:
        """A link as a subject, by the name of its bucket; one that opens nothing any more is none."""
        view = LinkView(link, self.roster)
        if view.standing in ("revoked", "expired", "dead"):
            return None
        return self.link_spoken(link), view

    def link_spoken(self, link: Link) -> Spoken:
        """How sheets speak of a link."""
        return Spoken("link", self.roster.dossier.store, link.bucket, f"{link.bucket}/{link.key}")


def _stated(said: Stated, found: Fact, moment: datetime) -> Fact:
    if said.until and read_moment(said.until) < moment:
        note = f"{found.note}; the owner's statement ended on {said.until}".removeprefix("; ")
        return Answer(found.state, None, note, found.evidence)
    try:
        value = lookup(said.fact).scale.read(said.value)
    except (KeyError, NotOnScale) as error:
        return Answer("failed", None, f"what the owner states cannot be used: {error}", found.evidence)
    return Answer("stated", value, said.because, found.evidence)
