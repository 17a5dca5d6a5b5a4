"""Both sides of a decision: what a bucket's rules grant an identity, and what its own permissions grant it.

In the bucket's own account an Allow on either side is enough, and a Deny on either side refuses; so an identity's own
statements are simply added to the bucket's. A *boundary* caps what its own policies can grant: each own Allow counts
only within an Allow of the boundary, and its Denies refuse like any other. It does not cap what a bucket's rules grant
a person by name, but what they grant a role, as the S3 family's documentation of boundaries has it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from typing import Literal, NamedTuple

import msgspec

from rusty_lantern.core.access.dialects.gateway_deletions import BYPASS, bulk_deletion_refused, names_bypass
from rusty_lantern.core.access.dialects.policy_as_read import in_its_tenant
from rusty_lantern.core.access.policy.condition_keys import ACCOUNT, ARN, SORT, USER, always_carried
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE, SIGNED, UNSIGNED
from rusty_lantern.core.access.policy.document import Fault, Policy, Principals, Statement, parse_policy
from rusty_lantern.core.access.policy.principals import Known, Principal, read_principal, user_named
from rusty_lantern.core.access.rules.access_points import for_own
from rusty_lantern.core.access.rules.bucket_rules import (
    OF_UNREAD_ACCOUNT,
    EvaluationContext,
    Rules,
    as_the_store_reads,
)
from rusty_lantern.core.access.rules.login_levels import of_level
from rusty_lantern.core.access.rules.refusals import refused_whatever_rules_say
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.identity import AttachedPolicy, Group, Identity
from rusty_lantern.core.model.store_index import StoreIndex


def principal_of(identity: Identity) -> Principal:
    """The identity as rules name it, with what its requests are known to carry."""
    named = read_principal(identity.resource) if identity.resource else Principal(identity.name, "canonical")
    aliases = tuple(identity.aliases)
    if named.kind == "identity" and not aliases and not named.account.isdigit():
        aliases = user_named(named.name).aliases  # of a user in no account of a number the id follows from it
    return msgspec.structs.replace(named, known=_known(identity, named), aliases=aliases)


def _known(identity: Identity, named: Principal) -> Known:
    """What is known of an identity's requests: its name, where it is a user; its account, its sort, its own tags."""
    carried = always_carried(anonymous=False, arn=named.arn)
    values: dict[str, tuple[str, ...]] = {USER: carried.get(USER, ())}
    if not named.arn:
        values[USER] = (identity.name,)
    if SORT in carried:
        values |= {SORT: carried[SORT], ACCOUNT: (named.account,), ARN: (named.arn,)}
    if identity.tags.settled:
        own = identity.tags.value or {}
        values |= {"aws:principaltag/": ()} | {
            f"aws:principaltag/{tag.lower()}": (value,) for tag, value in own.items()
        }
    return tuple(values.items())


class IdentityPolicies(msgspec.Struct, frozen=True):
    """An identity's own policies, and those of its groups: their statements, and why they may not be all."""

    statements: tuple[Statement, ...] = ()
    doubt: str = ""
    cap: tuple[Statement, ...] | None = None
    """The boundary that caps what buckets grant it as well; None where none does."""
    account: str | None = None
    """The account it is in; None where what it may do does not depend on that."""
    acl_level: str = ""
    """What it has of what ACLs give its user; empty: all of it."""
    may_bypass: bool = False
    """Whether one of its own names the permission to bypass governance."""
    above_policies: bool = False
    """Whether no bucket's policy refuses it anything."""


class StoreSoftware(NamedTuple):
    """What is known of the software that answers for a store."""

    software: Answer[Software] = Answer("unsupported")
    dialect: Dialect | None = None


