"""Mirrors: buckets of one store that another is to hold as well, compared as two surveys of one moment show them.

Being behind is in a mirror's nature: what was stored within the allowed lag may be missing. A setting does not arrive
later; one that differs did not travel. Where either side could not be read, the comparison is unknown.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import timedelta
from fnmatch import fnmatchcase
from types import MappingProxyType
from typing import ClassVar

import msgspec

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.baseline.builtin import OF_MIRRORS
from rusty_lantern.core.baseline.finding_words import show_fact
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.config.estate import Mirror
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import derive
from rusty_lantern.core.facts.replicas import Compared, Content, Difference
from rusty_lantern.core.model.bucket_contents import Table, Versions
from rusty_lantern.core.model.store_index import NOT_WHOLE
from rusty_lantern.core.value_types import DURATION

SETTINGS = tuple(name for name, entry in REGISTER.items() if entry.mirrored)
"""Settings that a copy needs as much as the original."""


class Behind(msgspec.Struct, frozen=True):
    """How many objects of the original the copy lacks: those that should have arrived, and those within the lag; and
    how many that should have arrived it has with other content."""

    overdue: int
    recent: int
    outdated: int = 0


Missing = Mapping[tuple[str, str], Behind]
"""Full name of the original, name of the second store → what the copy lacks; only where both have version tables."""


def mirrored(
    stores: Sequence[StoreSubject], mirrors: tuple[Mirror, ...], missing: Missing = MappingProxyType({})
) -> Iterator[MirrorSubject]:
    """Every bucket of every mirror, compared."""
    by_name = {one.index.dossier.store: one for one in stores}
    for mirror in mirrors:
        source, target = by_name.get(mirror.source), by_name.get(mirror.target)
        unread = next((c for c in (source, target) if c is None or not c.index.dossier.listing.settled), None)
        if source is None or target is None or unread is not None:
            why = unread.index.dossier.listing.reason if unread else "it is not in this survey"
            name = unread.index.dossier.store if unread else (mirror.source if source is None else mirror.target)
            unknown = (("every bucket", f"{name} was not read: {why}"),)
            yield MirrorSubject(Compared(mirror, "*", None, "", unknown=unknown))
        elif not source.index.whole:
            unknown = (("the other buckets", f"{mirror.source}: {NOT_WHOLE}"),)
            yield MirrorSubject(Compared(mirror, "*", None, "", unknown=unknown))
    for mirror, view, copy in pairs(stores, mirrors):
        if copy is None and not by_name[mirror.target].index.whole:
            unknown = (("copy", f"{mirror.target}: {NOT_WHOLE}"),)
            yield MirrorSubject(Compared(mirror, view.bucket.name, None, "", unknown=unknown))
            continue
        yield MirrorSubject(compare(mirror, view, copy, missing.get((view.title, mirror.target))))


def pairs(
    stores: Sequence[StoreSubject], mirrors: tuple[Mirror, ...]
) -> Iterator[tuple[Mirror, BucketSubject, BucketSubject | None]]:
    """Every bucket of every mirror whose stores were read, and its copy, if there is one."""
    read = {one.index.dossier.store: one.buckets for one in stores if one.index.dossier.listing.settled}
    for mirror in mirrors:
        if mirror.source in read and mirror.target in read:
            for name, view in read[mirror.source].items():
                if any(fnmatchcase(name, pattern) for pattern in mirror.buckets):
                    yield mirror, view, read[mirror.target].get(name)


class MirrorSubject(msgspec.Struct, frozen=True):
    """A mirrored bucket, as sheets know it: by the store and the name of the original."""

    compared: Compared
    kind: ClassVar[str] = "mirror"
    unseen: ClassVar[bool] = False
    tags: ClassVar[Answer[dict[str, str]]] = Answer("absent")
    table: ClassVar[Answer[Table]] = Answer("unsupported")
    left_out: ClassVar[str] = ""
    old_versions: ClassVar[Answer[Versions]] = Answer("unsupported")

    @property
    def store(self) -> str:
        """The store of the original."""
        return self.compared.mirror.source

    @property
    def name(self) -> str:
        """The bucket's name."""
        return self.compared.bucket

    @property
    def label(self) -> str:
        """`BUCKET → STORE`."""
        return f"{self.compared.bucket} → {self.compared.mirror.target}"

    @property
    def promised(self) -> tuple[Requirement, ...]:
        """What the estate file asks of every mirror, at the line that names it."""
        return tuple(msgspec.structs.replace(r, place=self.compared.mirror.place) for r in OF_MIRRORS)

    def fact(self, name: str) -> Fact:
        """A fact of the comparison."""
        return derive(name, self.compared)


