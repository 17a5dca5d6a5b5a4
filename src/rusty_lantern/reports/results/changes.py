"""What changed between two surveys, as a result."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime

import msgspec

from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.history.changes import Change
from rusty_lantern.core.history.drift_changes import DriftChange
from rusty_lantern.core.history.event import Event


class EventRow(msgspec.Struct, frozen=True, kw_only=True):
    """A recorded event that could have caused a change."""

    time: datetime
    actor: str
    action: str
    bucket: str
    key: str
    address: str
    outcome: str
    about: str
    line: str


class ChangeRow(msgspec.Struct, frozen=True, kw_only=True):
    """One difference: something new or gone, a fact before and after, access gained or lost with a witness."""

    store: str
    subject: str
    name: str
    change: str
    fact: str
    before: str
    after: str
    audience: str
    verb: str
    witness: Witness | None
    note: str
    buckets: list[str]
    """Where an identity gained or lost access: on which buckets; `verb` has all the verbs then."""
    causes: list[EventRow] | None = None
    """With `--events`: what could have caused it, the likeliest first; empty where nothing in the record could. Null
    without events, and for changes that need no cause."""


class DriftRow(msgspec.Struct, frozen=True, kw_only=True):
    """A requirement that has another status than before."""

    change: str
    store: str
    subject: str
    name: str
    fact: str
    severity: str
    required: str
    before: str
    after: str
    line: str


class WeakenedRow(msgspec.Struct, frozen=True, kw_only=True):
    """Versions whose protection became weaker, or that were deleted although they were protected."""

    store: str
    bucket: str
    what: str
    versions: int
    first: list[str]
    causes: list[EventRow] | None = None


class ChangesResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern changes --json`."""

    before: str
    after: str
    before_taken: datetime
    after_taken: datetime
    before_only: list[str]
    """The patterns of STORE/BUCKET that the earlier survey was limited to; empty, where it was not. What either survey
    was not to look at is not compared."""
    after_only: list[str]
    before_only_of: dict[str, list[str]]
    """Store → the patterns of its buckets that the estate file limited it to then."""
    after_only_of: dict[str, list[str]]
    changes: list[ChangeRow]
    drift: list[DriftRow]
    weakened: list[WeakenedRow]
    not_compared: dict[str, str]
    """STORE/BUCKET whose versions both surveys looked at, and one of them without old versions → why that one did: what
    became of its protection is unknown."""
    events: EventsRow | None = None
    """With `--events`: what was read."""


class DeclaredResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern changes --declared --json`: `before` is what was declared, `after` what is there."""

    survey: str
    taken: datetime
    unread_stores: dict[str, str]
    """Stores whose buckets could not be listed, and why: what is declared there is not compared."""
    only: list[str]
    """The patterns of STORE/BUCKET that the survey was limited to; what else is declared is not compared."""
    only_of: dict[str, list[str]]
    """Store → the patterns of its buckets that the estate file limited it to; likewise."""
    declared: int
    changes: list[ChangeRow]


class EventsRow(msgspec.Struct, frozen=True, kw_only=True):
    """The record that changes were held against, and how many of them nothing in it explains."""

    lines: int
    skipped: int
    first_skipped: str
    unexplained: int


def change_rows(changes: Iterable[Change], causes: Mapping[int, list[Event]] | None = None) -> list[ChangeRow]:
    """Changes as results; with their causes by number, where events were given."""
    events_of = causes or {}
    return [
        ChangeRow(
            **msgspec.structs.asdict(change) | {"buckets": list(change.buckets)},
            causes=event_rows(events_of.get(number)),
        )
        for number, change in enumerate(changes)
    ]


def event_rows(events: list[Event] | None) -> list[EventRow] | None:
    """Events as results."""
    if events is None:
        return None
    names = EventRow.__struct_fields__
    return [EventRow(**{name: getattr(event, name) for name in names}) for event in events]


def drift_rows(changes: Iterable[DriftChange]) -> list[DriftRow]:
    """Requirements with another status, as results: worst first."""
    rows = []
    for change in changes:
        finding = change.finding
        requirement = finding.requirement
        rows.append(
            DriftRow(
                change=change.turn, store=finding.store, subject=finding.kind, name=finding.name,
                fact=requirement.fact, severity=requirement.severity,
                required=requirement.comparison.words if requirement.comparison else "anything",
                before=change.before, after=change.after, line=str(requirement.place),
            )
        )  # fmt: skip
    order = ("new", "worse", "no longer known", "new, unknown", "now known", "waived", "resolved")
    return sorted(rows, key=lambda r: (order.index(r.change), SEVERITIES.index(r.severity), r.store, r.name))
