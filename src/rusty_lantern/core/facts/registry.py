"""The register of auditable facts: the single source of what a baseline can require.

A fact is one entry here and one function that derives it from a dossier. The register validates baselines,
types the JSON, and writes the reference page (`docs/facts.md`).

    >>> lookup("versioning").scale.name
    'never < suspended < on'
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any, Literal, Protocol, TypedDict, Unpack, get_args

import msgspec

from rusty_lantern.core.access.rules.rule_inputs import BucketInputs
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.errors import nearest
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.value_types import Scale


class BucketView(Protocol):
    """A bucket with everything that its facts follow from; `core.audit.bucket_subject` is one."""

    @property
    def bucket(self) -> Bucket:
        """What was read of it."""

    @property
    def dossier(self) -> Dossier:
        """Its store's dossier."""

    @property
    def inputs(self) -> BucketInputs:
        """What its rules are made from."""

    @property
    def index(self) -> StoreIndex:
        """Identities, credentials, encryption keys and links of the store."""

    @property
    def exposures(self) -> Mapping[str, Fact]:
        """The verdicts, and the widest of several, by the names of `core.access.solver.verdict_words`."""

    @property
    def probed(self) -> Fact:
        """How the anonymous test compared with the verdicts."""

    def access(self, name: str) -> Fact:
        """What a named identity can do (or `outside`: every named one that is not trusted)."""

    @property
    def principals(self) -> Mapping[str, Fact]:
        """Everybody who may use each verb here, by name."""

    def demanded(self, name: str) -> Fact:
        """What the policy demands of every upload (`core.access.solver.mandatory_conditions`), by name."""

    @property
    def own_accounts(self) -> frozenset[str]:
        """The account that the bucket is in, by every name that it has."""

    @property
    def trusted_accounts(self) -> frozenset[str]:
        """The other accounts that the estate file trusts."""

    def neighbour(self, name: str) -> BucketView | None:
        """Another bucket of the same store; None if it was not read."""

    @property
    def perhaps_copied(self) -> Mapping[str, Answer[Any]]:
        """The buckets of the store that the public may write to, and that may be copied into this one; why."""


Enter = Callable[["Derive"], "Derive"]
Derive = Callable[[Any, str], Fact]
"""Derives a fact of a subject (for a bucket a `BucketView`); the second argument is what `*` in its name is."""


Area = Literal["access", "encryption", "versions and locks", "logging", "objects", "housekeeping"]
AREAS: tuple[Area, ...] = get_args(Area)


class Definition(msgspec.Struct, frozen=True, kw_only=True):
    """One entry of the register: everything that belongs to a fact. A name may end in `.*`: then any word may be there
    (`tags.steward`)."""

    name: str
    scale: Scale
    meaning: str
    derive: Derive
    unit: str = ""
    subject: str = "bucket"
    area: Area = "housekeeping"
    """Where a report counts it."""
    advice: str | tuple[tuple[str, str], ...] = ""
    """What puts it right where it drifts; or pairs of a value that was seen (empty: any) and that. `{wanted}`,
    `{observed}`, `{note}` and `{last}` (the last part of the name) are filled in."""
    causes: str = ""
    """The recorded actions that can change it, the likeliest first."""
    restless: bool = False
    """Whether it moves without anybody's doing, or is reported elsewhere, so that a change of it is no news."""
    grows: bool = False
    """Whether it grows by itself as time goes by: what is accepted of it is not held to a value."""
    habit: bool = True
    """Whether a draft may make a rule of what most have in common."""
    safe: str = ""
    """The only thing that a draft may require of it."""
    drafted: tuple[str, ...] = ()
    """Of a name that ends in `.*`: the words in its place that a draft may make a rule of."""
    grave: bool = False
    """Whether a draft calls its drift high."""
    mirrored: bool = False
    """Whether a copy needs it as much as the original."""
    asks_objects: Literal["", "acl", "tags"] = ""
    """What it needs to have asked of each object, besides its headers."""


REGISTER: dict[str, Definition] = {}


def fact(name: str, scale: Scale, meaning: str, *, of: str = "bucket", **more: Unpack[Attributes]) -> Enter:
    """Enter the decorated function into the register as the way to derive `name` of that kind of subject."""

    def enter(derive: Derive) -> Derive:
        if name in REGISTER:
            raise ValueError(f"the register already has {name}")
        if of == "encryption-key":
            more.setdefault("area", "encryption")
        REGISTER[name] = Definition(name=name, scale=scale, meaning=meaning, derive=derive, subject=of, **more)
        return derive

    return enter


class Attributes(TypedDict, total=False):
    """The attributes of an entry that have a default."""

    unit: str
    area: Area
    advice: str | tuple[tuple[str, str], ...]
    causes: str
    restless: bool
    grows: bool
    habit: bool
    safe: str
    drafted: tuple[str, ...]
    grave: bool
    mirrored: bool
    asks_objects: Literal["", "acl", "tags"]


class UnknownFact(KeyError):
    """No such fact in the register; `hint` is the nearest right spelling, if any."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.hint = nearest(name, REGISTER)


@lru_cache(maxsize=4096)
def lookup(name: str) -> Definition:
    """The definition that `name` belongs to. Raises `UnknownFact`."""
    definition = REGISTER.get(name) or REGISTER.get(family(name) + ".*")
    if definition is None or name.endswith((".", ".*")):
        raise UnknownFact(name)
    return definition


def family(name: str) -> str:
    """What comes before the part of a fact's name that may be any word.

    >>> family("tags.steward"), family("objects.metadata.station")
    ('tags', 'objects.metadata')
    """
    parts = name.split(".", 2)
    return ".".join(parts[:2]) if parts[0] == "objects" else parts[0]


def derive(name: str, subject: Any) -> Fact:
    """The fact called `name` of this subject."""
    of_subject, last = derivation(name)
    return of_subject(subject, last)


@lru_cache(maxsize=4096)
def derivation(name: str) -> tuple[Derive, str]:
    """How a fact is derived, and what `*` in its name is. Raises `UnknownFact`."""
    return lookup(name).derive, name.partition(".")[2]
