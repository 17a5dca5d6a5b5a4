"""What roles, application credentials and trusts of a Keystone let people do in one account of a Swift store.

The store's proxy decides by the names of roles, and its settings say which mean what. They cannot be asked for: without
the team's word on them (`roles:` in estate.yaml) every role *may* own the account.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Protocol

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import RoleMeanings
from rusty_lantern.core.model.identity import AttachedPolicy
from rusty_lantern.stores.keystone.access_rules import limited
from rusty_lantern.stores.keystone.documents import AccessRule, Named, Scope, User

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

    @property
    def title(self) -> str:
        """The role and where it is held."""
        return f"role {self.role} on {self.words}"


def held(role: str, scope: Scope, via: str = "") -> Held:
    """A role in a scope."""
    return Held(role, scope.project.id if scope.project is not None else "", scope.words, via)


class Accounts(Protocol):
    """What roles mean to a store that takes tokens of the service."""

    def documents(self, holding: Iterable[Held]) -> list[AttachedPolicy]:
        """What somebody with these roles can do by them."""

    def rules_all(self, holding: Iterable[Held]) -> bool:
        """Whether somebody with these roles can do everything, whatever refuses it."""

    def names(self, user: str, known: User | None, holding: Iterable[Held], projects: Mapping[str, Named]) -> list[str]:
        """Every name by which ACLs can let in a user with these roles. `known`: who it is; `projects`: id → project."""

    def limit(self, rules: list[AccessRule] | None) -> Answer[str]:
        """What the access rules of an application credential let through."""


FIRST_DOMAIN = "default"
"""The id of the domain that every service begins with."""


class Account(msgspec.Struct, frozen=True):
    """The account of a Swift store, and what roles mean to the store."""

    project: str
    """The id of the project that owns it."""
    roles: RoleMeanings | None
    path: str = ""
    """The last part of its address."""

    def documents(self, holding: Iterable[Held]) -> list[AttachedPolicy]:
        """What somebody with these roles can do in the account."""
        made = (self._document(one) for one in dict.fromkeys(holding))
        return [document for document in made if document is not None]

    def rules_all(self, holding: Iterable[Held]) -> bool:
        """A container's ACL, and this protocol, refuse nobody anything."""
        return False

    def names(self, user: str, known: User | None, holding: Iterable[Held], projects: Mapping[str, Named]) -> list[str]:
        """Every id by which a container ACL can let a user in: by each project that it can have a token for, by none,
        and by its roles in the account's own project; plain names where they count."""
        mine = list(holding)
        homes = sorted({one.project for one in mine if one.project})
        roles = sorted({one.role.lower() for one in mine if self.project and one.project == self.project})
        named = [name for project in homes for name in (f"{project}:{user}", f"{project}:*")]
        return [*named, f"*:{user}", *roles, *(self._plain_names(known, homes, projects) if known is not None else ())]

    def _plain_names(self, user: User, homes: Iterable[str], projects: Mapping[str, Named]) -> list[str]:
        """The names by which ACLs can let it in: they count where user, project and account are all in the
        first domain."""
        own = projects.get(self.project)
        if user.domain_id != FIRST_DOMAIN or own is None or own.domain_id != FIRST_DOMAIN:
            return []
        names_of = [f"*:{user.name}"]
        for home in (projects.get(project) for project in homes):
            if home is not None and home.domain_id == FIRST_DOMAIN:
                names = [(home.name, user.name), (home.name, user.id), (home.id, user.name), (home.name, "*")]
                names_of += [f"{project}:{who}" for project, who in names]
        return names_of

    def limit(self, rules: list[AccessRule] | None) -> Answer[str]:
        """What the access rules of an application credential let through."""
        if rules is None:
            return Answer("absent")
        text = limited(rules, self.path)
        return Answer("known", text) if text is not None else Answer("failed", None, "its access rules are unusual")

    def _document(self, one: Held) -> AttachedPolicy | None:
        actions, doubt = self._actions(one.role.lower(), here=bool(self.project) and one.project == self.project)
        if not actions:
            return None
        return AttachedPolicy(one.title, allowing(actions), one.via, doubt)

    def _actions(self, role: str, *, here: bool) -> tuple[tuple[str, ...], str]:
        """What a role allows in every container, and why it may not."""
        known = self.roles
        if known is None:
            return OWN, doubt_of_role(role)
        if role in known.reseller_admin or (here and role in known.operator):
            return OWN, ""
        return (READ if role in known.system_reader or (here and role in known.project_reader) else ()), ""


def doubt_of_role(role: str) -> str:
    """Why it is not known what a role may do, where nobody says what roles mean."""
    return f"what the role {role} may do is the store's own setting; say it in estate.yaml, under roles:"


def allowing(actions: Iterable[str], resources: Iterable[str] = ("*",)) -> str:
    """A policy document that allows these actions."""
    return json.dumps(
        {"Version": "2012-10-17",
         "Statement": [{"Effect": "Allow", "Action": sorted(actions), "Resource": sorted(resources)}]}
    )  # fmt: skip