def compare(mirror: Mirror, view: BucketSubject, copy: BucketSubject | None, counted: Behind | None = None) -> Compared:
    """One bucket and its copy."""
    if copy is None:
        return Compared(mirror, view.bucket.name, "missing", f"{mirror.target} has no such bucket")
    differences, unknown = [], []
    tags = sorted({f"tags.{name}" for side in (view, copy) for name in side.bucket.tags.value or ()})
    for name in (*SETTINGS, *tags):
        here, there = view.fact(name), copy.fact(name)
        unread = next((one for one in (here, there) if not one.settled), None)
        if unread is not None and not here.state == there.state == "unsupported":
            unknown.append((name, unread.reason))
        elif unread is None and here.value != there.value:
            differences.append(Difference(name, show_fact(name, here), show_fact(name, there)))
    hidden_tags = next((side.bucket.tags for side in (view, copy) if side.bucket.tags.unread), None)
    if hidden_tags is not None:
        unknown.append(("tags", hidden_tags.reason))
    content, words, behind = _content(mirror, view, copy, counted)
    if content is None:
        unknown.append(("content", words))
    return Compared(mirror, view.bucket.name, content, words, behind, tuple(differences), tuple(unknown))


def _content(
    mirror: Mirror, view: BucketSubject, copy: BucketSubject, counted: Behind | None
) -> tuple[Content | None, str, int]:
    here, there = view.bucket.usage.value, copy.bucket.usage.value
    if here is None or there is None or not (here.complete and there.complete):
        return None, "not all objects were counted on both sides", 0
    if counted is not None and counted.overdue:
        return "objects-missing", f"{_objects(counted.overdue)} never arrived", 0
    if counted is not None and counted.outdated:
        return "objects-outdated", f"{_objects(counted.outdated)} with other content than the original's", 0
    unread = next((side.bucket.versions for side in (view, copy) if side.bucket.versions.unread), None)
    if unread is not None:
        return None, f"the versions were not counted on both sides: {unread.reason}", 0
    ours, theirs = (side.bucket.versions.value.newest if side.bucket.versions.value else None for side in (view, copy))
    waiting = int((view.dossier.taken - ours).total_seconds()) if ours else 0
    if ours is not None and (theirs is None or theirs < ours):
        late = timedelta(seconds=mirror.lag) < view.dossier.taken - ours
        fewer = f", {_objects(here.objects - there.objects)} fewer" if there.objects < here.objects else ""
        words = f"the newest object has been waiting {show_waiting(waiting)}{fewer}"
        return ("behind" if late else "within-lag"), words, waiting
    known = ours is not None or not here.objects
    return (*_by_counts(here.objects - there.objects, known=known, keys=counted is not None or not here.objects), 0)


def _objects(number: int) -> str:
    return f"{number:,} object" + ("s" if number != 1 else "")


def _by_counts(fewer: int, *, known: bool, keys: bool) -> tuple[Content | None, str]:
    """The state of a copy that has the newest object, by how many objects it lacks. `known`: whether when the newest
    were stored is; `keys`: whether keys were compared."""
    if fewer > 0:
        return "objects-missing", f"{_objects(fewer)} fewer, and nothing new is on its way"
    if fewer < 0:
        return "more", f"{_objects(-fewer)} more: what was deleted is still there"
    if not known:
        return None, "when the newest objects were stored is not known"
    return ("same", "") if keys else ("same-counts", "as many objects, and the newest; their keys were not compared")


def show_waiting(seconds: int) -> str:
    """A period in its largest whole unit.

    >>> show_waiting(754), show_waiting(1_058_400)
    ('12 minutes', '12 days')
    """
    unit = next(size for size in (86_400, 3_600, 60, 1) if seconds >= size or size == 1)
    return DURATION.show(seconds // unit * unit)
