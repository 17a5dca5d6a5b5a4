"""Which subjects a sheet applies to: by name, store and tags, by any fact, and by combinations of these.

    of:
      name: ["gallery-*", press-kit]          # one pattern has to fit
      created: at most 2020-01-01             # any fact, compared as in a requirement
      not: {tags.class: scratch}
      any of: [{exposure.read: open}, {bytes: at least 1 TB}]

Every part of a mapping has to fit. What unknown makes it three-valued: a sheet fits, does not, or may.
"""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase
from typing import NamedTuple, Protocol

import msgspec

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.baseline.comparisons import Comparison, ImpossibleComparison, read_comparison
from rusty_lantern.core.facts.registry import UnknownFact, lookup
from rusty_lantern.core.model.bucket_contents import Table, Versions
from rusty_lantern.core.yaml_source import FieldReader, Node


class Subject(Protocol):
    """Whatever a baseline can be about: a bucket, an identity, a credential, an encryption key, a link, a store, a
    mirrored bucket. `core.audit` makes them; everything here is asked of them and of nothing else."""

    @property
    def kind(self) -> str:
        """Its kind, as the register names it."""

    @property
    def store(self) -> str:
        """The name of its store."""

    @property
    def name(self) -> str:
        """What patterns are held against: for a credential its owner, for a link its bucket."""

    @property
    def label(self) -> str:
        """How a message names it."""

    @property
    def tags(self) -> Answer[dict[str, str]]:
        """Its tags."""

    @property
    def unseen(self) -> bool:
        """Whether it represents all of its kind, since none of them could be read."""

    @property
    def table(self) -> Answer[Table]:
        """The version table of its objects; unsupported for what has none."""

    @property
    def left_out(self) -> str:
        """Why that may lack old versions; empty where it has all."""

    @property
    def old_versions(self) -> Answer[Versions]:
        """What was answered of its old versions."""

    def fact(self, name: str) -> Fact:
        """A fact of it by name."""


class Match(NamedTuple):
    """Whether something fits: yes, no, or (None) perhaps, and what that hangs on."""

    yes: bool | None
    hangs_on: str = ""


_YES = Match(True)


class Part(Protocol):
    """One part of a choice."""

    def match(self, subject: Subject) -> Match:
        """Whether the subject fits it."""


class NameMatches(msgspec.Struct, frozen=True):
    """Names that have to fit one of the patterns: of the subject, of its store, or the value of a tag of it."""

    what: str
    patterns: tuple[str, ...]

    def match(self, subject: Subject) -> Match:
        """Whether one pattern fits."""
        if self.what == "store":
            return Match(self._matches(subject.store))
        if subject.unseen:
            return Match(None, f"names and tags, and no {subject.kind} could be read")
        if self.what == "name":
            return Match(self._matches(subject.name))
        tags = subject.tags
        if tags.value is None and tags.state not in ("absent", "unsupported"):
            return Match(None, f"tags, {tags.reason}")
        return Match(self._matches((tags.value or {}).get(self.what.removeprefix("tags."), "")))

    def _matches(self, text: str) -> bool:
        return any(fnmatchcase(text, pattern) for pattern in self.patterns)


class FactCompares(msgspec.Struct, frozen=True):
    """A fact that has to compare so."""

    fact: str
    comparison: Comparison

    def match(self, subject: Subject) -> Match:
        """Whether the subject has such a fact, and it compares so."""
        if lookup(self.fact).subject != subject.kind:
            return Match(False)
        if subject.unseen:
            return Match(None, f"{self.fact}, and no {subject.kind} could be read")
        fact = subject.fact(self.fact)
        if not fact.settled:
            return Match(None, f"{self.fact}, {fact.reason}")
        return Match(self.comparison.holds(fact))


class All(msgspec.Struct, frozen=True):
    """Every part has to fit; with none, everything does."""

    parts: tuple[Part, ...] = ()

    def match(self, subject: Subject) -> Match:
        """No if one does not; perhaps if one only may."""
        if not self.parts:
            return _YES
        fits = [part.match(subject) for part in self.parts]
        return _first(fits, False) or _first(fits, None) or _YES


class Some(msgspec.Struct, frozen=True):
    """One part has to fit."""

    parts: tuple[Part, ...]

    def match(self, subject: Subject) -> Match:
        """Yes if one does; perhaps if one may."""
        fits = [part.match(subject) for part in self.parts]
        return _first(fits, True) or _first(fits, None) or Match(False)


class Not(msgspec.Struct, frozen=True):
    """The part must not fit."""

    part: Part

    def match(self, subject: Subject) -> Match:
        """The other way round; perhaps stays perhaps."""
        inner = self.part.match(subject)
        return inner if inner.yes is None else Match(not inner.yes)


def _first(fits: list[Match], wanted: bool | None) -> Match | None:
    return next((fit for fit in fits if fit.yes is wanted), None)


def read_selector(reader: FieldReader, node: Node | None, depth: int = 0) -> All:
    """The choice that an `of:` writes; what is wrong with it is noted."""
    return All(tuple(_parts(reader, node, depth)))


def _parts(reader: FieldReader, node: Node | None, depth: int) -> Iterator[Part]:
    for key, value in reader.entries(node, "of"):
        name = key.text or ""
        if name in ("all of", "any of"):
            if value.items is None:
                reader.complaints.add(f"`{name}` needs a list, and this is {value.kind}", value.place)
                continue
            choices = tuple(read_selector(reader, item, depth + 1) for item in value.items)
            yield All(choices) if name == "all of" else Some(choices)
        elif name == "not":
            yield Not(read_selector(reader, value, depth + 1))
        elif name in ("name", "store") or (name.startswith("tags.") and len(name) > len("tags.")):
            yield NameMatches(name, tuple(item.text or "" for item in reader.texts(value, name)))
        else:
            yield from _compared(reader, key, value)


def _compared(reader: FieldReader, key: Node, value: Node) -> Iterator[Part]:
    name = key.text or ""
    try:
        definition = lookup(name)
        if definition.subject == "object":
            reader.complaints.add(
                f"a sheet cannot choose by {name}", key.place, "facts of objects are evaluated inside"
            )
            return
        yield FactCompares(name, read_comparison(reader.text(value, name), definition.scale))
    except UnknownFact as error:
        remedy = error.hint or "by name, store, tags.NAME, any fact, `all of`, `any of`, `not`"
        reader.complaints.add(f'a sheet cannot choose by "{name}"', key.place, remedy)
    except ImpossibleComparison as error:
        reader.complaints.add(f"{name}: {error}", value.place)
