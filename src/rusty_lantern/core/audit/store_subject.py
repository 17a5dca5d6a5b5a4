"""One store as a whole: its buckets together with its identities, credentials, encryption keys and links."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from functools import cached_property
from typing import Any, ClassVar

import msgspec

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.rules.rule_inputs import store_inputs
from rusty_lantern.core.access.solver.verdict_cache import VerdictCache
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.declared_facts import or_stated
from rusty_lantern.core.audit.subject_names import name_of_credential, name_of_link, names_of
from rusty_lantern.core.config.estate import Estate, StoreConfig
from rusty_lantern.core.errors import defect
from rusty_lantern.core.facts.registry import UnknownFact, derive
from rusty_lantern.core.model.assumed_roles import RolesOf
from rusty_lantern.core.model.bucket_contents import Table, Versions
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, Identity, Verb
from rusty_lantern.core.model.resources import EncryptionKey, Link
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.model.subjects import OVER, CredentialView, IdentityView, KeyView, LinkView

NO_TAGS: Answer[dict[str, str]] = Answer("absent")


def with_needs(dossier: Dossier, store: StoreConfig | None) -> Dossier:
    """The dossier with what the estate file says that identities need, where they do not say themselves."""
    if store is None or not store.may or dossier.identities.value is None:
        return dossier
    with_all = []
    for identity in dossier.identities.value:
        needs = store.needs(identity.name) if identity.may.value is None else None
        said: Answer[list[Verb]] = Answer("known", list(needs or ()), "estate.yaml")
        with_all.append(msgspec.structs.replace(identity, may=said) if needs is not None else identity)
    return msgspec.structs.replace(dossier, identities=msgspec.structs.replace(dossier.identities, value=with_all))


class StoreSubject:
    """The buckets of one store together with its identities and keys."""

    def __init__(
        self,
        dossier: Dossier,
        moment: datetime,
        buckets: Mapping[str, BucketSubject],
        store: StoreConfig | None = None,
        trusted: frozenset[str] = frozenset(),
    ) -> None:
        self.buckets = buckets
        self.trusted = trusted
        self.store = store
        self.moment = moment
        self.dossier = dossier
        self.inputs = store_inputs(dossier)
        self.shapes = VerdictCache()
        self.index = StoreIndex(with_needs(dossier, store), moment)

    @property
    def name(self) -> str:
        """The store's name."""
        return self.index.dossier.store

    @cached_property
    def across(self) -> EffectivePermissions:
        """What identities can do across the buckets."""
        return EffectivePermissions(self.buckets, self.index)

    @cached_property
    def perhaps_copied(self) -> Mapping[str, Answer[Any]]:
        """The buckets that the public may write to, perhaps by way of copies, and of which nobody read what they are
        copied into; why."""
        unread, sources_of = self.index.replication_unread, self.index.sources_of
        shut = {name for name in unread if all(self._closed_to_writing(one) for one in (name, *sources_of(name)))}
        return {name: why for name, why in unread.items() if name not in shut}

    def _closed_to_writing(self, bucket: str) -> bool:
        return self.buckets[bucket].exposures["write"].value == "closed"

    @cached_property
    def _names(self) -> Mapping[int, str]:
        return names_of(self.index.dossier)

    def of_identity(self, identity: Identity) -> Fact:
        """The verbs that an identity has on at least one bucket."""
        listing = self.index.dossier.listing
        if not listing.settled:
            return Answer(listing.state, None, listing.note, listing.evidence)
        return self.across.verbs(identity)

    def roles_of(self, identity: Identity) -> RolesOf:
        """The roles that an identity may assume."""
        return self.across.roles.of(identity)

    def of_public(self, bucket: str, verb: str) -> Fact:
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
            derived = derive(name, view)
        except UnknownFact:
            raise
        except Exception as error:  # whatever goes wrong is unknown of this subject alone
            derived = Answer("failed", None, defect(error))
        return or_stated(name, derived, self.store, self.moment)

    def subjects(self) -> Iterator[PartSubject]:
        """Everything besides buckets that a baseline can be about.

        Where a whole section was not read, one subject represents all that may be in it.
        """
        dossier = self.index.dossier
        yield self._part("store", dossier.store, dossier.store, self.index)
        for kind, section, subject_of in self._sections():
            if not section.settled:
                yield self._part(kind, "", f"any {kind}", section)
            yield from (subject for entry in section.value or () if (subject := subject_of(entry)) is not None)

    def titles(self) -> set[str]:
        """The names of its buckets, and of all else that a baseline can be about."""
        return {*self.buckets, *(subject.label for subject in self.subjects())}

    def unlisted(self) -> list[str]:
        """The kinds of subject of which the store's list was not read."""
        sections = [("bucket", self.index.dossier.listing), *((kind, section) for kind, section, _ in self._sections())]
        kinds = [kind for kind, section in sections if not section.settled]
        return ["bucket", *kinds] if self.blind and "bucket" not in kinds else kinds

    @property
    def blind(self) -> str:
        """Why the store may have buckets that its list does not show; empty where it shows all."""
        return self.index.dossier.blind

    def _sections(self) -> list[tuple[str, Answer[Any], Callable[[Any], PartSubject | None]]]:
        """The lists of a dossier besides buckets, and what makes a subject of an entry."""
        dossier = self.index.dossier
        return [
            ("identity", dossier.identities, self.identity),
            ("credential", dossier.credentials, self.credential),
            ("encryption-key", dossier.encryption_keys, self.key),
            ("link", dossier.links, self.link),
        ]

    def _part(self, kind: str, name: str, label: str, view: Any, tags: Answer[dict[str, str]] = NO_TAGS) -> PartSubject:
        return PartSubject(self, kind, name, label, view, tags)

    def identity(self, identity: Identity) -> PartSubject:
        """An identity as a subject."""
        view = IdentityView(identity, self.index, self, self.trusted)
        return self._part("identity", identity.name, identity.name, view, identity.tags)

    def credential(self, credential: Credential) -> PartSubject | None:
        """A credential as a subject: sheets choose it by its owner's name and tags; a disabled one is none."""
        return None if credential.state.value == "disabled" else self.any_credential(credential)

    def any_credential(self, credential: Credential) -> PartSubject:
        """A credential, a disabled one too."""
        view = CredentialView(credential, self.index, self)
        listed = self.index.dossier.identities
        nobody: Answer[dict[str, str]] = Answer(listed.state if listed.unread else "absent", None, listed.note)
        tags = view.owner.tags if view.owner else nobody
        name = self._names.get(id(credential)) or name_of_credential(credential)
        return self._part("credential", credential.owner, name, view, tags)

    def key(self, key: EncryptionKey) -> PartSubject:
        """An encryption key as a subject."""
        title = next(iter(key.names), key.id)
        return self._part("encryption-key", title, title, KeyView(key, self.index))

    def link(self, link: Link) -> PartSubject | None:
        """A link as a subject, by the name of its bucket; one that opens nothing any more is none."""
        subject = self.any_link(link)
        return None if subject.view.status in OVER else subject

    def any_link(self, link: Link) -> PartSubject:
        """A link, one that opens nothing any more too."""
        view = LinkView(link, self.index, self)
        return self._part("link", link.bucket, self._names.get(id(link)) or name_of_link(link), view)


