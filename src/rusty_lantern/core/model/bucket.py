"""What a dossier holds about one bucket."""

from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.acl import Grant, ObjectAcls, Right
from rusty_lantern.core.model.bucket_contents import EarlierCount, Table, Uploads, Usage, Versions
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.network import Network


class Versioning(msgspec.Struct, frozen=True, omit_defaults=True):
    """Whether overwritten and deleted objects are kept; `second_factor`: whether deleting versions needs one."""

    state: Literal["never", "suspended", "on"]
    mfa: bool = False


class Encryption(msgspec.Struct, frozen=True, omit_defaults=True):
    """Default encryption of new objects: who keeps the key, which algorithm the store names, which key.

    `by` is empty where data are encrypted, and who keeps the key is not shown with the bucket.
    """

    by: Literal["", "provider-managed", "customer-managed", "customer-provided"]
    algorithm: str = ""
    key: str = ""
    enforced: bool = False
    """Whether uploads cannot ask for another one."""
    customer_provided_refused: bool = False
    """Whether this setting refuses uploads that bring a key of their own, which the store does not keep."""


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
    expires_on: datetime | None = None
    """The day from which it deletes every current object, however new."""
    narrowed: str = ""
    """What narrows it besides the prefix, in words (`Tag`, `NewerNoncurrentVersions`); empty: nothing does."""

    @property
    def for_all(self) -> bool:
        """Whether nothing in the bucket is left out of it."""
        return self.enabled and not self.prefix and not self.narrowed


class ReplicationRule(msgspec.Struct, frozen=True, omit_defaults=True):
    """A rule by which the store itself copies what is stored into another bucket."""

    target: str
    """Its name in this store; or its whole address, or resource name, where it may be in another one."""
    narrowed: str = ""
    """What narrows it, in words (`Prefix`, `Tag`); empty: it copies everything."""
    account: str = ""
    """The account of the target; empty: not shown."""


class Website(msgspec.Struct, frozen=True, omit_defaults=True):
    """Web hosting: a door of its own beside the bucket's."""

    index: str = ""
    redirects_to: str = ""
    """The hosts that it sends visitors to, by any rule, joined by commas."""
    lists: bool = False
    """Whether it shows visitors what is in it where there is no page to show."""


class CrossOrigin(msgspec.Struct, frozen=True, omit_defaults=True):
    """Which web pages may use the bucket from a visitor's browser."""

    origins: list[str]
    methods: list[str]


class RetentionBounds(msgspec.Struct, frozen=True, omit_defaults=True):
    """The shortest and the longest retention that the store lets anybody set, in seconds; 0: no such bound."""

    shortest: int = 0
    longest: int = 0


class UploadLimits(msgspec.Struct, frozen=True, omit_defaults=True):
    """What the store accepts into a bucket: content types (none named: any) and the largest size (0: any)."""

    types: list[str] = []
    largest: int = 0


class SharedQuota(msgspec.Struct, frozen=True, omit_defaults=True):
    """The most that all buckets of an owner may hold together; 0: no limit of that kind."""

    bytes: int = 0
    objects: int = 0
    tier: str = ""
    """Only the buckets in this tier share it; empty: all of the owner's."""
    in_blocks: bool = False
    """Whether each object counts with the whole blocks that it takes up."""


EVENT_BUS = "event-bus"
"""A target of notifications that has no resource name: the event bus of the bucket's account."""


class Quota(msgspec.Struct, frozen=True, omit_defaults=True):
    """The most that a bucket may hold; 0: no limit of that kind."""

    bytes: int = 0
    objects: int = 0
    in_blocks: bool = False
    """Whether each object counts with the whole blocks that it takes up."""
    shared: list[SharedQuota] = []
    """Quotas that it shares with other buckets of its owner."""

    @property
    def most_bytes(self) -> int:
        """The most bytes that it may hold by all of them; 0: no limit."""
        return min(filter(None, (self.bytes, *(one.bytes for one in self.shared))), default=0)

    @property
    def most_objects(self) -> int:
        """The most objects that it may hold by all of them; 0: no limit."""
        return min(filter(None, (self.objects, *(one.objects for one in self.shared))), default=0)


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
    claims: str = ""
    """The address that the request said it came from, and did not; empty where it said nothing of one."""
    allowed: bool = True
    """Whether the rules, as they were read then, surely let in this very request, from whatever address it comes, and
    not only others for the same verb."""


