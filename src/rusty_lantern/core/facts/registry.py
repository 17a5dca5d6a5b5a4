"""The register of auditable facts: the single source of what a baseline can require.

A fact is one entry here and one function that derives it from a dossier. The register validates baselines,
types the JSON, and writes the reference page (`docs/facts.md`).

    >>> lookup("versioning").scale.name
    'never < suspended < on'
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import msgspec

from rusty_lantern.core.answer import Fact
from rusty_lantern.core.errors import nearest
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.value_types import Scale


class Subject(msgspec.Struct, frozen=True):
    """A bucket together with what bears on it: its store's dossier, and the exposures decided for it."""

    bucket: Bucket
    store: Dossier
    exposures: dict[str, Fact]
    """`AUDIENCE.VERB` → verdict."""
    doors: Fact
    """How knocking without credentials stood to the verdicts."""
    access: Callable[[str], Fact]
    """What the bucket's rules grant a named identity (or `outside`: every named one that is not trusted)."""
    demands: Callable[[str], Fact]
    """What the bucket's policy demands of every upload (`core.access.demands`), by name."""
    elsewhere: Callable[[str], Subject | None]
    """Another bucket of the same store, by name; None if it was not read."""
    trusted_only: frozenset[str]
    """The `AUDIENCE.VERB` whose verdict is fenced to networks that the team trusts."""
    roster: StoreIndex
    """Identities, credentials, encryption keys and links of the store."""


Derive = Callable[[Any, str], Fact]
"""Derives a fact of a subject (for a bucket a `Subject`); the second argument is what stands for `*` in its name."""


class Definition(msgspec.Struct, frozen=True):
    """One entry of the register. A name may end in `.*`: then any word may stand there (`tags.steward`)."""

    name: str
    scale: Scale
    unit: str
    meaning: str
    derive: Derive
    subject: str = "bucket"


REGISTER: dict[str, Definition] = {}


def fact(name: str, scale: Scale, meaning: str, *, unit: str = "", of: str = "bucket") -> Callable[[Derive], Derive]:
    """Enter the decorated function into the register as the way to derive `name` of that kind of subject."""

    def enter(derive: Derive) -> Derive:
        if name in REGISTER:
            raise ValueError(f"the register already has {name}")
        REGISTER[name] = Definition(name, scale, unit, meaning, derive, of)
        return derive

    return enter


class UnknownFact(KeyError):
    """No such fact in the register; `hint` is the nearest right spelling, if any."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.hint = nearest(name, REGISTER)


@lru_cache(maxsize=4096)
def lookup(name: str) -> Definition:
    """The definition that `name` belongs to. Raises `UnknownFact`."""
    found = REGISTER.get(name) or REGISTER.get(family(name) + ".*")
    if found is None or name.endswith((".", ".*")):
        raise UnknownFact(name)
    return found


def family(name: str) -> str:
    """What stands before the part of a fact's name that any word may stand for.

    >>> family("tags.steward"), family("objects.metadata.station")
    ('tags', 'objects.metadata')
    """
    parts = name.split(".", 2)
    return ".".join(parts[:2]) if parts[0] == "objects" else parts[0]


def derive(name: str, subject: Any) -> Fact:
    """The fact called `name` of this subject."""
    return lookup(name).derive(subject, name.partition(".")[2])


_GROWING = ("age", "idle", "oldest")
"""Ends of the names of facts that grow by themselves: what is accepted of them is not held to a value."""


def grows(fact: str) -> bool:
    """Whether a fact grows by itself as time goes by.

    >>> grows("credential.age"), grows("lock.keep")
    (True, False)
    """
    return fact.endswith(_GROWING)
