"""What grants access beside policies: ACLs of buckets, what those of single objects grant the public, and rights."""

from typing import Literal

import msgspec

from rusty_lantern.core.model.identity import Given

Grantee = Literal["anyone", "any-account", "unsigned", "log-delivery", "named"]
"""`unsigned`: requests without credentials, and none that is signed (the user `anonymous` of a gateway)."""
Permission = Literal["read", "write", "read-acp", "write-acp", "full-control"]


class _Granted(msgspec.Struct, frozen=True, omit_defaults=True):
    to: Grantee
    permission: Permission

    @property
    def public(self) -> bool:
        """Whether it is one to the public."""
        return self.to in ("anyone", "any-account", "unsigned")

    @property
    def by_name(self) -> bool:
        """Whether it names its grantee: no guard on public ACLs keeps it from counting."""
        return self.to in ("named", "unsigned")

    @property
    def words(self) -> str:
        """What is granted to whom."""
        return f"{self.permission} to {getattr(self, 'identity', '') or self.to}"


class Grant(_Granted, frozen=True, omit_defaults=True):
    """One entry of an ACL: to whom, and what. `identity` is the grantee's name where it is no group."""

    identity: str = ""


NOBODY = "anonymous"
"""The user that requests without credentials are at a gateway. No other kind of store has ids of this form."""


def named_grant(identity: str, permission: Permission) -> Grant:
    """A grant to a name."""
    return Grant("unsigned" if identity == NOBODY else "named", permission, identity)


class ObjectGrant(_Granted, frozen=True, omit_defaults=True):
    """What some object's own ACL grants; `key` is one such object, the first by name. `identity` is the grantee's name
    where it is no group."""

    key: str = ""
    identity: str = ""
    more: bool = True
    """Whether other objects grant it too."""

    @property
    def what(self) -> tuple[str, str, str]:
        """What is granted, and to whom: the same on all objects where it is."""
        return self.to, self.identity, self.permission


class ObjectAcls(msgspec.Struct, frozen=True, omit_defaults=True):
    """What objects' own ACLs grant. `complete`: the public gets no more; `names_complete`: nobody gets more by name."""

    acl: list[ObjectGrant] = []
    complete: bool = True
    names_complete: bool = False

    @property
    def public(self) -> list[ObjectGrant]:
        """What they grant the public."""
        return [grant for grant in self.acl if grant.public]


def first_of_each(granted: dict[tuple[str, str, str], ObjectGrant], grant: ObjectGrant) -> None:
    """Keep of each grant the one on the first key, and whether there are more."""
    before = granted.setdefault(grant.what, grant)
    if grant.key != before.key:
        granted[grant.what] = msgspec.structs.replace(min(before, grant, key=lambda one: one.key), more=True)
    elif grant.more:
        granted[grant.what] = grant


MOST_NAMED = 1_000
"""Grants by name that are kept of one bucket's objects."""


def object_acls_of(acl: list[ObjectGrant], *, complete: bool, names_complete: bool) -> ObjectAcls:
    """What objects' own ACLs grant; where that is to too many by name, only what they grant the public."""
    acls = ObjectAcls(acl, complete, names_complete)
    return acls if len(acl) <= MOST_NAMED else ObjectAcls(acls.public, complete)


class Right(msgspec.Struct, frozen=True, omit_defaults=True):
    """A right that a store without policies grants: to whom, which verbs, and on which keys (those with the prefix).

    Anonymous levels of a container, rights of groups, role bindings and "create, read, update, delete for anyone"
    are all written so.
    """

    to: Literal["anyone", "any-account", "named", "group"]
    verbs: list[Given]
    prefix: str = ""
    identity: str = ""
    """The identity or the group, where it is to one."""
    source: str = ""
    """The setting that grants it, in words; empty: the right itself."""
    condition: str = ""
    """A condition that it counts under, as the store writes it. None is understood: it may count or not."""
    unread: str = ""
    """Why it was not read whether there is such a right; empty, where there is."""
    door: Literal["", "blob", "web"] = ""
    """The protocol that it counts at. A right at the `web` endpoint is kept back by no public-access guard."""

    @property
    def title(self) -> str:
        """How reasons name it."""
        return self.source or f"right to {', '.join(self.verbs)} for {self.identity or self.to}"

    @property
    def doubt(self) -> str:
        """Why it may count or not; empty where it counts."""
        if self.unread:
            return f"{self.title} was not read: {self.unread}"
        return f"{self.title} counts under a condition that is not understood: {self.condition}" * bool(self.condition)

    def gives(self, verb: str) -> bool:
        """Whether it lets anybody do this: to create or to update is to write."""
        return verb in self.verbs or (verb == "write" and ("create" in self.verbs or "update" in self.verbs))
