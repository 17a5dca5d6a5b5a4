"""One request against what is granted beside the policy: by the ACLs of a bucket and of its objects, and by rights.

Each looks for what allows the request, notes the steps, and says whether something that is not known may allow it.
"""

from __future__ import annotations

from collections.abc import Container

from rusty_lantern.core.access.evaluator.request import Caller, Request, Step
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.model.acl import Right


def by_bucket_acl(rules: Rules, request: Request, steps: list[Step]) -> tuple[str, bool]:
    """The grant of the bucket's ACL that allows it, or none; and whether there may be one."""
    possible = "acl" in rules.doubted and request.action in rules.grantable("bucket")
    if rules.disable_grants.on:
        if rules.acl:
            steps.append(Step("acl", "ignored", rules.disable_grants.source))
        return "", False
    for grant in rules.acl:
        name = f"ACL grant of {grant.words}"
        most = request.action in rules.granted_actions(grant, most=True)
        if most and _grantee(grant.to, grant.identity, request.caller):
            guard = rules.guard_on(grant)
            if guard.on:
                steps.append(Step(name, "ignored", guard.source))
                continue
            if request.action not in rules.granted_actions(grant):
                steps.append(Step(name, "not understood", rules.acl_permissions_doubt))
                possible = True
                continue
            if not guard.sure:
                possible = True
                continue
            steps.append(Step(name, "allows"))
            return name, False
        steps.append(Step(name, "does not match", "who" if most else "action"))
    return "", possible


def perhaps_granted(rules: Rules, request: Request, others: Container[str]) -> str:
    """The ACL grant that may let the caller in: one to an id, where the caller is known by its resource name or its
    account's number alone, which do not give its id. `others`: ids that are somebody else's for sure. Empty where none
    may."""
    if request.caller.anonymous or request.caller.canonical or rules.ids_are_names or rules.disable_grants.on:
        return ""
    for grant in rules.acl:
        named = (
            grant.to == "named" and grant.identity not in others and rules.grantee(grant.identity).kind == "canonical"
        )
        if named and request.action in rules.granted_actions(grant, most=True) and not rules.guard_on(grant).on:
            return f"ACL grant of {grant.words}"
    return ""


def by_object_acl(rules: Rules, request: Request, steps: list[Step]) -> tuple[str, bool]:
    """What the object's own ACL grants. Of an object that is not known by name, nobody knows."""
    if request.action not in rules.grantable("object") or rules.disable_grants.on:
        return "", False
    granted = () if rules.ignore_acls.on else rules.object_acls
    doubt = "" if rules.ignore_acls.on else rules.object_doubt
    if rules.of_one_identity:
        granted, doubt = (*granted, *rules.named_object_acls), doubt or rules.named_on_objects
    mine = [
        grant
        for grant in granted
        if request.action in rules.granted_actions(grant, most=True)
        and _grantee(grant.to, grant.identity, request.caller)
    ]
    for grant in mine:
        if grant.key == request.key:
            name = f"the object's own ACL grant of {grant.words}"
            guards = (rules.disable_grants, *([] if grant.by_name else [rules.ignore_acls]))
            sure = all(guard.sure for guard in guards) and request.action in rules.granted_actions(grant)
            steps.append(Step(name, "allows" if sure else "not understood"))
            return (name, False) if sure else ("", True)
    doubt = doubt or ("some objects have ACLs that allow it" if any(grant.more for grant in mine) else "")
    if doubt:
        steps.append(Step("the object's own ACL", "not understood", doubt))
    return "", bool(doubt)


def _mismatch(rules: Rules, right: Right, request: Request, action: Action) -> str:
    """What of a right does not fit the request first; empty where it fits."""
    if not right.gives(action.verb):
        return "action"
    if action.target != "bucket" and not request.key.startswith(right.prefix):
        return "resource"
    return "" if _entitled(rules, right, request.caller) else "who"


def by_right(rules: Rules, request: Request, steps: list[Step]) -> tuple[str, bool]:
    """The right that allows it, or none; and whether there may be one."""
    action = ACTIONS[request.action]
    possible = "rights" in rules.doubted
    for right in rules.rights:
        name = right.title
        mismatch = _mismatch(rules, right, request, action)
        if mismatch:
            steps.append(Step(name, "does not match", mismatch))
        elif (guard := rules.guard_on(right)).on:
            steps.append(Step(name, "ignored", guard.source))
        elif right.doubt:
            steps.append(Step(name, "not understood", right.doubt.removeprefix(f"{name} ")))
            possible = True
        elif not guard.sure:
            possible = True
        else:
            steps.append(Step(name, "allows"))
            return name, False
    return "", possible


def _entitled(rules: Rules, right: Right, caller: Caller) -> bool:
    if right.to in ("anyone", "any-account"):
        return _grantee(right.to, "", caller)
    return any(rules.gives(right, name) for name in (caller.canonical, caller.account, caller.arn) if name)


def _grantee(to: str, identity: str, caller: Caller) -> bool:
    if to == "anyone":
        return True
    if to in ("any-account", "unsigned"):
        return caller.anonymous is (to == "unsigned")
    known = bool(caller.arn and caller.canonical)
    names = (caller.canonical, "" if known else caller.account, *caller.aliases)
    return to == "named" and bool(identity) and identity in names
