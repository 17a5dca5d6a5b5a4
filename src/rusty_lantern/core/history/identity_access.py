"""What a store's own identities, and their credentials, can do now and could not before, or the other way round.

Bucket by bucket, by their own permissions and the buckets' rules together. What everybody could do before is nothing
that anybody gained, and what is unknown on either side is not compared: why it is unknown is reported by itself.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set
from typing import Literal, NamedTuple

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.model.identity import Identity, Verb

LEVELS = ("closed", "restricted", "open")
_CLOSED = Reach("closed")
Turn = Literal["gained", "lost", "changed"]


class AccessChange(NamedTuple):
    """What one identity gained or lost, or what it is restricted to otherwise, on buckets alike."""

    subject: str
    name: str
    turn: Turn
    before: str
    """The level; where only what restricts it is another, that."""
    after: str
    verbs: tuple[Verb, ...]
    buckets: tuple[str, ...]


class _Turned(NamedTuple):
    """What happened to one verb on one bucket."""

    turn: Turn
    before: str
    after: str


def access_changes(was: StoreSubject, now: StoreSubject) -> Iterator[AccessChange]:
    """Of every identity that the later survey has; one that the earlier had not could do nothing then."""
    if not was.index.dossier.identities.settled or not now.index.dossier.identities.settled:
        return
    shared = was.buckets.keys() & now.buckets.keys()
    compared: dict[tuple[int, int], list[tuple[_Turned, tuple[Verb, ...], tuple[str, ...]]]] = {}
    before = {(subject, name): identity for subject, name, identity in _acting(was)}
    for subject, name, identity in _acting(now):
        earlier = before.get((subject, name))
        listed = (
            was.index.dossier.credentials.settled
            if subject == "credential"
            else identity.kind not in was.index.unlisted
        )
        if earlier is None and not listed:
            continue
        old = was.across.by_bucket(earlier) if earlier is not None else _NOTHING
        new = now.across.by_bucket(identity)
        key = id(old), id(new)
        if key not in compared:
            compared[key] = [] if old == new else list(_compared(_Both(was, now, old, new), shared))
        yield from (AccessChange(subject, name, *one, verbs, buckets) for one, verbs, buckets in compared[key])


_NOTHING: Mapping[str, Mapping[str, Reach]] = {}


def _acting(store: StoreSubject) -> Iterator[tuple[str, str, Identity]]:
    """Kind, name and permissions of whoever can act in a store."""
    dossier = store.index.dossier
    yield from (("identity", identity.name, identity) for identity in dossier.identities.value or ())
    for credential in dossier.credentials.value or ():
        if credential.stands_for is not None and credential.state.value != "disabled":
            yield "credential", store.any_credential(credential).label, credential.stands_for


class _Both:
    """What somebody can do on each bucket, in either survey."""

    def __init__(
        self,
        was: StoreSubject,
        now: StoreSubject,
        old: Mapping[str, Mapping[str, Reach]],
        new: Mapping[str, Mapping[str, Reach]],
    ) -> None:
        self.stores = was, now
        self.own = old, new

    def turned(self, bucket: str, verb: Verb) -> _Turned | None:
        """What happened to a verb on a bucket; None: nothing that is known."""
        before, after = (own.get(bucket, {}).get(verb, _CLOSED) for own in self.own)
        if (before.level, before.restriction) == (after.level, after.restriction):
            return None
        levels = [
            _widest({one.level, *(store.buckets[bucket].verdicts[audience, verb].level for audience in AUDIENCES)})
            for one, store in zip((before, after), self.stores, strict=True)
        ]
        if "unknown" in levels:
            return None
        if levels[0] != levels[1]:
            gained = LEVELS.index(levels[1]) > LEVELS.index(levels[0])
            return _Turned("gained" if gained else "lost", *levels)
        if before.level == after.level == levels[0] == "restricted":
            return _Turned("changed", before.restriction, after.restriction)
        return None


def _widest(levels: set[str]) -> str:
    """What somebody can do who may also ask as everybody does."""
    return next(level for level in ("open", "unknown", "restricted", "closed") if level in levels)


def _compared(both: _Both, shared: Set[str]) -> Iterator[tuple[_Turned, tuple[Verb, ...], tuple[str, ...]]]:
    """What happened to which verbs on which of the buckets that both surveys have, those that are alike together."""
    alike: dict[tuple[tuple[Verb, _Turned], ...], list[str]] = {}
    decided: dict[tuple[int, ...], tuple[tuple[Verb, _Turned], ...]] = {}
    for bucket in sorted((both.own[0].keys() | both.own[1].keys()) & shared):
        before, after = (own.get(bucket) for own in both.own)
        if before == after:
            continue
        kind = id(before), id(after), *(id(store.buckets[bucket].decided) for store in both.stores)
        if kind not in decided:
            each = ((verb, both.turned(bucket, verb)) for verb in VERBS)
            decided[kind] = tuple((verb, one) for verb, one in each if one is not None)
        if decided[kind]:
            alike.setdefault(decided[kind], []).append(bucket)
    for turned, mine in alike.items():
        for one in dict.fromkeys(each for _, each in turned):
            yield one, tuple(verb for verb, each in turned if each == one), tuple(mine)
