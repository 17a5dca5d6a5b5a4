"""Principals that are patterns: for the resource names of users (measured on SeaweedFS 4.48), or for the empty name of
whoever sends no credentials, the only one whom policies of buckets are about (measured on a JuiceFS gateway 1.4.2)."""

from __future__ import annotations

import re

from rusty_lantern.core.access.dialects.condition_readings import signed
from rusty_lantern.core.access.dialects.glob_expressions import fits_pattern
from rusty_lantern.core.access.policy.condition_keys import ARN
from rusty_lantern.core.access.policy.document import Condition, Principals

UNSIGNED_NAME = "*"
"""The name by which a request without credentials goes there."""
_EVERYBODY = frozenset({"*", "?*", "*?"})
"""Patterns that fit every name."""
_USER = re.compile(r"arn:aws:(?:iam|sts)::[^:]*:(?:user|role|assumed-role)/.+", re.DOTALL)


def by_pattern(who: Principals, place: str) -> list[tuple[Principals | None, tuple[Condition, ...]]]:
    """Whom principals mean there, as the common language writes it: everybody, users by name, users by a pattern. Of
    whatever kind a name is written as; an account, or its root, is the name of no user."""
    names = (*who.accounts, *who.federated, *who.services, *who.canonical, *who.vague)
    if who.everyone or not _EVERYBODY.isdisjoint(names):
        return [(Principals(everyone=True), ())]
    users = tuple(name for name in names if not _wild(name) and _USER.fullmatch(name))
    patterns = tuple(name for name in names if _wild(name) and "${" not in name)  # no user's name has that
    whom: list[tuple[Principals | None, tuple[Condition, ...]]] = []
    if any(fits_pattern(name, UNSIGNED_NAME) for name in patterns):
        whom.append((Principals(everyone=True), (signed(place, negated=False),)))
    if users:
        whom.append((Principals(accounts=users), ()))
    if patterns:
        whom.append((Principals(everyone=True), (Condition("stringlike", ARN, patterns, place),)))
    return whom


def of_unsigned_callers(who: Principals, place: str) -> list[tuple[Principals | None, tuple[Condition, ...]]]:
    """Whom principals mean where policies are about requests without credentials alone: those, or nobody."""
    let_in = who.everyone or any(not name.strip("*") for name in (*who.accounts, *who.vague))
    return [(Principals(everyone=True), (signed(place, negated=False),))] if let_in is not who.negated else []


def _wild(name: str) -> bool:
    return "*" in name or "?" in name
