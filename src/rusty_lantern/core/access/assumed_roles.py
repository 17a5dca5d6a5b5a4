"""The roles that each identity of a store may assume, and those that these may assume in turn."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from typing import NamedTuple

from rusty_lantern.core.model.identity import AssumableBy, Identity
from rusty_lantern.core.model.store_index import StoreIndex

ABOUT_ROLES = ("whether it may assume ", "which roles it may assume: ", "who may assume ")
"""How doubts about roles begin: they are about no single bucket."""
NO_OWN_IDENTITY: tuple[AssumableBy, ...] = ("nobody", "services")
"""Who may assume a role that no identity of the account may."""


class AssumedRole(NamedTuple):
    """A role that an identity may assume; `doubt`: why that is not certain, empty where it is."""

    role: Identity
    doubt: str


class RolesOf(NamedTuple):
    """The roles that one identity may assume; `unread`: why there may be others."""

    roles: tuple[AssumedRole, ...] = ()
    unread: str = ""


NO_ROLES = RolesOf()


class AssumedRoles:
    """Looked up by identity. The account's root assumes none: its credentials are not taken for that (the language's
    published page on roles)."""

    def __init__(self, index: StoreIndex) -> None:
        self.index = index

    def of(self, identity: Identity) -> RolesOf:
        """The roles that it may assume, directly or by way of others, in order of their names."""
        if identity.kind == "root" or not any(self._next(identity)):
            return NO_ROLES
        sure = self._reached([identity], perhaps=False)
        every = self._reached(sure.values(), perhaps=True)
        unread = next((why for one in (identity, *every.values()) if (why := self._next(one).unread)), "")
        roles = [
            AssumedRole(role, "" if name in sure else _doubt(role))
            for name, role in sorted(every.items())
            if name != identity.name
        ]
        return RolesOf(tuple(roles), unread)

    def _reached(self, start: Iterable[Identity], *, perhaps: bool) -> dict[str, Identity]:
        """Name → identity, of these and all whose roles are reached from them, step by step."""
        reached = {one.name: one for one in start}
        queue = list(reached.values())
        for one in queue:
            step = self._next(one)
            new = list(self._listed((*step.sure, *step.perhaps) if perhaps else step.sure))
            queue += (role for role in new if role.name not in reached)
            reached |= {role.name: role for role in new}
        return reached

    def _listed(self, names: Iterable[str]) -> Iterator[Identity]:
        return (self._by_name[name] for name in names if name in self._by_name)

    def _next(self, identity: Identity) -> _Step:
        assumes = identity.assumes
        if assumes.state == "unsupported":  # nobody says which: a role tells who may assume it
            return _Step((), self._of_the_account, "")
        gone = next((name for name in assumes.value or () if name not in self._by_name), "")
        why = assumes.reason if assumes.unread else f"{gone} is not listed" if gone else ""
        unread = why and f"which roles it may assume: {why}"
        return _Step(tuple(assumes.value or ()), tuple(identity.perhaps_assumes), unread)

    @cached_property
    def _by_name(self) -> Mapping[str, Identity]:
        return {one.name: one for one in self.index.dossier.identities.value or () if one.kind == "role"}

    @cached_property
    def _of_the_account(self) -> tuple[str, ...]:
        """The roles that some identity of the account may assume."""
        roles = ((name, role.assumable_by) for name, role in self._by_name.items())
        return tuple(
            name for name, by in roles if by.unread or (by.value is not None and by.value not in NO_OWN_IDENTITY)
        )


def _doubt(role: Identity) -> str:
    by = role.assumable_by
    if by.unread:
        return f"who may assume {role.name}: {by.reason}"
    return f"whether it may assume {role.name} is not worked out"


class _Step(NamedTuple):
    """What an identity may assume directly: for certain, and perhaps; and why there may be more."""

    sure: tuple[str, ...]
    perhaps: tuple[str, ...]
    unread: str
