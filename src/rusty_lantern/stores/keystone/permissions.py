"""What roles, application credentials and trusts of a Keystone let people do in one account of a Swift store.

The store's proxy decides by the names of roles, and its settings say which mean what. They cannot be asked for: without
the team's word on them (`roles:` in estate.yaml) every role *may* own the account.
"""

from __future__ import annotations

import json
from collections.abc import Iterable

import msgspec

from rusty_lantern.core.config.estate import RoleMeanings
from rusty_lantern.core.model.identity import AttachedPolicy
from rusty_lantern.stores.keystone.documents import Scope

OWN = ("s3:*",)
READ = ("s3:GetObject", "s3:GetObjectVersion", "s3:ListBucket", "s3:ListBucketVersions")
ADMINISTRATOR = "admin"
"""The role that opens the identity service itself, wherever it is held. Source: its default policy."""


class Held(msgspec.Struct, frozen=True):
    """A role that somebody holds."""

    role: str
    project: str
    """The id of the project that it is held in; empty for a domain or the whole system."""
    words: str
    """Where, in words."""
    via: str = ""
    """The group that gives it."""


def held(role: str, scope: Scope, via: str = "") -> Held:
    """A role in a scope."""
    return Held(role, scope.project.id if scope.project is not None else "", scope.words, via)


class Account(msgspec.Struct, frozen=True):
    """The account of the store, and what roles mean to the store."""

    project: str
    """The id of the project that owns it."""
    roles: RoleMeanings | None

    def documents(self, holding: Iterable[Held]) -> list[AttachedPolicy]:
        """What somebody with these roles can do in the account."""
        made = (self._document(one) for one in dict.fromkeys(holding))
        return [document for document in made if document is not None]

    def aliases(self, user: str, holding: Iterable[Held]) -> list[str]:
        """Every id by which a container ACL can let a user in: by each project that it can have a token for, by none,
        and by its roles in the account's own project."""
        mine = list(holding)
        projects = sorted({one.project for one in mine if one.project})
        roles = sorted({one.role.lower() for one in mine if self.project and one.project == self.project})
        named = [name for project in projects for name in (f"{project}:{user}", f"{project}:*")]
        return [*named, f"*:{user}", *roles]

    def _document(self, one: Held) -> AttachedPolicy | None:
        actions, doubt = self._actions(one.role.lower(), here=bool(self.project) and one.project == self.project)
        if not actions:
            return None
        return AttachedPolicy(f"role {one.role} on {one.words}", allowing(actions), one.via, doubt)

    def _actions(self, role: str, *, here: bool) -> tuple[tuple[str, ...], str]:
        """What a role allows in every container, and why it may not."""
        known = self.roles
        if known is None:
            return OWN, f"what the role {role} may do is the store's own setting; say it in estate.yaml, under roles:"
        if role in known.reseller_admin or (here and role in known.operator):
            return OWN, ""
        return (READ if role in known.system_reader or (here and role in known.project_reader) else ()), ""


def allowing(actions: Iterable[str], resources: Iterable[str] = ("*",)) -> str:
    """A policy document that allows these actions."""
    return json.dumps(
        {"Version": "2012-10-17",
         "Statement": [{"Effect": "Allow", "Action": sorted(actions), "Resource": sorted(resources)}]}
    )  # fmt: skip
