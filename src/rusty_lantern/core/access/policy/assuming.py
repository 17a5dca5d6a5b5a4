"""Which roles of its own account an identity may assume: by the role's trust policy, and by its own permissions where
that names the account as a whole.

Source: the language's published pages on roles, and on policies of a resource beside those of an identity: whom a trust
policy names needs no permission of its own; a Deny on either side refuses. A condition other than TLS and MFA is not
worked out: then it is not known.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from rusty_lantern.core.access.policy.action_names import fits, names_action
from rusty_lantern.core.access.policy.administration import everyday
from rusty_lantern.core.access.policy.document import Policy, Statement, parse_policy
from rusty_lantern.core.access.policy.principals import in_one_partition, role_of
from rusty_lantern.core.access.policy.role_trust import with_resources
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy

ACTION = "sts:AssumeRole"


class Assumable(NamedTuple):
    """The roles that an identity may assume for certain, and those that it may; by resource name."""

    sure: frozenset[str]
    perhaps: frozenset[str]


class Said:
    """Resource names of roles that statements of one effect are about: as a whole, and perhaps."""

    def __init__(self) -> None:
        self.sure: set[str] = set()
        self.perhaps: set[str] = set()

    def take(self, roles: Iterable[str], *, sure: bool) -> None:
        """Add roles."""
        (self.sure if sure else self.perhaps).update(roles)


class Trusts:
    """The trust policies of an account's roles, looked up by whom they name. `trusts`: role → its trust policy; None
    where it was not given."""

    def __init__(self, trusts: Mapping[str, str | None]) -> None:
        self.roles = frozenset(trusts)
        self.allowed: dict[str, Said] = {}
        self.denied: dict[str, Said] = {}
        self.unread = frozenset(role for role, text in trusts.items() if text is None)
        for role, text in trusts.items():
            policy = parse_policy(with_resources(text)) if text is not None else Policy()
            self.unread |= {role} if policy.unreadable else set()
            for statement in filter(_is_about_assuming, policy.statements):
                self._enter(role, statement)

    def _enter(self, role: str, statement: Statement) -> None:
        who, table = statement.principals, self.denied if statement.effect == "Deny" else self.allowed
        if _avoided(statement):
            return
        sure = _certain(statement) and who is not None
        if who is None or who.negated or who.vague:
            names, sure = ["*"], False
        else:
            names = ["*"] if who.everyone else [in_one_partition(name) for name in who.accounts]
        account = role.split(":", 5)[4] if role.count(":") > 4 else ""
        for name in names:
            somebody, exact = role_of(name), role_of(name) == name  # a session's name is one of its role's
            if somebody in (account, f"arn:aws:iam::{account}:root") or (not account and _is_an_account(name)):
                somebody, exact = "account", bool(account)
            table.setdefault(somebody, Said()).take([role], sure=sure and exact)

    def of(self, resource: str, permissions: Answer[list[AttachedPolicy]], boundary: Answer[str]) -> Assumable:
        """What the identity of a resource name may assume. `permissions`: its own and its groups'."""
        name = in_one_partition(resource)
        own, refused, cap = Said(), Said(), Said()
        for one in permissions.value or ():
            self._take(one.text, own, refused)
        if permissions.value is None:
            own.perhaps |= self.roles
            refused.perhaps |= self.roles
        if boundary.value is not None:
            self._take(boundary.value, cap, refused)
        elif boundary.unread:
            cap.perhaps |= self.roles
            refused.perhaps |= self.roles
        else:
            cap.sure |= self.roles
        named, whole = _joined(self.allowed, name, "*"), _joined(self.allowed, "account")
        denied = _joined(self.denied, name, "*", "account")
        may = named.sure | (whole.sure & own.sure & cap.sure)
        might = named.perhaps | self.unread
        might |= (whole.sure | whole.perhaps) & (own.sure | own.perhaps) & (cap.sure | cap.perhaps)
        doubtful = denied.perhaps | refused.perhaps
        gone = denied.sure | refused.sure | {name}
        return Assumable(frozenset(may - gone - doubtful), frozenset((may | might) - gone - (may - doubtful)))

    def _take(self, text: str, allowed: Said, denied: Said) -> None:
        policy = parse_policy(text, attached=True)
        if policy.unreadable:
            allowed.perhaps |= self.roles
            denied.perhaps |= self.roles
        for statement in filter(_is_about_assuming, policy.statements):
            about = self.roles
            if not statement.resources_negated and "*" not in statement.resources:
                about = frozenset(role for role in self.roles if any(fits(one, role) for one in statement.resources))
            sure = _certain(statement) and not statement.resources_negated and not _variable(statement)
            about = self.roles if _variable(statement) else about
            if not _avoided(statement):
                (denied if statement.effect == "Deny" else allowed).take(about, sure=sure)


def _is_an_account(name: str) -> bool:
    return name.isdigit() or name.endswith(":root")


def _variable(statement: Statement) -> bool:
    return statement.variables and any("${" in one for one in statement.resources)


def _avoided(statement: Statement) -> bool:
    """Whether a Deny refuses nobody who signs in as is meant."""
    return statement.effect == "Deny" and any(everyday(one, "false") for one in statement.conditions)


def _certain(statement: Statement) -> bool:
    """Whether a statement applies to everybody who signs in as is meant."""
    if statement.faults:
        return False
    conditions = statement.conditions
    return not conditions or (statement.effect == "Allow" and all(everyday(one, "true") for one in conditions))


def _is_about_assuming(statement: Statement) -> bool:
    return not statement.actions or names_action(statement, ACTION)


def _joined(table: Mapping[str, Said], *names: str) -> Said:
    joined = Said()
    for said in (table[name] for name in names if name in table):
        joined.sure |= said.sure
        joined.perhaps |= said.perhaps
    return joined
