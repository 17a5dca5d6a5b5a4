"""A store's identities by the buckets that they can do something on, those that are alike together."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

import msgspec

from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.model.identity import Identity


class PermissionGroup(msgspec.Struct, frozen=True):
    """What an identity can do on some buckets that are alike to it; `reach` has the verbs that are not closed."""

    reach: Mapping[str, Reach]
    buckets: tuple[str, ...]


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
