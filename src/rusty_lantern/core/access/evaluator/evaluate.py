"""One request against a bucket's rules, decided plainly, in the order in which the semantics are written.

1. A guard or ownership mode may take the ACLs or the public policy out of play.
2. An explicit Deny that matches refuses, whatever else says; but at a door that asks no policy (`Statement.by_post`).
3. A policy Allow or a grant that matches allows.
4. Otherwise the request is refused.

This is the other half of a pair: `exposure` answers for all requests at once by set algebra, and shares only the
parser with this module. Tests hold the two against each other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Literal

import msgspec

from rusty_lantern.core.access.evaluator.condition_tests import fits_early, glob_fits, holds, with_values
from rusty_lantern.core.access.evaluator.grants import by_bucket_acl, by_object_acl, by_right
from rusty_lantern.core.access.evaluator.request import Caller, Decision, Request, Step
from rusty_lantern.core.access.policy.acl_permissions import AT_GATEWAY, PUBLISHED
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.document import Principals, Statement
from rusty_lantern.core.access.policy.language_words import OPERATORS
from rusty_lantern.core.access.policy.names import partition_free
from rusty_lantern.core.access.policy.principals import also_known_as, in_one_partition
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.filer import FILER
from rusty_lantern.core.access.rules.guards import Guard

Match = Literal["yes", "no", "maybe"]


NOTHING_ALLOWS = "nothing allows it"


def decide(rules: Rules, request: Request, *, public: Match = "no") -> Decision:
    """Decide one request. `public`: whether the policy counts as public and the caller is no insider."""
    request = msgspec.structs.replace(request, context={**rules.fixed_values, **request.context})
    decision = _by_rules(rules, request, public)
    return decision if decision.allowed else _by_post(rules, request) or decision


def _by_rules(rules: Rules, request: Request, public: Match) -> Decision:
    """The decision where the policy is asked, as it nearly always is."""
    shut = _shut(rules.restrict_policies, public)
    steps: list[Step] = []
    denies = [s for s in rules.policy.statements if s.effect != "Allow"]
    allows = [s for s in rules.policy.statements if s.effect != "Deny"]
    doubted = rules.doubted
    uncertain = "policy" in doubted
    for statement in denies:
        match, why = matches(statement, rules.bucket, request)
        says: Match = "maybe" if match == "yes" and not statement.effect else match
        _note(steps, statement, says, why, "denies")
        if says == "yes":
            return Decision(False, statement.title, tuple(steps))
        uncertain = uncertain or says == "maybe"
    allowed_by: str = ""
    possible = (uncertain and "policy" in doubted) or "doors" in doubted
    for statement in allows:
        match, why = matches(statement, rules.bucket, request)
        if statement.by_post and match == "yes":
            continue
        says = "maybe" if match == "yes" and not statement.effect else match
        shut_here = "no" if statement.door or statement.by_service else shut
        if says != "no" and shut_here == "yes":
            steps.append(Step(statement.title, "ignored", rules.restrict_policies.source))
            continue
        if says == "yes" and shut_here == "maybe":
            says, why = "maybe", PUBLIC_DOUBT if rules.restrict_policies.on else rules.restrict_policies.source
        _note(steps, statement, says, why, "allows")
        allowed_by = allowed_by or (statement.title if says == "yes" else "")
        possible = possible or says == "maybe"
    for look in (by_bucket_acl, by_object_acl, by_right):
        allowing, maybe = look(rules, request, steps)
        allowed_by = allowed_by or allowing
        possible = possible or maybe
    if allowed_by and not uncertain:
        return Decision(True, allowed_by, tuple(steps))
    if allowed_by or possible:
        unread = (Step(_UNREAD.get(name, name), "not read", why) for name, why in doubted.items())
        return Decision(None, UNCERTAIN, (*steps, *unread))
    return Decision(False, NOTHING_ALLOWS, tuple(steps))


_UNREAD = {"policy": "the policy", "acl": "the ACL", "rights": "the rights", "doors": "other doors"}
"""An input that was not read → what it is called; others by their own names."""
UNCERTAIN = "something that was not understood or not read"


def _by_post(rules: Rules, request: Request) -> Decision | None:
    """The decision on what a door allows that asks no policy: only what holds at every door refuses it. None where
    no door allows it so."""
    statements = rules.policy.statements
    allowing = next((s for s in statements if s.by_post and matches(s, rules.bucket, request)[0] == "yes"), None)
    if allowing is None:
        perhaps = any(s.door == FILER and matches(s, rules.bucket, request)[0] == "maybe" for s in statements)
        return Decision(None, UNCERTAIN) if perhaps else None
    everywhere = [s for s in statements if s.at_every_door and matches(s, rules.bucket, request)[0] != "no"]
    refusing = {matches(s, rules.bucket, request)[0] if s.effect else "maybe" for s in everywhere}
    if "yes" in refusing:
        return None
    return Decision(
        None if refusing else True,
        UNCERTAIN if refusing else allowing.title,
        (Step(allowing.title, "allows", "no policy is asked there"),),
    )


def unlike(rules: Rules, actions: Iterable[str]) -> list[str]:
    """One action of each kind, in this order: no rule distinguishes those of a kind."""
    by_kind: dict[object, str] = {}
    for action in actions:
        fits = [_names_action(s.actions, s.actions_negated, action) for s in rules.policy.statements]
        granted = [
            action in given for tables in (PUBLISHED, AT_GATEWAY) for table in tables for given in table.values()
        ]
        by_kind.setdefault((ACTIONS[action].target, ACTIONS[action].verb, *fits, *granted), action)
    return list(by_kind.values())


PUBLIC_DOUBT = "whether the policy counts as public is not certain"


def _shut(guard: Guard, public: Match) -> Match:
    """Whether the guard on public policies keeps the policy from counting."""
    if public == "no" or (guard.sure and not guard.on):
        return "no"
    return public if guard.on else "maybe"


def _note(steps: list[Step], statement: Statement, match: Match, why: str, verb: Literal["allows", "denies"]) -> None:
    if match == "yes":
        steps.append(Step(statement.title, verb))
    else:
        steps.append(Step(statement.title, "does not match" if match == "no" else "not understood", why))


def matches(statement: Statement, bucket: str, request: Request) -> tuple[Match, str]:
    """Whether a statement applies to this request; and the first part that does not, or is not understood."""
    says, why = _matches_alone(statement, bucket, request)
    if statement.within is None or says == "no":
        return says, why
    cap, reason = matches(statement.within, bucket, request)
    if cap == "yes":
        return says, why
    return cap, f"{statement.within.title}: {reason}"


def _matches_alone(statement: Statement, bucket: str, request: Request) -> tuple[Match, str]:
    doubt = str(statement.faults[0]) if statement.faults else ""
    for part, test in _PARTS:
        try:
            fits = test(statement, bucket, request)
        except NotUnderstood as error:
            doubt = doubt or str(error)
            continue
        if not fits:
            return "no", part
    for condition in statement.conditions:
        try:
            if not holds(condition, request, variables=statement.variables):
                return "no", f"{OPERATORS[condition.operator]} {condition.key}"
        except NotUnderstood as error:
            doubt = doubt or str(error)
    return ("maybe", doubt) if doubt else ("yes", "")


def _fits_principal(statement: Statement, bucket: str, request: Request) -> bool:
    principals = statement.principals
    if principals is None:
        raise NotUnderstood("its principal is not understood")
    if principals.negated:
        return not _spares(principals, request.caller)
    return _names_caller(principals, request.caller)


@lru_cache(maxsize=4_096)
def _listed(accounts: tuple[str, ...]) -> frozenset[str]:
    return frozenset(map(in_one_partition, accounts))


def _names_caller(principals: Principals, caller: Caller) -> bool:
    if principals.everyone:
        return True
    if caller.anonymous:
        return False
    root = f"arn:aws:iam::{caller.account}:root" if caller.account else ""
    others = {name for name in caller.aliases if name.startswith("arn:")}
    mine = {caller.account, root, caller.arn, caller.session, *others} - {""}
    names = also_known_as(caller.canonical).union(caller.aliases)
    if mine & _listed(principals.accounts) or not names.isdisjoint(principals.canonical):
        return True
    if principals.vague:
        raise NotUnderstood(f'a wildcard inside a principal ("{principals.vague[0][:60]}") has no agreed meaning')
    return False


def _spares(principals: Principals, caller: Caller) -> bool:
    """Whether NotPrincipal leaves the caller out."""
    if principals.everyone or caller.anonymous:
        return principals.everyone
    listed = _listed(principals.accounts)
    root = f"arn:aws:iam::{caller.account}:root"
    account = bool({caller.account, root} & listed - {""})
    whole = caller.arn in ("", root)
    if (caller.canonical and caller.canonical in principals.canonical) or (whole and account):
        return True
    if principals.vague:
        raise NotUnderstood(f'a wildcard inside a principal ("{principals.vague[0][:60]}") has no agreed meaning')
    return not whole and _spares_one(listed, caller, account=account)


def _spares_one(listed: frozenset[str], caller: Caller, *, account: bool) -> bool:
    """Whether a user is left out: by its own name and its account's together; a session by its role's as well."""
    if ":role/" in caller.arn and not caller.session:
        sessions = caller.arn.replace(":iam:", ":sts:").replace(":role/", ":assumed-role/") + "/"
        if any(name.startswith(sessions) for name in listed):
            raise NotUnderstood("whether NotPrincipal names this session is not known")
        return False
    if (caller.session or caller.arn) not in listed:
        return False
    if not account or caller.arn not in listed:
        raise NotUnderstood("NotPrincipal names it without its account, or its session without the role")
    return True


def _fits_action(statement: Statement, bucket: str, request: Request) -> bool:
    return _names_action(statement.actions, statement.actions_negated, request.action)


@lru_cache(maxsize=16_384)
def _names_action(patterns: tuple[str, ...], negated: bool, action: str) -> bool:
    if not patterns:
        return True
    return any(glob_fits(pattern.lower(), action.lower()) for pattern in patterns) != negated


def _fits_resource(statement: Statement, bucket: str, request: Request) -> bool:
    if not statement.resources:
        return True
    name = f"arn:aws:s3:::{bucket}"
    if ACTIONS[request.action].target == "object":
        name += "/" + request.key
    named, fits = False, fits_early if statement.stars_end_early else glob_fits
    for pattern in statement.resources:
        expanded = with_values(pattern, request, wild=True) if statement.variables else pattern
        if expanded is None and statement.resources_negated:
            raise NotUnderstood("NotResource with a variable that this caller does not have")
        named = named or (expanded is not None and fits(partition_free(expanded), name))
    return named != statement.resources_negated


_PARTS: tuple[tuple[str, Callable[[Statement, str, Request], bool]], ...] = (
    ("who", _fits_principal),
    ("action", _fits_action),
    ("resource", _fits_resource),
)
