"""Who may assume a role, by its trust policy: a door to every bucket that the role reaches.

A trust policy is a document of the policy language that names no resource. Its result is the widest sort of caller that
it names; what its Denies and its conditions take away is not worked out, and only narrows that, but for the conditions
that bind a sign-in service (`sign_in_services`).
"""

from __future__ import annotations

import json
import re
from typing import Any, get_args

from rusty_lantern.core.access.policy.action_names import names_action
from rusty_lantern.core.access.policy.document import MAX_BYTES, Principals, Statement, parse_policy
from rusty_lantern.core.access.policy.sign_in_services import bound_to, issuer_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AssumableBy

SCALE: tuple[AssumableBy, ...] = get_args(AssumableBy)
_ASSUMING = ("sts:assumerole", "sts:assumerolewithsaml", "sts:assumerolewithwebidentity")


def assumable_by(text: str, account: str) -> Answer[AssumableBy]:
    """The widest sort of caller that a trust policy lets assume its role; `account`: the number of the role's own.

    >>> policy = '{"Statement": {"Effect": "Allow", "Action": "sts:AssumeRole", "Principal": {"AWS": "400100200399"}}}'
    >>> assumable_by(policy, "400100200300").value
    'other-accounts'
    """
    policy = parse_policy(with_resources(text))
    widest: AssumableBy = "nobody"
    if policy.unreadable is not None:
        return Answer("failed", None, f"its trust policy cannot be read: {policy.unreadable.what}")
    for statement in policy.statements:
        if statement.effect == "Deny" or not _is_about_assuming(statement):
            continue
        named = statement.principals
        if statement.faults or named is None or named.vague:
            return Answer("failed", None, f"{statement.title} of its trust policy is not understood")
        named_widest = _widest(named, account)
        bound = [bound_to(statement, service) for service in named.federated]
        if "open" in bound:
            named_widest = "anybody"
        elif statement.conditions and (named_widest == "anybody" or "not worked out" in bound):
            return Answer("failed", None, f"the conditions of {statement.title} of its trust policy are not worked out")
        widest = max(widest, named_widest, key=SCALE.index)
    return Answer("known", widest)


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
        numbers = re.findall(r"(?<![0-9])[0-9]{12}(?![0-9])", name)
        sorts.append("own-account" if account and numbers[:1] == [account] else "other-accounts")
    return max(sorts, key=SCALE.index)
