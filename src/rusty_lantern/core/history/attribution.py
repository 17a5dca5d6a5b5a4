"""Who changed it, and when: recorded events held against the changes between two surveys.

An event can have caused a change if it succeeded between the two surveys, is of an action that can bring such a change
about, and was done to the same bucket or other subject. The likeliest comes first: of the action that does just this,
the latest, since what was done last is what the later survey saw. A change without any such event is unexplained: the
record may be switched off there, an identity exempted from it, or its file not given.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.history.changes import Change
from rusty_lantern.core.history.event import Event, ProtectionWeakened, succeeded
from rusty_lantern.core.history.event_actions import ACCOUNT_WIDE, causes_of
from rusty_lantern.core.model.identity import masked

KEEP = 5
"""How many events are kept for a change."""


class Target(msgspec.Struct, frozen=True):
    """One change, as events can be held against it."""

    number: int
    store: str
    buckets: frozenset[str]
    """Empty for a subject other than a bucket, but where that gained or lost access to some."""
    titles: frozenset[str]
    keys: frozenset[str]
    ranks: Mapping[str, int]

    def fits(self, event: Event) -> bool:
        """Whether the event was done to the same thing."""
        if event.store and event.store != self.store:
            return False
        if self.buckets and (event.bucket or event.action in ACCOUNT_WIDE):
            return event.bucket in self.buckets or not event.bucket
        return bool(event.about) and not self.titles.isdisjoint({event.about, masked(event.about)})


def target_of(number: int, change: Change | ProtectionWeakened) -> Target | None:
    """What events are looked for; None where a change needs no cause (what could or unknown)."""
    if isinstance(change, ProtectionWeakened):
        name = next(name for name in ("deleted", "retention", "mode", "legal hold") if change.what.startswith(name))
        return Target(number, change.store, frozenset({change.bucket}), frozenset(), change.keys, _ranks(name))
    if change.change in ("now known", "no longer known") or change.subject in ("store", "link", "mirror"):
        return None
    name = f"{change.subject} {change.change}" if change.change in ("new", "gone") else change.fact
    if not causes_of(name):
        return None  # no recorded action brings it about: it follows from something else, which is reported by itself
    if change.subject == "bucket":
        return Target(number, change.store, frozenset({change.name}), frozenset(), frozenset(), _ranks(name))
    titles = frozenset({change.name, *change.name.split(" ")})
    ranks = _ranks(name, *(["exposure.read"] if change.buckets else []))  # either side may have let it in
    return Target(number, change.store, frozenset(change.buckets), titles, frozenset(), ranks)


def _ranks(*names: str) -> dict[str, int]:
    return {action: rank for rank, action in enumerate(dict.fromkeys(a for name in names for a in causes_of(name)))}


class Attribution:
    """Gathers, as events stream by, the likeliest causes of each change."""

    def __init__(self, changes: Sequence[Change | ProtectionWeakened], begin: datetime, end: datetime) -> None:
        self.begin, self.end = begin, end
        self.targets = [aim for n, change in enumerate(changes) if (aim := target_of(n, change)) is not None]
        self._by_action: dict[str, list[Target]] = {}
        for target in self.targets:
            for action in target.ranks:
                self._by_action.setdefault(action, []).append(target)
        self._kept: dict[int, list[Event]] = {}
        self._seen: dict[int, int] = {}

    @property
    def actions(self) -> frozenset[str]:
        """The actions that are looked for."""
        return frozenset(self._by_action)

    def feed(self, events: Iterable[Event]) -> None:
        """Take in more events, in any order."""
        for event in events:
            if not (self.begin <= event.time <= self.end and succeeded(event.outcome)):
                continue
            for target in self._by_action.get(event.action, ()):
                if target.fits(event):
                    self._keep(target, event)

    def _keep(self, target: Target, event: Event) -> None:
        kept = self._kept.setdefault(target.number, [])
        self._seen[target.number] = self._seen.get(target.number, 0) + 1
        kept.append(event)
        if len(kept) > 4 * KEEP:
            kept[:] = self._ranked(target, kept)[:KEEP]

    def _ranked(self, target: Target, events: list[Event]) -> list[Event]:
        def likeliness(event: Event) -> tuple[object, ...]:
            rank = target.ranks[event.action]
            return event.key not in target.keys, rank, -event.time.timestamp(), event

        return sorted(events, key=likeliness)

    def causes(self) -> dict[int, list[Event]]:
        """Number of a change → the events that could have caused it, the likeliest first; none, if unexplained."""
        return {t.number: self._ranked(t, self._kept.get(t.number, []))[:KEEP] for t in self.targets}

    def count(self, number: int) -> int:
        """How many events could have caused a change."""
        return self._seen.get(number, 0)
