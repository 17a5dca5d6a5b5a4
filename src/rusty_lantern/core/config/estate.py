"""The estate file: which stores a team answers for, how each is read, and whom the team trusts.

Credentials are named here, never written: a profile, environment variables, a file. A secret in the file is
refused and not repeated in the message.
"""

from __future__ import annotations

from fnmatch import fnmatchcase
from typing import Literal

import msgspec

from rusty_lantern.core.config.object_scan import (
    Inventory,
    Sample,
    ScanDepth,
)
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.identity import Verb

REGION = "{region}"
"""What stands in an address for the name of a region."""


class Credential(msgspec.Struct, frozen=True):
    """Where a credential is found. `kind`: `profile`, `environment`, `file` or `chain` (the provider's own); `token`
    for a bearer token, whose name is `env:VARIABLE` or `file:PATH`; `keystone` for one that an identity service gives a
    token for; `account-key` and `signed-link` for the blob protocol, named as a token is; `none` where none is
    needed."""

    kind: str
    name: str = ""
    profile: str = ""
    place: Place | None = None
    at: str = ""
    """The identity service that gives the token, for `keystone`; `name` is as for `token`."""
    sort: Literal["", "application-credential", "user"] = ""
    """What is shown to it."""
    scope: str = ""
    """What a user's token is for: `system`, `project:NAME` or `domain:NAME`. Empty: nothing in particular."""


class Pace(msgspec.Struct, frozen=True):
    """How fast a store may be asked: at once, and per second."""

    at_once: int = 16
    per_second: int = 200


class Patience(msgspec.Struct, frozen=True):
    """Seconds that answers may be late, together, before the rest is given up: of one bucket, and of the store."""

    bucket: int = 30
    store: int = 300


class Attestation(msgspec.Struct, frozen=True):
    """What a store's owner says of a fact that cannot be read, why, and until when (ISO 8601)."""

    fact: str
    value: str
    because: str
    until: str
    place: Place


class Export(msgspec.Struct, frozen=True):
    """Documents that a console exported, and the layout by which they are read."""

    files: tuple[str, ...]
    """Files, folders or patterns, relative to the workspace."""
    layout: str
    """A layout that comes with the program, or a file."""
    newer_than: int = 0
    """How many seconds old the oldest of them may be; 0: as old as it is."""
    place: Place | None = None


