"""Which permissions at the administration protocol are as good as all: with one of them users give themselves any."""

from __future__ import annotations

from rusty_lantern.core.access.policy.action_names import names_action
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy

POWERS = (
    "admin:CreateUser", "admin:CreatePolicy", "admin:AttachUserOrGroupPolicy", "admin:AddUserToGroup",
    "admin:CreateServiceAccount", "admin:ConfigUpdate", "admin:ServerUpdate",
)  # fmt: skip


def powers_of(policies: Answer[list[AttachedPolicy]]) -> Answer[list[str]]:
    """Those that policies allow. Absent: none of them. Where a Deny may take one away, it is not said."""
    if policies.value is None:
        return Answer(policies.state, None, policies.note, policies.evidence)
    allowed, denied = set[str](), set[str]()
    for one in policies.value:
        policy = parse_policy(one.text, attached=True)
        if policy.unreadable:
            return Answer("failed", None, f"its policy {one.name} is not understood", policies.evidence)
        for statement in policy.statements:
            named = [power for power in POWERS if names_action(statement, power)]
            (denied if statement.effect == "Deny" else allowed).update(named)
    if allowed & denied:
        return Answer("failed", None, "one of its policies denies what another allows", policies.evidence)
    if not allowed:
        return Answer("absent", evidence=policies.evidence)
    return Answer("known", [power for power in POWERS if power in allowed], "", policies.evidence)
