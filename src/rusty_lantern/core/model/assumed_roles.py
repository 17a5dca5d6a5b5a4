"""The roles that each identity of a store may assume, and those that these may assume in turn."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
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
    """The roles that one identity may assume, in order of their names; `unread`: why there may be others."""

    roles: tuple[AssumedRole, ...] = ()
    unread: str = ""


class _Step(NamedTuple):
    """What an identity may assume directly: for certain, and perhaps; and why there may be more."""

    sure: frozenset[str] = frozenset()
    perhaps: frozenset[str] = frozenset()
    unread: str = ""


NO_ROLES = RolesOf()
_NOTHING = _Step()


class AssumedRoles:
    """Looked up by identity. The account's root assumes none: its credentials are not taken for that (the language's
    published page on roles)."""

    def __init__(self, index: StoreIndex) -> None:
        self.index = index
        self._steps: dict[str, _Step] = {}
        self._followed: dict[_Step, RolesOf] = {}

    def of(self, identity: Identity) -> RolesOf:
        """The roles that it may assume, directly or by way of others. Of identities that are alike it is one value."""
        step = self._step(identity)
        if step == _NOTHING:
            return NO_ROLES
        if step not in self._followed:
            self._followed[step] = self._follow(step)
        others = self._followed[step]
        if identity.name not in self._roles:
            return others
        return RolesOf(tuple(one for one in others.roles if one.role.name != identity.name), others.unread)

    def _follow(self, step: _Step) -> RolesOf:
        sure = self._reached(step.sure, perhaps=False)
        every = self._reached(sure | step.perhaps, perhaps=True)
        unread = next(filter(None, (step.unread, *(self._step_of(name).unread for name in sorted(every)))), "")
        roles = ((name, self._roles[name]) for name in sorted(every))
        return RolesOf(tuple(AssumedRole(role, "" if name in sure else _doubt(role)) for name, role in roles), unread)

    def _reached(self, start: Iterable[str], *, perhaps: bool) -> frozenset[str]:
        reached = set(start)
        queue = list(reached)
        while queue:
            step = self._step_of(queue.pop())
            new = (step.sure | step.perhaps if perhaps else step.sure) - reached
            reached |= new
            queue += new
        return frozenset(reached)

    def _step_of(self, role: str) -> _Step:
        if role not in self._steps:
            self._steps[role] = self._step(self._roles[role])
        return self._steps[role]

    def _step(self, identity: Identity) -> _Step:
        assumes = identity.assumes
        if identity.kind == "root":
            return _NOTHING
        if assumes.state == "unsupported":  # nobody says which: a role tells who may assume it
            return self._of_the_account
        gone = next((name for name in assumes.value or () if name not in self._roles), "")
        why = assumes.reason if assumes.unread else f"{gone} is not listed" if gone else ""
        unread = f"which roles it may assume: {why}" if why else ""
        sure, maybe = (
            frozenset(names or ()).intersection(self._roles) for names in (assumes.value, identity.perhaps_assumes)
        )
        return _Step(sure, maybe, unread)

    @cached_property
    def _roles(self) -> Mapping[str, Identity]:
        return {one.name: one for one in self.index.dossier.identities.value or () if one.kind == "role"}

    @cached_property
    def _of_the_account(self) -> _Step:
        """The roles that some identity of the account may assume."""
        roles = ((name, role.assumable_by) for name, role in self._roles.items())
        names = (name for name, by in roles if by.unread or (by.value is not None and by.value not in NO_OWN_IDENTITY))
        return _Step(perhaps=frozenset(names))


def _doubt(role: Identity) -> str:
    by = role.assumable_by
    if by.unread:
        return f"who may assume {role.name}: {by.reason}"
    return f"whether it may assume {role.name} is not worked out"