def policies_of(
    identity: Identity,
    groups: Mapping[str, Group],
    member_of: Iterable[str],
    groups_unread: str = "",
    answers: StoreSoftware = StoreSoftware(),  # noqa: B008  (frozen)
) -> IdentityPolicies:
    """An identity's own permissions and those of its groups, as the store's software reads them; where something was
    not read, the reason.

    `groups_unread`: why the store's groups could not be read; empty where they were.
    """
    sources: list[Answer[list[AttachedPolicy]]] = [identity.policies]
    sources += [groups[name].policies for name in member_of if name in groups]
    lost = next((source for source in sources if source.unread), None)
    missing = next((name for name in member_of if name not in groups), None)
    doubt = f"its own permissions were not read ({lost.reason})" if lost else ""
    if groups_unread and not doubt:
        doubt = f"the store's groups were not read ({groups_unread})"
    if missing and not doubt:
        doubt = f"the permissions of its group {missing} were not read"
    if identity.kind == "root":
        return IdentityPolicies(EVERYTHING)
    documents = tuple(document for source in sources for document in source.value or ())
    unread = identity.boundary.reason if identity.boundary.unread else ""
    if identity.boundary.value is None and not unread:
        own = tuple(statement for document in documents for statement in _read(document, answers))
        account, bypasses = principal_of(identity).account, any(_names_bypass(one.text) for one in documents)
        return IdentityPolicies(own, doubt, None, account, identity.acl_level, bypasses)
    written = identity.boundary.value or ""
    boundary = _boundary(written, unread, answers)
    allowed = tuple(statement for document in documents for statement in _within(document, written, unread, answers))
    refused = tuple(statement for statement in boundary if statement.effect == "Deny")
    cap = boundary if identity.kind == "role" else None
    return IdentityPolicies(allowed + refused, doubt, cap, principal_of(identity).account, identity.acl_level)


def identity_policies_of(index: StoreIndex, identity: Identity) -> IdentityPolicies:
    """An identity's own permissions and its groups'. Groups that were not read may have anybody in them."""
    listed = index.dossier.groups
    unread = listed.reason if listed.unread else ""
    answers = StoreSoftware(index.dossier.software, index.dossier.dialect)
    policies = policies_of(identity, index.groups, index.memberships.get(identity.name, []), unread, answers)
    if identity.kind == "root" and index.dossier.acl_reading == "gateway":  # tried on a gateway 16.2
        policies = msgspec.structs.replace(policies, above_policies=True)
    refused = refused_whatever_rules_say(identity, index.dossier)
    return msgspec.structs.replace(policies, statements=policies.statements + refused) if refused else policies


EVERYTHING = (
    Statement("the account's root", "Allow", principals=Principals(everyone=True), actions=("*",), resources=("*",)),
)
"""What the root of an account needs no permission for."""


def _read(document: AttachedPolicy, answers: StoreSoftware) -> tuple[Statement, ...]:
    """The statements of one attached document, for whoever has it. One that cannot be read could say anything."""
    return _attached(document.text, f"own permission {document.name}", answers, document.doubt)


@lru_cache(maxsize=8192)
def _attached(text: str, where: str, answers: StoreSoftware, doubt: str = "") -> tuple[Statement, ...]:
    policy = parse_policy(text, attached=True)
    if policy.unreadable:
        return _anything(where, f"not understood: {policy.unreadable.what}")
    policy = as_the_store_reads(policy, answers)
    doubts = (Fault(where, doubt),) if doubt else ()
    statements = []
    for statement in policy.statements:
        statements.append(msgspec.structs.replace(statement, place=where, faults=(*statement.faults, *doubts)))
    return tuple(statements)


_EFFECTS: tuple[Literal["Allow", "Deny"], ...] = ("Allow", "Deny")


@lru_cache(maxsize=64)
def _anything(where: str, why: str) -> tuple[Statement, ...]:
    """What a document may say of which nothing is known: that it allows, or refuses, whatever there is."""
    fault, everyone = Fault(where, why), Principals(everyone=True)
    return tuple(
        Statement(where, effect, principals=everyone, actions=("*",), resources=("*",), faults=(fault,))
        for effect in _EFFECTS
    )


_BOUNDARY = "permission boundary"


