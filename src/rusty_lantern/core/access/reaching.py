"""A store's identities by the buckets that they can do something on, those that are alike together."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.model.identity import Identity


class PermissionGroup(msgspec.Struct, frozen=True):
    """What an identity can do on some buckets that are alike to it; `reach` has the verbs that are not closed."""

    reach: Mapping[str, Reach]
    buckets: tuple[str, ...]


def perhaps(group: PermissionGroup, doubt: str) -> PermissionGroup:
    """The same permissions, which it is not certain that somebody has; as they are where there is no doubt."""
    if not doubt:
        return group
    return PermissionGroup({verb: Reach("unknown", doubts=(doubt,)) for verb in group.reach}, group.buckets)


def perhaps_all(buckets: Iterable[str], doubt: str) -> PermissionGroup:
    """That somebody may have every permission on these buckets."""
    return PermissionGroup({verb: Reach("unknown", doubts=(doubt,)) for verb in VERBS}, tuple(buckets))


def merged(groups: Iterable[PermissionGroup]) -> dict[str, Mapping[str, Reach]]:
    """Bucket → what somebody can do who has all of these permissions: of each verb the widest that is certain."""
    by_bucket: dict[str, Mapping[str, Reach]] = {}
    joined: dict[tuple[int, int], Mapping[str, Reach]] = {}
    for group in list(groups):  # all at once in memory: they are told apart by which ones they are
        for bucket in group.buckets:
            before = by_bucket.get(bucket, group.reach)
            if before is not group.reach:
                key = id(before), id(group.reach)
                by_bucket[bucket] = joined[key] if key in joined else joined.setdefault(key, _both(before, group.reach))
            else:
                by_bucket[bucket] = before
    return by_bucket


def grouped(by_bucket: Mapping[str, Mapping[str, Reach]]) -> list[PermissionGroup]:
    """The same, buckets with one value together."""
    reaches = {id(reach): reach for reach in by_bucket.values()}
    buckets: dict[int, list[str]] = {number: [] for number in reaches}
    for name, reach in by_bucket.items():
        buckets[id(reach)].append(name)
    return [PermissionGroup(reaches[number], tuple(sorted(names))) for number, names in buckets.items()]


_CERTAIN_FIRST = ("open", "restricted", "unknown", "closed")
_CLOSED = Reach("closed")


def _both(one: Mapping[str, Reach], other: Mapping[str, Reach]) -> Mapping[str, Reach]:
    verbs = [verb for verb in VERBS if verb in one or verb in other]
    pairs = ((verb, one.get(verb, _CLOSED), other.get(verb, _CLOSED)) for verb in verbs)
    return {verb: min(both, key=lambda reach: _CERTAIN_FIRST.index(reach.level)) for verb, *both in pairs}


WhoCan = Mapping[str, tuple[str, str]]
"""Verb → everybody who certainly may use it, as a value; and why that may not be all, or nothing."""


class ReachByBucket:
    """Who reaches a bucket. `of`: what an identity can do; of identities that are alike it is one list."""

    def __init__(self, identities: Iterable[Identity], of: Callable[[Identity], list[PermissionGroup]]) -> None:
        self.identities = identities
        self.of = of
        self.who_can: dict[Hashable, WhoCan] = {}
        """What was put together already, by all that it follows from."""

    def on(self, bucket: str) -> Iterator[tuple[Identity, Mapping[str, Reach]]]:
        """The identities that can do something on a bucket, or perhaps can, and what."""
        for group in self.groups_on(bucket):
            yield from ((identity, group.reach) for identity in self._held_by[id(group)])

    def groups_on(self, bucket: str) -> Sequence[PermissionGroup]:
        """What can be done on a bucket, identities that are alike together."""
        return self._on_bucket.get(bucket, ())

    @cached_property
    def _held_by(self) -> Mapping[int, list[Identity]]:
        """Permissions, by which ones they are → the identities that have them."""
        identities: dict[int, list[Identity]] = {}
        for identity in self.identities:
            for group in self.of(identity):
                identities.setdefault(id(group), []).append(identity)
        return identities

    @cached_property
    def _on_bucket(self) -> Mapping[str, list[PermissionGroup]]:
        groups = {id(group): group for identity in self.identities for group in self.of(identity)}
        by_bucket: dict[str, list[PermissionGroup]] = {}
        for group in groups.values():
            for bucket in group.buckets:
                by_bucket.setdefault(bucket, []).append(group)
        return by_bucket
