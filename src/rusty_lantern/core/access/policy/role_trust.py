"""Who may assume a role, by its trust policy: a door to every bucket that the role reaches.

A trust policy is a document of the policy language that names no resource. Its result is the widest sort of caller that
it names. What its Denies and its conditions take away only narrows that. Worked out are those that bind a sign-in
service (`sign_in_services`), and those that bind everybody to accounts.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import Any, get_args

from rusty_lantern.core.access.policy.action_names import names_action
from rusty_lantern.core.access.policy.document import MAX_BYTES, Condition, Principals, Statement, parse_policy
from rusty_lantern.core.access.policy.sign_in_services import bound_to, issuer_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import MEMBERS_UNKNOWN, AssumableBy

SCALE: tuple[AssumableBy, ...] = get_args(AssumableBy)
_IS = frozenset({"stringequals", "stringequalsignorecase", "stringlike", "arnequals", "arnlike"})
_IS_NOT = frozenset({"stringnotequals", "stringnotequalsignorecase", "stringnotlike", "arnnotequals", "arnnotlike"})
_ORGANISATION = re.compile("o-[a-z0-9]+")
_ACCOUNT_KEYS = {
    "aws:principalaccount": re.compile("[0-9]{12}"),
    "aws:principalarn": re.compile("arn:[^:*?]*:(iam|sts)::[0-9]{12}:.+"),
    "aws:principalorgid": _ORGANISATION,
}
"""Keys that say of which account, or organisation, a caller is → values that name one."""
EVERYBODY = "*"
_ASSUMING = ("sts:assumerole", "sts:assumerolewithsaml", "sts:assumerolewithwebidentity")


def assumable_by(text: str, account: str) -> Answer[AssumableBy]:
    """The widest sort of caller that a trust policy lets assume its role; `account`: the number of the role's own.

    >>> policy = '{"Statement": {"Effect": "Allow", "Action": "sts:AssumeRole", "Principal": {"AWS": "400100200399"}}}'
    >>> assumable_by(policy, "400100200300").value
    'other-accounts'
    """
    policy = parse_policy(with_resources(text))
    widest: AssumableBy = "nobody"
    spared = [one for one in policy.statements if one.effect == "Deny" and _is_about_assuming(one)]
    if policy.unreadable is not None:
        return Answer("failed", None, f"its trust policy cannot be read: {policy.unreadable.what}")
    for statement in policy.statements:
        if statement.effect == "Deny" or not _is_about_assuming(statement):
            continue
        named = statement.principals
        if statement.faults or named is None or named.vague:
            return Answer("failed", None, f"{statement.title} of its trust policy is not understood")
        lets_in = _bound(statement, spared)
        named_widest = _widest(lets_in, account)
        bound = [bound_to(statement, service) for service in named.federated]
        if "open" in bound:
            named_widest = "anybody"
        elif statement.conditions and (named_widest == "anybody" or "not worked out" in bound):
            return Answer("failed", None, f"the conditions of {statement.title} of its trust policy are not worked out")
        elif organisations := [name for name in lets_in.accounts if _ORGANISATION.fullmatch(name)]:
            members = f"{MEMBERS_UNKNOWN}: the members of {', '.join(organisations)}"
            return Answer("failed", None, f"{statement.title} of its trust policy: {members}")
        widest = max(widest, named_widest, key=SCALE.index)
    return Answer("known", widest)


def callers_outside(text: str, account: str) -> list[str]:
    """Whom outside its account a trust policy lets in, in order: numbers of accounts, organisations, sign-in services,
    names that tell no account as they are written; `*` where it may be everybody. None where it cannot be read.

    >>> named = {"AWS": ["arn:aws:iam::400100200399:role/reader", "400100200300"]}
    >>> allow = {"Effect": "Allow", "Action": "sts:AssumeRole", "Principal": named}
    >>> callers_outside(json.dumps({"Statement": allow}), "400100200300")
    ['400100200399']
    """
    outside: set[str] = set()
    statements = [one for one in parse_policy(with_resources(text)).statements if _is_about_assuming(one)]
    for statement in (one for one in statements if one.effect == "Allow"):
        named = _bound(statement, [one for one in statements if one.effect == "Deny"])
        unbound = any(bound_to(statement, service) in ("open", "not worked out") for service in named.federated)
        not_understood = statement.faults or statement.principals is None or named.vague
        outside |= {_account_in(name) or name for name in (*named.accounts, *named.canonical)} - {account}
        outside |= {issuer_of(service) for service in named.federated}
        outside |= {EVERYBODY} if named.everyone or named.negated or unbound or not_understood else set()
    return sorted(outside)


def unknown_services(text: str) -> list[str]:
    """The sign-in services that a trust policy names without a subject, and that this tool does not know: they may give
    tokens to anybody."""
    allows = [statement for statement in parse_policy(with_resources(text)).statements if statement.effect == "Allow"]
    named = [
        issuer_of(service)
        for statement in allows
        if _is_about_assuming(statement) and statement.principals
        for service in statement.principals.federated
        if bound_to(statement, service) == "not known"
    ]
    return sorted(set(named))


def with_resources(text: str) -> str:
    """The document as if it named every resource: the parser wants one."""
    if len(text) > MAX_BYTES:
        return text
    try:
        document: Any = json.loads(text)
    except (ValueError, RecursionError):
        return text
    statements = document.get("Statement") if isinstance(document, dict) else None
    for statement in statements if isinstance(statements, list) else [statements]:
        if isinstance(statement, dict):
            statement.setdefault("Resource", "*")
    return json.dumps(document)


def _is_about_assuming(statement: Statement) -> bool:
    return not statement.actions or any(names_action(statement, action) for action in _ASSUMING)


def _bound(statement: Statement, denies: Iterable[Statement]) -> Principals:
    """Whom a statement lets in. Everybody is the accounts that its conditions bind callers to, or those that a Deny
    spares, where one does."""
    named = statement.principals or Principals()
    if not named.everyone or named.negated:
        return named
    bounds = [_accounts_of(condition, _IS) for condition in statement.conditions]
    for deny in denies:
        everybody = deny.principals is not None and deny.principals.everyone and not deny.principals.negated
        covers = all(names_action(deny, one) for one in _ASSUMING if names_action(statement, one))
        if everybody and covers and not deny.faults and len(deny.conditions) == 1:
            bounds.append(_accounts_of(deny.conditions[0], _IS_NOT))
    bound = next(filter(None, bounds), None)
    return named if bound is None else Principals(accounts=bound, federated=named.federated, services=named.services)


def _accounts_of(condition: Condition, operators: frozenset[str]) -> tuple[str, ...]:
    """The accounts, or organisations, that a condition compares the caller with; none where it leaves others open.

    Where the key is absent, what compares for equality fails, and what compares for inequality holds; with `IfExists`
    both hold (the policy language's reference, condition operators).
    """
    key, of_allow = condition.key.lower(), operators is _IS
    if condition.operator not in operators or condition.quantifier or (of_allow and condition.if_exists):
        return ()
    pattern = _ACCOUNT_KEYS.get(key)
    if pattern is None or not all(pattern.fullmatch(value) for value in condition.values):
        return ()
    return condition.values


def _account_in(name: str) -> str:
    """The number of the account that a name tells; empty where it tells none."""
    return next(iter(re.findall(r"(?<![0-9])[0-9]{12}(?![0-9])", name)), "")


def _widest(named: Principals, account: str) -> AssumableBy:
    if named.everyone or named.negated:
        return "anybody"
    sorts: list[AssumableBy] = ["nobody"]
    if named.services:
        sorts.append("services")
    if named.federated:
        sorts.append("federated")
    if named.canonical:
        sorts.append("other-accounts")
    for name in named.accounts:
        sorts.append("own-account" if account and _account_in(name) == account else "other-accounts")
    return max(sorts, key=SCALE.index)