@lru_cache(maxsize=1024)
def _boundary(text: str, unread: str, answers: StoreSoftware) -> tuple[Statement, ...]:
    """The statements of a permission boundary; of one that was not read, all that it may say."""
    return (
        _anything(_BOUNDARY, f"not read ({unread})") if unread else _with_effects(_attached(text, _BOUNDARY, answers))
    )


@lru_cache(maxsize=8192)
def _within(document: AttachedPolicy, text: str, unread: str, answers: StoreSoftware) -> tuple[Statement, ...]:
    """The statements of an attached document, as a boundary caps them."""
    return _cap(_read(document, answers), _boundary(text, unread, answers))


def _with_effects(statements: Iterable[Statement]) -> tuple[Statement, ...]:
    """The statements; one whose effect is not understood may be either, and counts as both."""
    settled: list[Statement] = []
    for statement in statements:
        if statement.effect:
            settled.append(statement)
            continue
        doubt = (*statement.faults, Fault(statement.place, "its effect is not understood"))
        settled += [msgspec.structs.replace(statement, effect=effect, faults=doubt) for effect in _EFFECTS]
    return tuple(settled)


def _cap(statements: Iterable[Statement], boundary: tuple[Statement, ...]) -> tuple[Statement, ...]:
    """What the statements refuse, and of what they allow what an Allow of the boundary allows as well."""
    caps = [statement for statement in boundary if statement.effect == "Allow"]
    capped: list[Statement] = []
    for statement in _with_effects(statements):
        refuses = statement.effect == "Deny"
        capped += [statement] if refuses else [msgspec.structs.replace(statement, within=cap) for cap in caps]
    return tuple(capped)


def depends_on_caller(statement: Statement) -> bool:
    """Whether what a statement says depends on who it is that asks: then it lets in those whom its conditions leave."""
    return any(condition.key in _ASKING or condition.key.startswith(_TAGS) for condition in statement.conditions)


_TAGS = "aws:principaltag/"
_ASKING = frozenset(
    {
        ARN, ACCOUNT, SORT, USER, "aws:userid", "aws:principalorgid", "aws:principalorgpaths",
        "aws:principalservicename", "aws:principalisawsservice",
    }
)  # fmt: skip


def without_public(rules: Rules) -> Rules:
    """The rules of a bucket but for what they allow to everybody: that is no permission of anybody's. What a guard
    keeps for the owner's own alone is theirs."""
    guard = rules.restrict_policies
    doubt = () if guard.sure else (Fault("", guard.source),)
    statements: list[Statement] = []
    for s in rules.policy.statements:
        own = for_own(s)
        if own is not None:
            statements.append(own)
            continue
        who = s.principals
        particular = msgspec.structs.replace(
            s, conditions=tuple(one for one in s.conditions if one not in (SIGNED, UNSIGNED))
        )
        named = depends_on_caller(particular) or OF_UNREAD_ACCOUNT in s.faults
        public = who is not None and who.everyone != who.negated and not named
        if s.effect == "Deny" or not public:
            statements.append(s)
        elif for_insiders(rules):
            statements.append(msgspec.structs.replace(s, faults=(*s.faults, *doubt)))
    return msgspec.structs.replace(
        rules,
        policy=Policy(tuple(statements), rules.policy.unreadable),
        acl=tuple(grant for grant in rules.acl if grant.to == "named"),
        object_acls=(),
        object_doubt="",
        rights=tuple(right for right in rules.rights if right.to in ("named", "group")),
    )


def for_insiders(rules: Rules) -> bool:
    """Whether a guard may keep what the policy allows to everybody for identities of the owner's own. On a gateway,
    where each user is an owner, whether it does is not known."""
    guard = rules.restrict_policies
    return not rules.ids_are_names and (guard.on or not guard.sure)


def own_account(rules: Rules, around: EvaluationContext, identity: Identity) -> str:
    """The account that a bucket is in, for one of its store's own: theirs, if it was not read, and no tenant."""
    return around.account or ("" if rules.ids_are_names else principal_of(identity).account)


