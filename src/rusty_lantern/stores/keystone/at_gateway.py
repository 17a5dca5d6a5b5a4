"""What roles of a Keystone let people do at an S3-compatible gateway that takes its tokens.

There each project is a user of the gateway, made when its first token comes. Whoever holds an accepted role on the
project acts as that user where ACLs name it by its id; a policy can name none of them, but everybody. Container ACLs
also name them as a Swift server's do, at the Swift door alone. Measured on release 16.2 (`docs/doors.md`).
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import RoleMeanings
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from rusty_lantern.core.model.unlisted import any_of
from rusty_lantern.stores.keystone.documents import AccessRule, Named, User
from rusty_lantern.stores.keystone.permissions import OWN, Held, allowing, doubt_of_role

OF_KEYSTONE = "the gateway takes tokens of a Keystone, and estate.yaml names none under identities: of this store"
OWN_USERS = "the gateway's own users are shown at its administration door alone"


class GatewayAccounts(msgspec.Struct, frozen=True):
    """What roles mean to the gateway: `operator` are those that it accepts, `reseller_admin` those of its
    administrators, for whom no refusal counts."""

    roles: RoleMeanings | None
    attached: Mapping[str, list[AttachedPolicy]]
    """Project → the permissions that the gateway attaches to it."""
    unread: tuple[AttachedPolicy, ...] = ()
    """What takes their place where the gateway's own users were not read."""

    def _accepted(self, one: Held) -> bool:
        known = self.roles
        return known is None or one.role.lower() in known.operator | known.reseller_admin

    def documents(self, holding: Iterable[Held]) -> list[AttachedPolicy]:
        """What somebody with these roles can do everywhere, or may be able to."""
        accepted = [one for one in dict.fromkeys(holding) if self._accepted(one)]
        users = [name for one in accepted for name in (one.project, tenanted(one.project))]
        made = [document for name in users for document in self.attached.get(name, self.unread)]
        if self.roles is None:
            made += [AttachedPolicy(one.title, allowing(OWN), one.via, doubt_of_role(one.role)) for one in accepted]
        return made

    def rules_all(self, holding: Iterable[Held]) -> bool:
        """Whether somebody with these roles can do everything everywhere, whatever refuses it."""
        return self.roles is not None and any(one.role.lower() in self.roles.reseller_admin for one in holding)

    def names(self, user: str, known: User | None, holding: Iterable[Held], projects: Mapping[str, Named]) -> list[str]:
        """Every name by which ACLs can let a user in, by each project that it can have an accepted token for."""
        mine = sorted({one.project for one in holding if one.project and self._accepted(one)})
        names = [n for p in mine for n in (p, tenanted(p), f"{p}:{user}", f"{p}:*", f"*:{user}")]
        for home in (projects[project].name for project in mine if project in projects):
            names += [f"{home}:*", *([f"{home}:{known.name}", f"*:{known.name}"] if known is not None else [])]
        return list(dict.fromkeys(names))

    def limit(self, rules: list[AccessRule] | None) -> Answer[str]:
        """What the access rules of an application credential let through."""
        if rules is None:
            return Answer("absent")
        return Answer("failed", None, "how a gateway takes its access rules is not known")


def tenanted(project: str) -> str:
    """The user that stands for a project in a gateway that gives each a tenant of its own (`implicit tenants`)."""
    return f"{project}${project}"


def at_gateway(dossier: Dossier, roles: RoleMeanings | None) -> GatewayAccounts:
    """The gateway that a dossier was read from."""
    own = dossier.identities
    unread = (_in_doubt("Allow", "Deny", why=f"{OWN_USERS}: {own.note}"),) if own.value is None else ()
    return GatewayAccounts(roles, {one.name: _attached_to(one) for one in own.value or ()}, unread)


def _attached_to(one: Identity) -> list[AttachedPolicy]:
    """What the gateway attaches to a user that stands for a project; what it limits it to may refuse anything."""
    if one.policies.value is None:
        return [_in_doubt("Allow", "Deny", why=f"the permissions of {one.name} were not read ({one.policies.reason})")]
    if one.operations.value is None and not one.operations.unread:
        return one.policies.value
    return [*one.policies.value, _in_doubt("Deny", why=f"the gateway limits the operations of {one.name}")]


def _in_doubt(*effects: str, why: str) -> AttachedPolicy:
    """What may allow, or refuse, everything."""
    statements = [{"Effect": effect, "Action": "*", "Resource": "*"} for effect in effects]
    text = json.dumps({"Version": "2012-10-17", "Statement": statements})
    return AttachedPolicy("permissions at the gateway", text, doubt=why)


def beside_own_users(dossier: Dossier, people: dict[str, Answer[Any]]) -> dict[str, Answer[Any]]:
    """Users of a Keystone beside the gateway's own, and their keys; where its own were not read, there are more."""
    own, keys = dossier.identities, dossier.credentials
    listed = [one for one in own.value or () if one.state.note != OF_KEYSTONE]
    if own.value is None:
        listed = [any_of("user", _unread(own))]
    joined = people["credentials"].map(lambda others: [*(keys.value or ()), *others])
    return people | {
        "identities": people["identities"].map(lambda others: [*listed, *others]),
        "credentials": joined if keys.settled else _unread(keys),
    }


def _unread(own: Answer[Any]) -> Answer[Any]:
    return Answer(own.state, None, f"{OWN_USERS}: {own.note}", own.evidence)
