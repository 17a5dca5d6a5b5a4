"""What a dossier tells of one bucket."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread
from rusty_lantern.core.model.identity import Given, Verb
from rusty_lantern.core.model.network import Network

Grantee = Literal["anyone", "any-account", "log-delivery", "named"]


Permission = Literal["read", "write", "read-acp", "write-acp", "full-control"]


class Grant(msgspec.Struct, frozen=True, omit_defaults=True):
    """One entry of an ACL: to whom, and what. `identity` names the grantee where `to` is `named`."""

    to: Grantee
    permission: Permission
    identity: str = ""


class ObjectGrant(msgspec.Struct, frozen=True, omit_defaults=True):
    """What some object's own ACL grants the public; `key` is one such object, the first by name."""

    to: Literal["anyone", "any-account"]
    permission: Permission
    key: str = ""


class ObjectAcls(msgspec.Struct, frozen=True, omit_defaults=True):
    """What objects' own ACLs grant the public. `complete`: those of all versions were read."""

    acl: list[ObjectGrant] = []
    complete: bool = True


class Right(msgspec.Struct, frozen=True, omit_defaults=True):
    """A right that a store without policies grants: to whom, which verbs, and on which keys (those with the prefix).

    Anonymous levels of a container, rights of groups, role bindings and "create, read, update, delete for anyone"
    are all written so.
    """

    to: Literal["anyone", "any-account", "named", "group"]
    verbs: list[Given]
    prefix: str = ""
    identity: str = ""
    """The identity or the group, where it is to one."""
    source: str = ""
    """The setting that grants it, in words; empty: the right itself."""
    condition: str = ""
    """A condition that it counts under, as the store writes it. None is understood: it may count or not."""
    door: Literal["", "blob", "web"] = ""
    """The protocol that it counts at. A right at the `web` endpoint is kept back by no public-access guard."""

    @property
    def title(self) -> str:
        """How reasons name it."""
        return self.source or f"right to {', '.join(self.verbs)} for {self.identity or self.to}"

    def gives(self, verb: str) -> bool:
        """Whether it lets anybody do this: to create or to update is to write."""
        return verb in self.verbs or (verb == "write" and ("create" in self.verbs or "update" in self.verbs))


class Guards(msgspec.Struct, frozen=True, omit_defaults=True):
    """The four public-access guards. The first two refuse *new* public grants; the last two shut standing ones."""

    refuse_new_acls: bool = False
    ignore_acls: bool = False
    refuse_new_policies: bool = False
    restrict_policies: bool = False


class Versioning(msgspec.Struct, frozen=True, omit_defaults=True):
    """Whether overwritten and deleted objects are kept; `second_factor`: whether deleting versions needs one."""

    state: Literal["never", "suspended", "on"]
    mfa: bool = False


class Encryption(msgspec.Struct, frozen=True, omit_defaults=True):
    """Default encryption of new objects: who keeps the key, which algorithm the store names, which key.

    `by` is empty where data are encrypted, and who keeps the key is not told with the bucket.
    """

    by: Literal["", "provider-managed", "customer-managed", "customer-provided"]
    algorithm: str = ""
    key: str = ""
    enforced: bool = False
    """Whether uploads cannot ask for another one."""


class Lock(msgspec.Struct, frozen=True, omit_defaults=True):
    """Object lock: whether the bucket has it, and the default that new versions inherit (`retention` in seconds)."""

    enabled: bool
    mode: Literal["", "governance", "compliance"] = ""
    retention: int = 0
    whole: bool = False
    """Whether the default keeps every object of the bucket by its age, also those stored before: no version has a
    retention of its own then, and no versioning is needed."""
    final_from: datetime | None = None
    """From when on a retention that yields to bypass becomes one that yields to nobody."""
    default_unread: str = ""
    """Why the default is not known, where there may be one; empty where it is known."""