def combined_rules(rules: Rules, policies: IdentityPolicies, account: str) -> Rules:
    """The rules of a bucket together with an identity's own policies, for deciding about that identity only.

    A bucket's Allow for the `account` it is in lets that account's own permissions decide, and grants nothing itself.
    """
    own = {account, f"arn:aws:iam::{account}:root"}
    acl = tuple(grant for grant in rules.acl if rules.ids_are_names or grant.identity not in own)
    written = rules.policy.statements
    if policies.above_policies:
        written = tuple(s for s in written if s.effect == "Allow" or s.door)
    statements = tuple(_without_delegation(s, own) for s in written)
    if policies.cap is not None:
        statements = _cap(statements, policies.cap)
    if policies.may_bypass and rules.bypass_goes_with_deletion:
        statements = tuple(map(_perhaps_passed_over, statements))
    attached = _statements_on(rules, policies)
    attached = (*attached, *_through_points(attached, rules.through_points))
    if any(one.by_post == BULK_DELETE for one in statements):
        attached = (*attached, *bulk_deletion_refused(attached))
    policy = Policy(statements + attached, rules.policy.unreadable)
    doubts = rules.doubts + ((("policy", policies.doubt),) if policies.doubt else ())
    combined = msgspec.structs.replace(
        rules,
        policy=policy,
        acl=acl,
        doubts=doubts,
        of_one_identity=policies.account is not None and rules.ids_are_names,
    )
    return of_level(combined, policies.acl_level)


def _through_points(attached: Iterable[Statement], why: str) -> Iterator[Statement]:
    """What own permissions on access points may allow in a bucket. `why`: empty where none is its."""
    for statement in attached if why else ():
        if statement.effect == "Allow" and any(":accesspoint/" in resource for resource in statement.resources):
            faults = (*statement.faults, Fault(statement.place, why))
            yield msgspec.structs.replace(statement, resources=("*",), resources_negated=False, faults=faults)


@lru_cache(maxsize=8192)
def _names_bypass(text: str) -> bool:
    """Whether an Allow of an attached document names the permission to bypass governance."""
    policy = parse_policy(text, attached=True)
    return any(one.effect == "Allow" and names_bypass(one) for one in policy.statements)


def _perhaps_passed_over(statement: Statement) -> Statement:
    """A bucket's statement, as it counts for an identity whose own permissions name the bypass: at a gateway a Deny of
    the bypass alone is not asked then, as far as they apply (measured on release 16.2)."""
    if statement.effect == "Allow" or statement.actions != (BYPASS,):
        return statement
    why = "a permission of the identity's own to bypass may count before it"
    return msgspec.structs.replace(statement, faults=(*statement.faults, Fault(statement.place, why)))


def _statements_on(rules: Rules, policies: IdentityPolicies) -> tuple[Statement, ...]:
    """The own statements that apply to a bucket, as far as that depends on the tenant it is in."""
    tenant = rules.tenant
    if tenant is None or policies.account is None:
        return policies.statements
    if tenant.unread:
        doubt = Fault(
            "", f"whether it applies to this bucket depends on the tenant, which is not known ({tenant.reason})"
        )
        return tuple(msgspec.structs.replace(one, faults=(*one.faults, doubt)) for one in policies.statements)
    if policies.account != (tenant.value or ""):  # no name is of this bucket: all are left out of, and none meant
        left = (one for one in policies.statements if one.resources_negated)
        return tuple(msgspec.structs.replace(one, resources=("*",), resources_negated=False) for one in left)
    return in_its_tenant(Policy(policies.statements), rules.bucket).statements


def _without_delegation(statement: Statement, own: set[str]) -> Statement:
    who = statement.principals
    if statement.effect == "Deny" or who is None or who.negated or not own.intersection(who.accounts):
        return statement
    others = tuple(name for name in who.accounts if name not in own)
    return msgspec.structs.replace(statement, principals=msgspec.structs.replace(who, accounts=others))
