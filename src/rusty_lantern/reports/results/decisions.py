"""Results of `lantern why`: what was decided of single requests, rule by rule."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import NOTHING_ALLOWS, decide
from rusty_lantern.core.access.evaluator.grants import perhaps_granted
from rusty_lantern.core.access.evaluator.request import Caller, Request, Step
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec, Sender, action_of, request_of
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, OUTSIDER_ACCOUNT
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.policy.public_policy import PublicStatus
from rusty_lantern.core.access.rules.identity_policies import combined_rules, identity_policies_of, principal_of
from rusty_lantern.core.access.rules.named_identities import as_named
from rusty_lantern.core.access.solver.audience_view import BUDGET, public_policy, way_in
from rusty_lantern.core.access.solver.exposure import as_match, likeliest_caller
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.witness import Witness, witness_of
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.named_access import unread_side
from rusty_lantern.core.audit.other_requests import OtherRequests, VerbsOfCallers, by_another_action
from rusty_lantern.core.errors import BadInput, Problem, nearest
from rusty_lantern.core.model.assumed_roles import NO_ROLES, AssumedRoles
from rusty_lantern.core.model.identity import Identity


class StepResult(msgspec.Struct, frozen=True, kw_only=True):
    """What one rule said to the request."""

    rule: str
    says: str
    why: str


class RoleDecision(msgspec.Struct, frozen=True, kw_only=True):
    """The same request by a role that the caller may assume. `allowed` is null where it is unknown."""

    role: str
    allowed: bool | None
    by: str
    unsure: str
    """Why it is not certain that the caller may assume it; empty where it is."""


class DecisionResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern why --json`: one line for each request. `allowed` is null where it is unknown."""

    store: str
    bucket: str
    request: Witness
    allowed: bool | None
    by: str
    steps: list[StepResult]
    note: str
    other_requests: OtherRequests | None = None
    """Where it is not allowed and a verb was asked about: what other requests of the caller can do. Null where
    none is allowed, or where too little is known of the caller."""
    by_roles: list[RoleDecision] = []
    """Where it is not allowed: the roles that the caller may assume, by which it is, or may be."""


def name_of(written: str, stores: Collection[str]) -> tuple[str, str]:
    """An identity's store and name, where it is written as listings print it (`STORE/NAME`); no store: of any.

    >>> name_of("harbour/tide-reader", ["harbour"]), name_of("arn:aws:iam::1:user/deck", ["harbour"])
    (('harbour', 'tide-reader'), ('', 'arn:aws:iam::1:user/deck'))
    """
    store, slash, name = written.partition("/")
    return (store, name) if slash and store in stores else ("", written)


OWN_SIDE = "a caller in the owner's account may also be allowed by its own permissions, which were not read"
BOTH_SIDES = "the caller's own permissions are among the rules"
OTHER_SIDE = "a caller from another account also needs its own account's permission, which was not read"


def decision_results(
    view: BucketSubject, specs: Sequence[RequestSpec], moment_of: Callable[[RequestSpec], datetime]
) -> list[DecisionResult]:
    """Decide requests about a bucket. Raises `BadInput` for one that cannot be put."""
    guard = public_policy(view.rules, view.surroundings, Budget(BUDGET))
    callers, store = VerbsOfCallers(view), [view.dossier.store]
    named = [msgspec.structs.replace(one, caller=name_of(one.caller, store)[1]) for one in specs]
    return [_decided(view, one, moment_of(one), guard, callers) for one in named]


def _decided(
    view: BucketSubject, asking: RequestSpec, moment: datetime, guard: PublicStatus, callers: VerbsOfCallers
) -> DecisionResult:
    identity = _identity_called(view, asking.caller)
    request = request_of(asking, moment, _sender(view, asking, identity))
    account = view.surroundings.account
    inside = bool(account) and request.caller.account == account
    public = PublicStatus() if inside or identity else guard
    rules = view.rules
    if identity is not None:
        own = identity_policies_of(view.index, identity)
        rules = combined_rules(rules, own, account or principal_of(identity).account)
    elif asking.caller not in AUDIENCES:
        rules = as_named(rules, rules.principal(asking.caller), account)
    decision = decide(rules, request, public=as_match(public))
    other: OtherRequests | None = None
    if decision.allowed is not True and not asking.action:
        other = callers[asking.caller, asking.verb]
        if other is None or other.level != "closed" or asking.caller not in AUDIENCES:
            actions = callers.actions(identity, asking.verb, rules)
            request, decision = by_another_action(asking, request, decision, rules, public, actions)
        other = None if decision.allowed or (other is not None and other.level == "closed") else other
    if identity is None and decision.by == NOTHING_ALLOWS:
        doubt = _perhaps_allowed(view, asking, request)
        decision = msgspec.structs.replace(decision, allowed=None, by=doubt) if doubt else decision
    witness = witness_of(request, view.bucket.name, way_in(rules, decision.by))
    if asking.caller not in AUDIENCES:
        witness = msgspec.structs.replace(witness, caller=asking.caller)
    if identity is not None:
        note = BOTH_SIDES
    elif inside:
        note = OWN_SIDE if decision.allowed is False and decision.by == NOTHING_ALLOWS else ""
    else:  # where ids are names, whom a bucket lets in needs nothing else
        needs_more = asking.caller not in AUDIENCES and not witness.door and not rules.ids_are_names
        note = OTHER_SIDE if needs_more and decision.allowed else ""
    return DecisionResult(
        store=view.dossier.store,
        bucket=view.bucket.name,
        request=witness,
        allowed=decision.allowed,
        by=decision.by,
        steps=steps_of(decision.steps),
        note=note,
        other_requests=other,
        by_roles=list(_by_roles(view, asking, moment, guard, callers)) if identity and not decision.allowed else [],
    )