class Logging(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is recorded, where, and whose doings are left out. A store that writes elsewhere names no bucket."""

    target: str
    prefix: str = ""
    reads: bool = True
    writes: bool = True
    excluded_identities: list[str] = []
    """Identities whose doings are not recorded."""


class LifecycleRule(msgspec.Struct, frozen=True, omit_defaults=True):
    """One rule of expiry. Periods in seconds; 0: the rule does not do that."""

    name: str = ""
    enabled: bool = True
    prefix: str = ""
    expires: int = 0
    expires_old: int = 0
    clears_uploads: int = 0


class Website(msgspec.Struct, frozen=True, omit_defaults=True):
    """Web hosting: a door of its own beside the bucket's."""

    index: str = ""
    redirects_to: str = ""


class CrossOrigin(msgspec.Struct, frozen=True, omit_defaults=True):
    """Which web pages may use the bucket from a visitor's browser."""

    origins: list[str]
    methods: list[str]


class Versions(msgspec.Struct, frozen=True, omit_defaults=True):
    """What lies beneath the current objects. `complete` is false where counting stopped early."""

    old: int
    old_bytes: int
    markers: int
    complete: bool = True
    newest: datetime | None = None
    """When the newest of all versions was stored."""
    undated: int = 0
    """How many versions have a date that cannot be read."""


class Uploads(msgspec.Struct, frozen=True, omit_defaults=True):
    """Uploads that were begun and never finished: they cost, and no listing shows them."""

    count: int
    oldest: datetime | None = None
    complete: bool = True
    undated: int = 0
    """How many of them have a date that cannot be read."""


class Usage(msgspec.Struct, frozen=True, omit_defaults=True):
    """How much is stored. `complete` is false where counting stopped early: then both are lower bounds.

    `by` says who counted: a listing, the store's own counters (which may lag, and count old versions in), or an
    inventory that the provider made.
    """

    objects: int
    bytes: int
    complete: bool = True
    by: Literal["listing", "counters", "inventory"] = "listing"


class Table(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """What is kept of a bucket's objects beside the dossier, as a table with one row a version."""

    rows: int
    """Versions and delete markers."""
    versions: int
    """Versions, without delete markers."""
    looked: Literal["listed", "sample", "all"]
    inspected: int = 0
    """How many of the versions were looked at."""
    seed: int = 0
    """What the sample was drawn with."""
    confidence: float = 0.95
    """With what confidence bounds on a sample are stated."""
    reused: int = 0
    """How many of those were not looked at again, but taken over from the survey before."""
    source: Literal["listing", "inventory"] = "listing"
    object_acls: ObjectAcls | None = None
    """What their own ACLs grant the public; None where none was asked for."""


class Bounds(msgspec.Struct, frozen=True, omit_defaults=True):
    """The shortest and the longest retention that the store lets anybody set, in seconds; 0: no such bound."""

    shortest: int = 0
    longest: int = 0


class Accepts(msgspec.Struct, frozen=True, omit_defaults=True):
    """What the store accepts into a bucket: content types (none named: any) and the largest size (0: any)."""

    types: list[str] = []
    largest: int = 0


class Quota(msgspec.Struct, frozen=True, omit_defaults=True):
    """The most that a bucket may hold; 0: no limit of that kind."""

    bytes: int = 0
    objects: int = 0


class LinkPolicy(msgspec.Struct, frozen=True, omit_defaults=True):
    """A policy that a bucket stores for share links that name it: what they allow, and from when until when.

    Removing it ends its links; another one of the same name makes them work again.
    """

    name: str
    verbs: list[Verb] = []
    """None named: each link says it for itself."""
    starts: datetime | None = None
    expires: datetime | None = None
    """None: each link says it for itself, or never."""


class ProbeAnswer(msgspec.Struct, frozen=True, omit_defaults=True):
    """What the store answered to one request without credentials."""

    verb: Verb
    asked: str
    answer: str
    let_in: bool | None
    """None where the answer was neither yes nor no."""
    door: str = ""
    """The door that it was sent through, where that is not the one that the store is read by."""
    no_public_access: bool = False
    """Whether the store said that the whole account allows no public access."""


class ContainerAcl(msgspec.Struct, frozen=True, omit_defaults=True):
    """The two headers of the Swift protocol that say who may read and who may write, as the store shows them."""

    read: str = ""
    write: str = ""


class AccountAcl(msgspec.Struct, frozen=True, omit_defaults=True):
    """Who may get into every container of an account, by the Swift protocol."""

    read_only: list[str] = []
    read_write: list[str] = []
    admin: list[str] = []


Ownership = Literal["bucket-owner-enforced", "bucket-owner-preferred", "object-writer"]
"""`bucket-owner-enforced` disables ACLs altogether."""


Redundancy = Literal["one-device", "one-zone", "several-zones", "several-regions"]
"""Over what a bucket's data are spread, the least first."""


class Bucket(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """Everything read of one bucket. Each field is an answer with its state and evidence."""

    name: str
    created: Answer[datetime] = unread()
    region: Answer[str] = unread()
    owner: Answer[str] = unread()
    tenant: Answer[str] = unread()
    acl: Answer[list[Grant]] = unread()
    ownership: Answer[Ownership] = unread()
    object_acls: Answer[ObjectAcls] = unread("no object ACLs were read")
    policy: Answer[str] = unread()
    container_acl: Answer[ContainerAcl] = unread()
    """What the Swift protocol says of the bucket, by a door beside it or by the store's own protocol."""
    owner_acl: Answer[AccountAcl] = unread()
    """The account ACL of the bucket's owner, where that was asked for each owner; else the store's is meant."""
    differs_by_door: Answer[list[str]] = unread("only one door tells of it")
    """Fields that another door of the store tells otherwise."""
    rights: Answer[list[Right]] = unread()
    """Only stores of another kind have them; those of the common protocol have policies and grants."""
    granted_by: Answer[Literal["bucket", "object"]] = unread()
    """Whether rights are given to the bucket as a whole, or to each object too."""
    network: Answer[Network] = unread()
    public_status: Answer[bool] = unread()
    anonymous_test: Answer[list[ProbeAnswer]] = unread("no anonymous test was made: lantern survey --probe makes one")
    public_access_guards: Answer[Guards] = unread()
    versioning: Answer[Versioning] = unread()
    encryption: Answer[Encryption] = unread()
    lock: Answer[Lock] = unread()
    temporary_url_key: Answer[bool] = unread()
    """Whether a key is set that anybody who has it can make temporary URLs with; the key itself is never kept."""
    tags: Answer[dict[str, str]] = unread()
    usage: Answer[Usage] = unread()
    counters: Answer[Usage] = unread()
    """The store's own count of everything in the bucket, old versions too."""
    quota: Answer[Quota] = unread()
    versions: Answer[Versions] = unread()
    table: Answer[Table] = unread("objects were not inspected: lantern survey --objects inspects them")
    uploads: Answer[Uploads] = unread()
    soft_delete: Answer[int] = unread()
    """For how many seconds what is deleted can be brought back; absent: not at all."""
    bounds: Answer[Bounds] = unread()
    tier: Answer[str] = unread()
    accepts: Answer[Accepts] = unread()
    scanned: Answer[bool] = unread()
    """Whether uploads are scanned for malware."""
    project: Answer[str] = unread()
    division: Answer[str] = unread()
    scheduled_deletion: Answer[datetime] = unread()
    """When the bucket itself is going to be deleted; absent: it is not."""
    logging: Answer[Logging] = unread()
    lifecycle: Answer[list[LifecycleRule]] = unread()
    website: Answer[Website] = unread()
    cross_origin: Answer[list[CrossOrigin]] = unread()
    replication: Answer[list[str]] = unread()
    """Names of the buckets that are written to as well."""
    notifications: Answer[list[str]] = unread()
    """Resource names of what is told about changes."""
    requester_pays: Answer[bool] = unread()
    transfer_endpoint: Answer[bool] = unread()
    enabled: Answer[bool] = unread()
    """Whether the bucket is switched on; one that is off answers nobody."""
    redundancy: Answer[Redundancy] = unread()
    compression: Answer[bool] = unread()
    legal_hold: Answer[bool] = unread()
    """Whether a legal hold on the bucket as a whole keeps everything in it."""
    leased: Answer[bool] = unread()
    """Whether a lease without an end keeps the bucket from being deleted."""
    link_policies: Answer[list[LinkPolicy]] = unread()
