"""The buckets that the public gets into, and whether the baseline wants that, forbids it, or says nothing of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cache

import msgspec

from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.met import Met
from rusty_lantern.core.baseline.evaluation import Finding, Status
from rusty_lantern.core.model.identity import Verb

WORST_FIRST: tuple[Verb, ...] = (
    "write", "delete", "change-settings", "bypass-retention", "read", "list", "read-settings",
)  # fmt: skip

OnPublic = Mapping[tuple[str, str], Mapping[str, Status]]
"""Store and name of a bucket that the public gets into → verb → the status of what is required of public access by
it."""

_WORST: tuple[Status, ...] = ("drift", "unknown", "waived", "ok")
_EVERY_VERB = "beyond-trusted"
"""The last part of the fact about all verbs."""


class PublicBucket(msgspec.Struct, frozen=True):
    """A bucket that the public gets into now, by its verbs."""

    store: str
    name: str
    open: tuple[Verb, ...]
    restricted: tuple[Verb, ...]
    accounts_only: tuple[Verb, ...]
    """Those of `open` that any authenticated account has, and that are closed or unknown without credentials."""
    unknown: tuple[Verb, ...]
    """The verbs that more of the public may have than is known."""
    required: Mapping[str, Status]
    """Verb → the status of what is required of public access by it."""

    def of(self, status: Status | None) -> tuple[Verb, ...]:
        """Those verbs whose requirement has this status; None: of which nothing is required."""
        return tuple(verb for verb in (*self.open, *self.restricted) if required_of(self.required, verb) == status)

    @property
    def drifts(self) -> bool:
        """Whether the baseline wants one of them closed, and no waiver covers it."""
        return "drift" in self.required.values()


def required_of(required: Mapping[str, Status], verb: Verb) -> Status | None:
    """The status of what is required of public access by a verb; None where nothing is."""
    return required.get(verb) or required.get(_EVERY_VERB)


def on_public(views: Iterable[BucketSubject], findings: Iterable[Finding], met: Met) -> OnPublic:
    """The status of what is required of these buckets' public access; of several requirements on a verb, the worst."""
    by_store: dict[str, dict[str, dict[str, Status]]] = {}
    for view in views:
        mine = by_store.setdefault(view.store, {})
        if not view.decided.all_closed:
            mine[view.name] = {}
    for column in met.columns:
        verb, mine = _verb(column.requirement.fact), by_store.get(column.store, {})
        for name in mine.keys() & column.names if verb else ():
            mine[name][verb] = "ok"
    for finding in findings:
        verb = _verb(finding.requirement.fact)
        statuses = by_store.get(finding.store, {}).get(finding.name) if verb and finding.kind == "bucket" else None
        if statuses is not None:
            statuses[verb] = min(statuses.get(verb, "ok"), finding.status, key=_WORST.index)
    return {(store, name): statuses for store, mine in by_store.items() for name, statuses in mine.items()}


@cache
def _verb(fact: str) -> str:
    """The verb that a fact on public access is about; empty for another fact."""
    return fact.rpartition(".")[2] if fact.startswith("exposure.") else ""


def public_buckets(views: Iterable[BucketSubject], required: OnPublic) -> tuple[PublicBucket, ...]:
    """The buckets that the public gets into: first those that the baseline forbids, then those that it says nothing
    of; the worst first."""
    public = []
    for view in views:
        statuses = required.get((view.store, view.name))
        if statuses is None:
            continue
        wide = reached(view, "open")
        some = tuple(verb for verb in reached(view, "restricted") if verb not in wide)
        if wide or some:
            accounts = tuple(verb for verb in wide if view.decided.worded[f"anyone.{verb}"].level != "open")
            unsure = reached(view, "unknown")
            unsure = tuple(verb for verb in unsure if view.decided.worded[f"anyone.{verb}"].level != "open")
            public.append(PublicBucket(view.store, view.name, wide, some, accounts, unsure, statuses))
    return tuple(sorted(public, key=_how_public))


def reached(view: BucketSubject, level: Level) -> tuple[Verb, ...]:
    """The verbs with a verdict of this level for one of the public audiences, the worst first."""
    verbs = view.levels.get(level)
    return tuple(verb for verb in WORST_FIRST if verb in verbs) if verbs else ()


def _how_public(one: PublicBucket) -> tuple[object, ...]:
    worst = min((WORST_FIRST.index(verb) for verb in one.open), default=len(WORST_FIRST))
    return not one.drifts, not one.of(None), not one.open, worst, -len(one.open), one.store, one.name


def requirement_words(required: Mapping[str, Status], verbs: Sequence[Verb]) -> str:
    """Whether public access by these verbs is as the baseline wants it, in words.

    >>> requirement_words({"read": "ok"}, ["read"]), requirement_words({"read": "ok"}, ["write", "read"])
    ('as required', 'nothing required of write')
    >>> requirement_words({"read": "waived", "list": "drift"}, ["read", "list"]), requirement_words({}, ["read"])
    ('drift', 'nothing required')
    """
    statuses = {verb: required_of(required, verb) for verb in verbs}
    if "drift" in required.values():
        return "drift"
    parts = [word for word in ("unknown", "waived") if word in statuses.values()]
    free = [verb for verb, status in statuses.items() if status is None]
    if free:
        parts.append("nothing required" + (f" of {', '.join(free)}" if len(free) < len(statuses) else ""))
    return "; ".join(parts) or "as required"