class StoreConfig(msgspec.Struct, frozen=True):
    """One entry under `stores:`."""

    name: str
    place: Place
    reads: str
    at: str
    """The address that it is asked at: the last of several, which is the one before the others."""
    credential: Credential
    pace: Pace = Pace()
    addressing: str = "path"
    signing_place: str = "us-east-1"
    ca: str = ""
    plain_http: bool = False
    timeout: int = 30
    only: tuple[str, ...] = ()
    counts: str = "listing"
    """How buckets are counted: by `listing` them, or by the store's own `counters`."""
    stated: tuple[Attestation, ...] = ()
    objects: tuple[tuple[str, ScanDepth], ...] = ()
    """Bucket pattern → how far its objects are looked at; the first that fits counts."""
    sample: Sample = Sample()
    inventory: Inventory | None = None
    nodes: tuple[str, ...] = ()
    """Its other addresses: the nodes behind the first one, which `reach` looks at too."""
    regions: tuple[tuple[str, str], ...] = ()
    """Its other regions: the name of each, and its address."""
    pattern: str = ""
    """The address of any of its regions, with `{region}` for the name; empty where it has none."""
    proxy: str = ""
    """The address of the proxy through which all its addresses are asked; empty where there is none."""
    doors: tuple[DoorEntry, ...] = ()
    """The store's other doors: further protocols that it answers, each with a credential of its own."""
    identities: Service | None = None
    """Where the store's identity service answers."""
    beside: str | Export = ""
    """A dossier file, or exported documents, with what the protocol does not show: encryption keys, links, identities,
    settings of the account."""
    export: Export | None = None
    """The documents that a store is read by which is reached in no other way."""
    patience: Patience = Patience()
    dialect: str = ""
    """How its software reads policies: the name of a dialect. Empty: as it is recognized."""
    may: tuple[tuple[str, tuple[Verb, ...]], ...] = ()
    """Identity pattern → what identities of that name need; the first that fits counts."""

    @property
    def other_addresses(self) -> tuple[str, ...]:
        """The addresses of its nodes and its regions."""
        return (*self.nodes, *(at for _, at in self.regions))

    @property
    def several_regions(self) -> bool:
        """Whether buckets may live in another region than the one that is asked for their list."""
        return bool(self.regions or self.pattern)

    @property
    def addresses(self) -> tuple[str, ...]:
        """Where its buckets may be asked about: its own address, those of its regions, and their pattern."""
        return (self.at, *(at for _, at in self.regions), *((self.pattern,) if self.pattern else ()))

    def address_in(self, region: str) -> str:
        """The address of one of its regions; empty where the estate file has none."""
        if region == self.signing_place:
            return self.at
        return dict(self.regions).get(region) or self.pattern.replace(REGION, region)

    def needs(self, identity: str) -> tuple[Verb, ...] | None:
        """What an identity needs, by the estate file; None where it does not say."""
        return next((verbs for pattern, verbs in self.may if fnmatchcase(identity, pattern)), None)

    def looks_at(self, bucket: str) -> ScanDepth:
        """How far a bucket's objects are looked at."""
        return next((looked for pattern, looked in self.objects if fnmatchcase(bucket, pattern)), "none")


class DoorEntry(msgspec.Struct, frozen=True):
    """A further protocol of a store: `swift`, `admin`, `account`, `filer`, or `web` for whatever is in front of it."""

    name: str
    at: str
    credential: Credential
    place: Place | None = None
    account: str = ""
    """The number of the account, at the account door."""


class Service(msgspec.Struct, frozen=True):
    """A store's identity service: its address, and how it is asked."""

    at: str
    signing_place: str = "us-east-1"
    """The place that questions are signed for, where they are signed."""
    kind: Literal["iam", "keystone", "minio"] = "iam"
    credential: Credential | None = None
    """None: the store's own."""
    roles: RoleMeanings | None = None
    """What roles mean to the store. None: nobody said."""


class RoleMeanings(msgspec.Struct, frozen=True):
    """What roles of an identity service let their holders do in a Swift store, as its proxy is set up.

    The names are those of its settings. Source: the server's documentation of its identity filter, measured on 2.38.
    """

    operator: frozenset[str] = frozenset({"admin", "swiftoperator"})
    """Owns every container of the account of the project that it is held in."""
    reseller_admin: frozenset[str] = frozenset({"reselleradmin"})
    """Owns every account, wherever it is held."""
    project_reader: frozenset[str] = frozenset()
    """Reads and lists every container of its project's account."""
    system_reader: frozenset[str] = frozenset()
    """Reads and lists every container of every account, wherever it is held."""


class Mirror(msgspec.Struct, frozen=True):
    """Buckets of one store that another is to hold as well; `lag`: for how many seconds it may be behind."""

    source: str
    target: str
    buckets: tuple[str, ...]
    lag: int
    place: Place

    @property
    def title(self) -> str:
        """`SOURCE → TARGET`."""
        return f"{self.source} → {self.target}"


class Estate(msgspec.Struct, frozen=True):
    """All the stores a team answers for."""

    name: str
    stores: tuple[StoreConfig, ...]
    trusted_accounts: frozenset[str] = frozenset()
    trusted_networks: tuple[str, ...] = ()
    mirrors: tuple[Mirror, ...] = ()
    sign: Credential | None = None
    """Where the key is found that surveys are signed with, as `env:VARIABLE` or `file:PATH`; None: they are not."""
