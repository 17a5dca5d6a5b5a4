"""Whom the rules of a bucket name: by principals, grants, rights, and by conditions on who asks."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.document import Condition, Statement
from rusty_lantern.core.access.policy.principals import Principal, read_principal, user_named
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.model.acl import Grant, ObjectGrant
from rusty_lantern.core.model.identity import Verb


def as_named(rules: Rules, identity: Principal, account: str) -> Rules:
    """The rules as they count for somebody whom they name: with what objects' own ACLs grant by name. Where ACLs name
    accounts, they let in no user of the bucket's own, `account`, without permissions of its own."""
    of_its_own = bool(account) and identity.account == account and not rules.ids_are_names
    if of_its_own or identity.kind not in ("account", "identity", "canonical"):
        return rules
    names = {identity.name, *identity.aliases}
    theirs = (grant for grant in rules.named_object_acls if not names.isdisjoint(_names_of(rules, grant)))
    return msgspec.structs.replace(rules, of_one_identity=True, named_object_acls=tuple(theirs))


def _names_of(rules: Rules, grant: ObjectGrant) -> tuple[str, str]:
    return grant.identity, _name_of(grant.identity, ids_are_names=rules.ids_are_names)


@lru_cache(maxsize=8192)
def _name_of(identity: str, *, ids_are_names: bool) -> str:
    return (user_named(identity) if ids_are_names else read_principal(identity)).name


def granted_on_objects(rules: Rules) -> frozenset[Verb]:
    """The verbs that an object's own ACL may grant."""
    return frozenset(ACTIONS[action].verb for action in rules.grantable("object"))


def named_in(rules: Rules) -> Iterator[Principal]:
    """Everyone whom the rules name, each once: as principals, by grants and rights, by conditions on who asks, and by
    objects' own ACLs."""
    seen: dict[Principal, None] = {}
    for statement in rules.policy.statements:
        who = statement.principals
        if who is None:
            continue
        if who.everyone != who.negated:
            seen |= dict.fromkeys(_named_by_conditions(statement))
        if statement.effect == "Deny":  # whom it spares, it names
            seen |= dict.fromkeys(_in_statement(rules, name) for name in (who.accounts if who.negated else ()))
        elif not who.negated and not who.everyone:
            seen |= dict.fromkeys(_in_statement(rules, name) for name in (*who.accounts, *who.services))
            seen |= dict.fromkeys(
                user_named(name) if rules.ids_are_names else Principal(name, "canonical") for name in who.canonical
            )
            seen |= dict.fromkeys(Principal(name, "federated") for name in who.federated)
    for right in rules.rights:
        if right.to in ("named", "group") and right.identity:
            seen[Principal(right.identity, "group") if right.to == "group" else read_principal(right.identity)] = None
    granted: tuple[Grant | ObjectGrant, ...] = (*rules.acl, *rules.named_object_acls)
    for grant in granted:
        if grant.to == "named" and grant.identity:
            seen[rules.grantee(grant.identity)] = None
    yield from seen


def _in_statement(rules: Rules, name: str) -> Principal:
    """Whom a statement names: a bare name is an account's there, not a user's."""
    return rules.principal(name) if name.startswith("arn:") else read_principal(name)


def _named_by_conditions(statement: Statement) -> Iterator[Principal]:
    """Whom an Allow to everybody lets in by its conditions, and whom a Deny spares by them. A pattern of resource names
    in one account stands for whoever has such a name there."""
    naming_operators, patterns_in = (_SPARING, _SPARING_LIKE) if statement.effect == "Deny" else (_NAMING, _LIKE)
    for condition in statement.conditions:
        of_arns = condition.key == "aws:principalarn"
        naming = of_arns or condition.key in ("aws:principalaccount", "aws:principalservicename")
        if naming and condition.operator in naming_operators:
            patterns = of_arns and condition.operator in patterns_in
            names = (name for name in condition.values if not _vague(name, patterns=patterns))
            yield from (read_principal(_whole(name)) for name in names if ":" in name or not of_arns)


def _whole(name: str) -> str:
    """The account's root, where a pattern fits everybody in it: `arn:aws:iam::marsh:*`."""
    parts = name.split(":", 5)
    return f"{name[:-1]}root" if len(parts) == 6 and parts[4] and parts[5] == "*" else name


def stands_for_several(who: Principal) -> bool:
    """Whether it is a pattern of names that a condition has."""
    return who.kind == "identity" and not _PATTERN.isdisjoint(who.name)


def is_whole_tenant(who: Principal, tenants: Collection[str]) -> bool:
    """Whether somebody is all users of one tenant of a gateway."""
    return who.kind == "account" and who.name in tenants


def unnamed_callers(rules: Rules, trusted: Collection[str]) -> str:
    """The rule that lets in callers whom it does not name, by a condition on who they are, or may; empty where there is
    none. `trusted`: organisations that are."""
    patterns: set[tuple[str, ...]] = set()
    spared = ""
    for statement in rules.policy.statements:
        who, refuses = statement.principals, statement.effect == "Deny"
        if who is None or who.everyone == who.negated:
            continue
        asking = [
            condition for condition in statement.conditions
            if condition.key in _ASKING and (not refuses or condition.operator in _SPARING)
        ]  # fmt: skip
        named = [_names_all(condition) or not set(condition.values) - set(trusted) for condition in asking]
        if asking and not (all(named) if refuses else any(named)):
            return f"{statement.title}: who meets its condition on {asking[named.index(False)].key} is not known"
        fitting = {one.values for one in asking if not _PATTERN.isdisjoint("".join(one.values))}
        patterns |= fitting
        spared = statement.title if refuses and fitting else spared
        if statement.faults:
            return f"{statement.title}: {statement.faults[0]}"
    several = spared and len(patterns) > 1
    return f"{spared}: whose names fit its patterns, and those of other statements, is not known" if several else ""


_ASKING = frozenset(
    {"aws:principalarn", "aws:principalaccount", "aws:principalorgid", "aws:principalorgpaths", "aws:userid"}
)


def _names_all(condition: Condition) -> bool:
    """Whether a condition leaves nobody but those whom it names."""
    of_arns, operators = condition.key == "aws:principalarn", _NAMING | _SPARING
    if not (of_arns or condition.key == "aws:principalaccount") or condition.operator not in operators:
        return False
    patterns = of_arns and condition.operator in _LIKE | _SPARING_LIKE
    return not any(_vague(name, patterns=patterns) for name in condition.values)


_NAMING = frozenset({"stringequals", "stringequalsignorecase", "stringlike", "arnequals", "arnlike"})
_LIKE = frozenset({"stringlike", "arnequals", "arnlike"})
_SPARING = frozenset({"stringnotequals", "stringnotequalsignorecase", "stringnotlike", "arnnotequals", "arnnotlike"})
_SPARING_LIKE = frozenset({"stringnotlike", "arnnotequals", "arnnotlike"})


def _vague(name: str, *, patterns: bool) -> bool:
    """Whether a value names nobody in particular; with `patterns`, one names whoever it fits in its account."""
    account = name.split(":", 5)[4] if patterns and name.count(":") >= 5 else name
    return "$" in name or not _PATTERN.isdisjoint(account if patterns else name)


_PATTERN = frozenset("*?")
