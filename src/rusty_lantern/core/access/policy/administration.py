"""Permissions at an identity service that are as good as all others: with one, an identity gives itself the rest.

Source: the service's published list of actions. Each counts where it reaches every user, group, role or policy, or, of
those that give a user permissions, the identity itself; a key or a password of one's own is no power. What a resource,
a condition, a Deny or a boundary takes away in part is not worked out: then it is not known.
"""

from __future__ import annotations

import re
from typing import Literal

from rusty_lantern.core.access.policy.action_names import names_action
from rusty_lantern.core.access.policy.document import Condition, Statement, parse_policy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy

POWERS = {
    "iam:AttachUserPolicy": "user", "iam:PutUserPolicy": "user",
    "iam:CreateAccessKey": "user", "iam:CreateLoginProfile": "user", "iam:UpdateLoginProfile": "user",
    "iam:AttachGroupPolicy": "group", "iam:PutGroupPolicy": "group", "iam:AddUserToGroup": "group",
    "iam:AttachRolePolicy": "role", "iam:PutRolePolicy": "role", "iam:UpdateAssumeRolePolicy": "role",
    "iam:CreatePolicyVersion": "policy",
}  # fmt: skip
"""Action → what it changes."""
_FOR_ONESELF = frozenset({"iam:AttachUserPolicy", "iam:PutUserPolicy"})
"""Those of a user that are as good where they reach the identity alone."""
_OWN = re.compile(r"arn:[^:]*:iam::[^:]*:user/(.*/)?\$\{aws:username\}", re.IGNORECASE)
_EVERYDAY = frozenset({"aws:securetransport", "aws:multifactorauthpresent"})
Reach = Literal["all", "part", "none"]


class _Said:
    """What statements of one effect say of each power."""

    def __init__(self) -> None:
        self.all, self.part = set[str](), set[str]()

    def take(self, statement: Statement, resource: str) -> None:
        for power in POWERS:
            if not names_action(statement, power):
                continue
            reach = _reach(statement, power, resource)
            (self.all if reach == "all" else self.part if reach == "part" else set()).add(power)


def administration(
    policies: Answer[list[AttachedPolicy]], boundary: Answer[str], resource: str = ""
) -> Answer[list[str]]:
    """The powers that an identity's permissions give it. `policies`: its own and its groups'; `resource`: its resource
    name. Absent: none; failed: it may have one."""
    if policies.value is None:
        return Answer(policies.state, None, policies.note, policies.evidence)
    allowed, denied, bounded = _Said(), _Said(), _Said()
    for one in policies.value:
        if not _sort(one.text, allowed, denied, resource):
            return Answer("failed", None, f"its permission {one.name} is not understood", policies.evidence)
    if boundary.unread or (boundary.value and not _sort(boundary.value, bounded, denied, resource)):
        bounded.part.update(POWERS)
    elif boundary.value is None:
        bounded.all.update(POWERS)
    sure = (allowed.all & bounded.all) - denied.all - denied.part
    if sure:
        return Answer("known", [power for power in POWERS if power in sure], "", policies.evidence)
    perhaps = ((allowed.all | allowed.part) & (bounded.all | bounded.part)) - denied.all
    if perhaps:
        first = next(power for power in POWERS if power in perhaps)
        note = f"whether {first} makes it one, as it is limited here, is not worked out"
        return Answer("failed", None, note, policies.evidence)
    return Answer("absent", None, "", policies.evidence)


def _sort(text: str, allowed: _Said, denied: _Said, resource: str) -> bool:
    """Sort the statements of a document by effect; whether all could be."""
    policy = parse_policy(text, attached=True)
    for statement in policy.statements:
        (denied if statement.effect == "Deny" else allowed).take(statement, resource)
    return policy.unreadable is None


def _reach(statement: Statement, power: str, resource: str) -> Reach:
    """How much of what a power changes a statement is about: a part where it has another condition than `everyday`, or
    something in it is not understood."""
    reaches = {_of_resource(one, power, statement, resource) for one in statement.resources}
    if statement.resources_negated or statement.faults:
        return "part"
    avoided = statement.effect == "Deny" and any(everyday(one, "false") for one in statement.conditions)
    if avoided or reaches <= {"none"}:
        return "none"
    met = not statement.conditions or (
        statement.effect == "Allow" and all(everyday(one, "true") for one in statement.conditions)
    )
    return "all" if met and "all" in reaches else "part"


def everyday(condition: Condition, wanted: str) -> bool:
    """Whether a condition asks for TLS or MFA, or (`false`) for its absence. Whoever signs in as is meant
    has both."""
    return condition.key in _EVERYDAY and condition.operator == "bool" and set(condition.values) == {wanted}


def _of_resource(pattern: str, power: str, statement: Statement, resource: str) -> Reach:
    kind, own = POWERS[power], pattern == resource or (statement.variables and _OWN.fullmatch(pattern))
    if pattern == "*" or re.fullmatch(rf"arn:[^:]*:iam::(\*|[0-9]*):(\*|{kind}/\*)", pattern):
        return "all"
    if kind == "user" and own:
        if power not in _FOR_ONESELF:
            return "none"
        return "part" if statement.effect == "Deny" else "all"
    other = re.match(r"arn:[^:]*:([a-z0-9-]+):[^:]*:[^:]*:(?:([a-z-]+)/)?", pattern)
    return "none" if other and (other[1] != "iam" or (other[2] or kind) != kind) else "part"