def _by_roles(
    view: BucketSubject, asking: RequestSpec, moment: datetime, guard: PublicStatus, callers: VerbsOfCallers
) -> Iterator[RoleDecision]:
    """What becomes of the request if the caller first assumes a role, for each that it may."""
    identity = view.identity_named(asking.caller)
    roles, unread = AssumedRoles(view.index).of(identity) if identity is not None else NO_ROLES
    for role, doubt in roles:
        as_role = _decided(view, msgspec.structs.replace(asking, caller=role.name), moment, guard, callers)
        if as_role.allowed is not False:
            yield RoleDecision(role=role.name, allowed=as_role.allowed, by=as_role.by, unsure=doubt)
    if unread:
        yield RoleDecision(role="any role", allowed=None, by=unread, unsure=unread)


def steps_of(steps: Iterable[Step]) -> list[StepResult]:
    """What each rule says, once. Some software reads a statement as several, most of which are about other requests:
    what they say counts where none of them says more.

    >>> parts = [Step("statement 2", "does not match", "action"), Step("statement 2", "allows")]
    >>> [(step.rule, step.says) for step in steps_of([*parts, Step("statement 1", "does not match", "who")])]
    [('statement 2', 'allows'), ('statement 1', 'does not match')]
    """
    by_rule: dict[str, list[Step]] = {}
    for step in steps:
        by_rule.setdefault(step.rule, []).append(step)
    shown = []
    for rule, parts in by_rule.items():
        matching = [part for part in parts if part.says != "does not match"]
        telling = matching or [part for part in parts if part.why != "action"] or parts
        for says in dict.fromkeys(part.says for part in telling):
            why = "; ".join(dict.fromkeys(part.why for part in telling if part.says == says and part.why))
            shown.append(StepResult(rule=rule, says=says, why=why))
    return shown


def _perhaps_allowed(view: BucketSubject, asking: RequestSpec, request: Request) -> str:
    """Why a request that no rule allows may be allowed all the same; empty where nothing may allow it."""
    own = {view.account, view.dossier.account.value or "", view.bucket.owner.value or ""}
    perhaps = perhaps_granted(view.rules, request, own)
    if perhaps:
        return f"{perhaps}, which may be the caller's account"
    return unread_side(view, asking.caller) if asking.caller not in AUDIENCES else ""


def _identity_called(view: BucketSubject, name: str) -> Identity | None:
    """The store's own identity of this name; None for anybody else. Raises `BadInput` for a name that nobody has."""
    identity = view.identity_named(name)
    if identity is not None or name in AUDIENCES or read_principal(name).kind != "canonical":
        return identity
    if any(principal.is_called(name) for principal in view.named) or not view.index.dossier.identities.settled:
        return None
    remedy = (
        nearest(name, view.index.identities_by_name) or "a stranger is asked for by account number or resource name"
    )
    raise BadInput(Problem(f'nobody called "{name}" is known to {view.dossier.store}', remedy=remedy))


def _sender(view: BucketSubject, asking: RequestSpec, identity: Identity | None) -> Sender | None:
    """Who sends the request, where it is somebody known: an identity of the store's own, or the likeliest account."""
    if asking.caller == "any-account":
        verb = ACTIONS[action_of(asking)].verb
        return Sender(likeliest_caller(view.rules, view.surroundings, verb))
    if asking.caller in AUDIENCES:
        return None
    if identity is None:
        called = view.rules.principal(asking.caller)
        return Sender(Caller(called.account, called.arn, called.label)) if called.label != called.name else None
    principal, account = principal_of(identity), view.surroundings.account
    known = {key: values for key, values in principal.known if not key.endswith("/")}
    if principal.kind == "canonical":
        return Sender(Caller(account or OUTSIDER_ACCOUNT, "", identity.name, aliases=principal.aliases), known)
    if principal.label != principal.name:
        return Sender(Caller(principal.account, principal.arn, principal.label, aliases=principal.aliases), known)
    return Sender(Caller(principal.account or account, principal.arn), known)


def encode_lines(results: list[DecisionResult]) -> str:
    """Decisions as JSON Lines."""
    return "\n".join(msgspec.json.encode(result).decode() for result in results)
