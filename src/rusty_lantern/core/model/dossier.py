"""The dossier: one store at one moment, as an open JSON document.

Readers of live stores yield a dossier; a store's owner can write one by hand or export it. What a dossier
leaves out counts as *not read*, which is `unknown`, never fine. `docs/schemas/dossier.json` is made from these
types. The document names its version in `dossier:`; a reader refuses a newer one than it knows.
"""

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread
from rusty_lantern.core.errors import BadInput, Damaged, Place, Problem
from rusty_lantern.core.model.bucket import AccountAcl, Bucket
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import Credential, Group, Identity
from rusty_lantern.core.model.network import Network
from rusty_lantern.core.model.resources import Certificate, EncryptionKey, Link, ShownCertificate

AclReading = Literal["tempauth", "keystone", "gateway", ""]
"""Which kind of server reads container ACLs: one with users of its own, one with an identity service's, or a gateway
that has the Swift protocol besides another. Empty: not known."""


class Door(msgspec.Struct, frozen=True, omit_defaults=True):
    """One protocol that a store answers, at one address. `read`: whether what it shows is in this dossier."""

    name: Literal["s3", "swift", "admin", "account", "web", "filer"]
    at: str
    read: bool = False
    note: str = ""
    """Why it was not read."""
    found: bool = False
    """Whether it was found there, and the estate file does not name it."""
    lets_in: bool = False
    """Whether it answers whoever sends no credentials, about everything that the store holds."""
    takes_changes: bool | None = None
    """Of a filer: whether it takes changes from whoever sends no credentials. None: not known."""


OBJECT_GATEWAY = "an object gateway"


class Software(msgspec.Struct, frozen=True, omit_defaults=True):
    """What answers for a store, as far as its answers show."""

    name: str
    """In words; empty where nothing in its answers is known."""
    release: str = ""
    """Its release, where it says so."""
    dialect: str = ""
    """How it reads policies: the name of a dialect. Empty: nobody knows, so the common reading is taken."""
    note: str = ""
    """Why this dialect, where that needs a word."""


NOT_ALL_LISTED = "does not list all of its buckets"
DOSSIER_VERSION = 3
"""The version of the document that this code writes, and the only one that it reads: names changed with the third."""


class Dossier(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One store at one moment."""

    dossier: int = DOSSIER_VERSION
    """The version of the document."""
    store: str
    taken: datetime
    protocol: str = ""
    """How the store was read: the word after `reads:` in estate.yaml; empty in a document that does not say."""
    address: str = ""
    transport: Literal["tls", "plain", ""] = ""
    account: Answer[str] = unread()
    doors: Answer[list[Door]] = unread()
    """The store's protocols beside the one that it was read by."""
    account_acl: Answer[AccountAcl] = unread()
    acl_reading: AclReading = ""
    software: Answer[Software] = unread()
    dialect: Dialect | None = None
    """The dialect itself, where it does not come with the program."""
    temporary_url_key: Answer[bool] = unread()
    account_number: str = ""
    """The number of that account, where its identities' resource names hold it."""
    public_access_guards: Answer[Guards] = unread()
    listing: Answer[int] = unread()
    """Whether the buckets could be listed at all, and how many there were."""
    buckets: list[Bucket] = []
    identities: Answer[list[Identity]] = unread()
    groups: Answer[list[Group]] = unread()
    credentials: Answer[list[Credential]] = unread()
    encryption_keys: Answer[list[EncryptionKey]] = unread()
    service: Answer[str] = unread()
    """The identity that the store itself uses encryption keys with."""
    links: Answer[list[Link]] = unread()
    network: Answer[Network] = unread()
    certificate: Answer[Certificate] = unread()
    """Unsupported where the store is not asked over TLS."""
    other_certificates: list[ShownCertificate] = []
    """The same of its other addresses that are asked over TLS: nodes, regions, doors."""
    plain_http: Answer[bool] = unread()
    """Whether the store answers over plain http as well."""
    legacy_signatures: Answer[bool] = unread()
    """Whether the store accepts signatures of the first generation."""
    minimum_tls: Answer[Literal["1.0", "1.1", "1.2", "1.3"]] = unread()
    """The oldest release of TLS that the store still accepts."""
    shared_keys: Answer[bool] = unread()
    """Whether the account's own keys open everything in it, beside its identities."""
    bucket_soft_delete: Answer[int] = unread()
    """For how many seconds a deleted bucket can be brought back; absent: not at all."""
    every_bucket: Bucket | None = None
    """What is set for all buckets of the store at once; its name is `*`. A bucket's own answer comes first."""
    exported: datetime | None = None
    """When the document was made that this was read from, where it came as one."""
    tag: str = ""
    """The ETag that it came with."""

    @property
    def blind(self) -> str:
        """Why the store may have buckets that its list does not show; empty where it shows all. A gateway lists one's
        own alone: its administration door is the only full list."""
        shut = next((door for door in self.doors.value or () if door.name == "admin" and not door.read), None)
        return f"the administration door was not read: {shut.note}" if shut else ""

    @property
    def unlisted(self) -> str:
        """Why not all of its buckets are known; empty where they are."""
        why = self.blind if self.listing.settled else self.listing.reason
        return f"{NOT_ALL_LISTED}: {why}" if why and (self.listing.settled or self.buckets) else why


def lost_dossier(store: str, address: str, taken: datetime, why: Answer[Any]) -> Dossier:
    """The dossier of a store of which nothing was read: every answer is why."""
    answers: dict[str, Any] = {
        name: why
        for name, default in zip(Dossier.__struct_fields__, Dossier.__struct_defaults__, strict=True)
        if isinstance(default, Answer)
    }
    return Dossier(store=store, address=address, taken=taken, **answers)


@contextmanager
def undisturbed() -> Iterator[None]:
    """Without the collector of cyclic garbage, for work that makes many objects and no garbage: four times as fast."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def encode(dossier: Dossier) -> bytes:
    """The dossier as UTF-8 JSON, the same bytes for the same dossier."""
    written = msgspec.json.encode(dossier)
    return msgspec.json.format(b'{"dossier":%d,' % DOSSIER_VERSION + written[1:], indent=1) + b"\n"


def decode(document: bytes, file: str) -> Dossier:
    """Read a dossier. Raises `BadInput` or `Damaged` naming `file` and the place inside it."""
    try:
        version = version_of(document)
        if version > DOSSIER_VERSION:
            what = f"this dossier is of version {version}; this lantern reads version {DOSSIER_VERSION}"
            raise BadInput(Problem(what, Place(file), "use a newer lantern"))
        if 0 < version < DOSSIER_VERSION:
            what = f"this dossier is of version {version}, whose words are no longer read"
            raise BadInput(Problem(what, Place(file), f"export it as version {DOSSIER_VERSION}, or take a new survey"))
        with undisturbed():
            return msgspec.json.decode(document, type=Dossier)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise Damaged(Problem(f"not a dossier: {error}", Place(file))) from None


def version_of(document: bytes) -> int:
    """The version that a document names; 0 where it names none. Raises what msgspec raises. Those that `encode` writes
    name it first, so that nothing else of them is looked at."""
    if document.startswith(b'{\n "dossier": %d,' % DOSSIER_VERSION):
        return DOSSIER_VERSION
    return msgspec.json.decode(document, type=_Versioned).dossier


class _Versioned(msgspec.Struct):
    dossier: int = 0