class VersionSource(msgspec.Struct, frozen=True, omit_defaults=True):
    """A container whose earlier versions the store keeps in another one: whoever writes to it writes there as well."""

    name: str
    read: str = ""
    write: str = ""
    takes_back: bool = False
    """Whether a deletion in it takes the latest version out of the other one again."""


class CopySource(msgspec.Struct, frozen=True, omit_defaults=True):
    """A container that is synchronized to another one: the store copies there what is stored in it, and deletes there
    what is deleted."""

    name: str
    write: str = ""
    through: str = ""
    """The container in between: this one is synchronized to it, and it to the other. Empty: there is none."""

    @property
    def way(self) -> str:
        """Its name, and how its copies get there."""
        between = f"{self.through}, and that one to " if self.through else ""
        return f"{self.name}, which is synchronized to {between}a container of this account and name"


class ContainerAcl(msgspec.Struct, frozen=True, omit_defaults=True):
    """The two headers of the Swift protocol that say who may read and who may write, as the store shows them."""

    read: str = ""
    write: str = ""
    versions_of: list[VersionSource] = []
    """The containers whose earlier versions are kept in this one."""
    versions_unread: str = ""
    """Why earlier versions of others may be kept in it as well; empty where that is known."""
    copies_of: list[CopySource] = []
    """The containers that are synchronized to one of this name in this account, perhaps in another store."""
    copies_unread: str = ""
    """Why others may be as well; empty where that is known."""
    index_alone: bool = False
    """Whether the server shows whoever has no token a page of the container where they ask for its listing."""


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
    differs_by_door: Answer[list[str]] = unread("only one door shows it")
    """Fields that another door of the store shows differently."""
    rights: Answer[list[Right]] = unread()
    """Only stores of another kind have them; those of the common protocol have policies and grants."""
    granted_by: Answer[Literal["bucket", "object"]] = unread()
    """Whether rights are given to the bucket as a whole, or to each object too."""
    network: Answer[Network] = unread()
    public_status: Answer[bool] = unread()
    anonymous_test: Answer[list[ProbeAnswer]] = unread("no anonymous test was made: lantern survey --probe makes one")
    public_access_guards: Answer[Guards] = unread()
    access_points: Answer[list[AccessPoint]] = unread()
    """Further addresses of it, with policies of their own; those that other accounts have of it are shown to them."""
    versioning: Answer[Versioning] = unread()
    encryption: Answer[Encryption] = unread()
    lock: Answer[Lock] = unread()
    temporary_url_key: Answer[bool] = unread()
    """Whether a key is set that anybody who has it can make temporary URLs with; the key itself is never kept."""
    synchronization_key: Answer[bool] = unread()
    """Whether a key is set by which another store's container is kept in step, and by which anybody who has it may
    store and delete objects without a token; the key itself is never kept."""
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
    bounds: Answer[RetentionBounds] = unread()
    before: Answer[EarlierCount] = Answer("absent")
    """Added by a survey, from an earlier one; only where there is a quota."""
    tier: Answer[str] = unread()
    accepts: Answer[UploadLimits] = unread()
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
    replication: Answer[list[ReplicationRule]] = unread()
    """Names of the buckets that are written to as well."""
    notifications: Answer[list[str]] = unread()
    """Resource names of those that are notified of changes; `event-bus`: the event bus of the bucket's account."""
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

    @property
    def left_out(self) -> str:
        """Why its version table may lack old versions, and objects whose latest version is a delete marker; empty where
        it has all of them, and where there is no table."""
        versions, versioning, table = self.versions, self.versioning, self.table.value
        if table is None or (versioning.value and versioning.value.state == "never"):
            return ""
        if versions.settled:  # by another document, where the listing showed none
            gone = table.current_alone and versions.value is not None and versions.value.old
            return f"old versions were not listed ({versions.value.old:,} of them)" if gone and versions.value else ""
        if versions.state == "unsupported" and not (versioning.value or versioning.unread):
            return ""  # the store keeps none
        return f"old versions were not listed ({versions.reason})"