class PartSubject(msgspec.Struct, frozen=True):
    """An identity, a credential, an encryption key, a link, or the store itself, as a baseline knows it."""

    context: StoreSubject
    kind: str
    name: str
    label: str
    view: Any
    """What its facts derive from; where the section was not read, the answer that says why."""
    tags: Answer[dict[str, str]] = NO_TAGS
    table: ClassVar[Answer[Table]] = Answer("unsupported")
    left_out: ClassVar[str] = ""
    old_versions: ClassVar[Answer[Versions]] = Answer("unsupported")

    @property
    def store(self) -> str:
        """The name of its store."""
        return self.context.index.dossier.store

    @property
    def unseen(self) -> bool:
        """Whether it represents all of its kind, since none of them could be read."""
        return isinstance(self.view, Answer)

    def fact(self, name: str) -> Fact:
        """A fact of it by name."""
        return self.context.fact(name, self.view)


def store_subjects(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[StoreSubject]:
    """The stores of a survey, each with its buckets by name."""
    entries = {store.name: store for store in estate.stores} if estate else {}
    trusted = estate.trusted_accounts if estate else frozenset()
    networks = estate.trusted_networks if estate else ()
    subjects = []
    for dossier in dossiers:
        near: dict[str, BucketSubject] = {}
        entry = entries.get(dossier.store)
        store_subject = StoreSubject(dossier, moment, near, entry, trusted)
        for bucket in sorted(dossier.buckets, key=lambda b: b.name):
            near[bucket.name] = BucketSubject(bucket, dossier, moment, entry, trusted, near, store_subject, networks)
        subjects.append(store_subject)
    return subjects


def views(dossiers: list[Dossier], estate: Estate | None, moment: datetime) -> list[BucketSubject]:
    """All buckets of a survey, store by store, by name."""
    return [
        view for store_subject in store_subjects(dossiers, estate, moment) for view in store_subject.buckets.values()
    ]
