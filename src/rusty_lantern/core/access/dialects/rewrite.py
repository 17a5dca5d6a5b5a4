"""A policy as a store's software reads it, written in the common language.

Alternatives of a condition (`condition_readings`) become statements of their own, since statements are taken together.
What cannot be worked out is a fault of the statement, and leaves it in doubt.
"""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Callable, Iterator, Set
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.dialects.action_readings import (
    LISTINGS,
    actions_as_read,
    for_unsigned_callers,
    sent_with_any,
    told_apart,
)
from rusty_lantern.core.access.dialects.condition_readings import Alternatives, alternatives, signed
from rusty_lantern.core.access.dialects.gateway_deletions import bypass_as_read
from rusty_lantern.core.access.dialects.pattern_principals import by_pattern, of_unsigned_callers
from rusty_lantern.core.access.dialects.pattern_readings import NO_PLACE, buckets_end_in_slash, with_early_stars
from rusty_lantern.core.access.dialects.variable_readings import variables_as_read
from rusty_lantern.core.access.dialects.written_values import Unclear
from rusty_lantern.core.access.policy.condition_keys import ARN, EXISTING_TAG, STORED_TAG
from rusty_lantern.core.access.policy.document import Condition, Fault, Policy, Principals, Statement
from rusty_lantern.core.access.policy.principals import in_one_partition
from rusty_lantern.core.model.dialect import Readings

MOST = 64
"""Statements that one statement may become."""
Made = tuple[Statement, ...] | None
"""What a statement becomes; None where it stays as it is."""


def rewritten(policy: Policy, readings: Readings) -> Policy:
    """The policy as it is read there; the same object where that makes no difference to it."""
    own = _of_own(readings) if policy.attached else readings
    statements = [one for statement in policy.statements for one in _statement(statement, own)]
    if policy.attached and readings.own_buckets_end_in_slash:
        statements = [part for one in statements for part in buckets_end_in_slash(one, own)]
    if readings.bypass_goes_with_deletion:
        statements = list(bypass_as_read(statements))
    if len(statements) == len(policy.statements) and all(map(_same, statements, policy.statements)):
        return policy
    return Policy(tuple(statements), policy.unreadable, policy.attached)


@lru_cache(maxsize=64)
def _of_own(readings: Readings) -> Readings:
    """How a user's own permissions are read."""
    covered = readings.covered_by + readings.own_covered_by
    return msgspec.structs.replace(readings, policies_are_for_unsigned_callers=False, covered_by=covered)


def _same(new: Statement, old: Statement) -> bool:
    return new is old or new == old


def _statement(statement: Statement, readings: Readings) -> tuple[Statement, ...]:
    """What a statement becomes by its variables, and then by the rest."""
    parts = variables_as_read(with_early_stars(statement, readings), readings)
    return tuple(
        msgspec.structs.replace(one, conditions=(*one.conditions, *only)) if only else one
        for part, only in parts
        for whole in _filled_in(part, readings)
        for one in sent_with_any(whole, readings)
    )


def _filled_in(statement: Statement, readings: Readings) -> tuple[Statement, ...]:
    """What a statement becomes. Resources, in which buckets that are alike differ, are read each by itself."""
    rewritten = _without_resources(msgspec.structs.replace(statement, resources=()), readings)
    resources = tuple(_resource(name, readings) for name in statement.resources)
    if rewritten is None and resources == statement.resources:
        return (statement,)
    made = (statement,) if rewritten is None else rewritten
    return tuple(msgspec.structs.replace(one, resources=resources) for one in made)


_NAMED = re.compile(r"(arn:[^:]*:s3:[^:]*):([^:]*):(.+)", re.DOTALL)


def _resource(name: str, readings: Readings) -> str:
    """A resource as the common language writes it.

    >>> _resource("arn:aws:s3::marsh:notes/*", Readings(resources_are_of_the_buckets_account=True))
    'arn:aws:s3:::notes/*'
    """
    named = _NAMED.fullmatch(name)
    if named and readings.resources_are_of_the_buckets_account:
        name = f"{named[1]}::{named[3]}"
    if readings.partitions_tell_names_apart and re.match(r"arn:aws-[^:*?]*:s3:::", name):
        return name.replace(":s3:", f":s3:{NO_PLACE}", 1)
    return name


@lru_cache(maxsize=4096)
def _without_resources(statement: Statement, readings: Readings) -> Made:
    """What a statement becomes; None where it stays as it is."""
    if statement.actions_negated and readings.not_action_matches_nothing:
        return ()
    if not any(condition.key in dict(readings.usual_and_most) for condition in statement.conditions):
        return _by_tag(statement, readings)
    of_others = msgspec.structs.replace(readings, usual_and_most=())  # only a listing says how much it asks for
    return _apart(
        statement, LISTINGS, readings, lambda one: _by_tag(one, readings), lambda one: _by_tag(one, of_others)
    )


def _by_tag(statement: Statement, readings: Readings) -> Made:
    """What a statement becomes, with the actions whose requests carry an object's tags there beside the published."""
    of_tags = any(condition.key.startswith(EXISTING_TAG) for condition in statement.conditions)
    if not of_tags or not readings.tags_decide_more:
        return _as_read(statement, readings)

    def of_more(one: Statement) -> Made:
        conditions = (
            msgspec.structs.replace(condition, key=condition.key.replace(EXISTING_TAG, STORED_TAG, 1))
            for condition in one.conditions
        )
        carried = msgspec.structs.replace(one, conditions=tuple(conditions))
        made = _as_read(carried, readings)
        return (carried,) if made is None else made

    more = frozenset(readings.tags_decide_more)
    return _apart(statement, more, readings, of_more, lambda one: _as_read(one, readings))


def _apart(
    statement: Statement,
    some: Set[str],
    readings: Readings,
    of_some: Callable[[Statement], Made],
    of_others: Callable[[Statement], Made],
) -> Made:
    """What a statement becomes where some actions are read in one way, and all others in another."""
    with_some, with_others = told_apart(statement, some, readings)
    if with_some is None or with_others is None:
        return of_some(statement) if with_others is None else of_others(statement)
    both = ((with_some, of_some(with_some)), (with_others, of_others(with_others)))
    return tuple(one for part, made in both for one in ((part,) if made is None else made))


def _as_read(statement: Statement, readings: Readings) -> Made:
    """What a statement becomes by its actions, its conditions and its principals; None where it stays as it is."""
    written, statement = statement, actions_as_read(statement, readings)
    actions = statement.actions
    if not actions and written.actions:  # none of them is one there
        return ()
    if readings.leading_star_is_every_action and any(name.startswith("*") for name in actions):
        actions = ("*",)
    parts: list[Alternatives] = []
    faults: list[Fault] = list(statement.faults)
    for condition in statement.conditions:
        try:
            parts.append(alternatives(condition, readings, statement.effect, variables=statement.variables))
        except Unclear as error:
            faults.append(Fault(condition.place, str(error)))
    named = statement.principals
    whom = _whom(statement, readings)
    if named is not None and readings.policies_are_for_unsigned_callers:
        whom = of_unsigned_callers(named, f"{statement.place}/Principal")
    elif named is not None and readings.principals_are_patterns and not named.negated:
        whom = by_pattern(named, f"{statement.place}/Principal")
    if math.prod(map(len, parts)) * len(whom) > MOST:
        parts = []
        faults.append(Fault(statement.place, "this store reads it as too many statements"))
    rewritten = (
        msgspec.structs.replace(
            statement, principals=who, actions=actions, faults=tuple(faults),
            conditions=(*itertools.chain.from_iterable(together), *only),
        )
        for who, only in whom
        for together in itertools.product(*parts)
    )  # fmt: skip
    made = tuple(one for whole in rewritten for one in for_unsigned_callers(whole, readings))
    return None if made == (written,) else made


Whom = list[tuple[Principals | None, tuple[Condition, ...]]]
"""Principals, each with the conditions that narrow them; none: it applies to nobody."""


def _as_named(who: Principals, readings: Readings) -> Principals:
    """Principals by the names that count, each as the common language writes it."""
    if readings.federated_names_are_users:
        kinds = tuple("AWS" if kind == "Federated" else kind for _, kind in who.vague_by_kind)
        who = msgspec.structs.replace(who, accounts=who.accounts + who.federated, federated=(), vague_kinds=kinds)
    if readings.services_name_nobody:
        who = msgspec.structs.replace(who, services=())
    if readings.principals_go_by_account_and_name:
        who = msgspec.structs.replace(who, accounts=tuple(_NAME.sub(r"arn:aws:iam::\1", one) for one in who.accounts))
    if readings.logins_go_by_their_user:
        who = _with_logins(who)
    if readings.wildcards_in_names_name_nobody:
        who = msgspec.structs.replace(who, vague=(), vague_kinds=())
    if readings.canonical_ids_name_nobody:
        who = msgspec.structs.replace(who, canonical=())
    return who


def _whom(statement: Statement, readings: Readings) -> Whom:
    if statement.principals is None:
        return [(None, ())]
    who = _as_named(statement.principals, readings)
    if who.everyone:
        return [(who, ())]
    place = f"{statement.place}/{'Not' * who.negated}Principal"
    nobody = f"arn:aws:iam:::user/{readings.name_of_nobody}" if readings.name_of_nobody else ""
    rootless = readings.root_of_no_account_is_everybody and not _ROOTLESS.isdisjoint(who.accounts)
    unsigned = rootless or nobody in who.accounts
    names = tuple(name for name in who.accounts if name != nobody and not (rootless and name in _ROOTLESS))
    of_none = (OF_NO_ACCOUNT,) if rootless else ()
    if who.negated:
        if not readings.not_principal_goes_by_name:
            return [(who, ())]
        if not any(map(_MAY_NAME.fullmatch, _of_users(statement.principals, readings))):
            return []
        patterns = (*of_none, *map(_callers, names))
        left_out: tuple[Condition, ...] = (Condition("arnnotlike", ARN, patterns, place),) if patterns else ()
        users = (name for name in patterns if readings.logins_go_by_their_user and _USER.fullmatch(name))
        if logins := tuple(f"{name}:*" for name in users):
            left_out += (Condition("stringnotlike", ARN, logins, place),)
        only_signed = (signed(place, negated=True),) if unsigned else ()
        return [(Principals(everyone=True), (*left_out, *only_signed))]
    whom: Whom = [(Principals(everyone=True), (signed(place, negated=False),))] if unsigned else []
    if rootless:
        whom.append((Principals(everyone=True), (Condition("arnlike", ARN, of_none, place),)))
    rest = msgspec.structs.replace(who, accounts=names)
    return whom if whom and rest == Principals() else [*whom, (rest, ())]


def _with_logins(who: Principals) -> Principals:
    """Principals in which a user with all its logins is named by the user's name."""
    users = (name for name, kind in who.vague_by_kind if kind == "AWS")
    logins = {name: match[1] for name in users if (match := _EVERY_LOGIN.fullmatch(name))}
    if not logins:
        return who
    left = [(name, kind) for name, kind in who.vague_by_kind if kind != "AWS" or name not in logins]
    vague, kinds = tuple(name for name, _ in left), tuple(kind for _, kind in left)
    return msgspec.structs.replace(who, accounts=(*who.accounts, *logins.values()), vague=vague, vague_kinds=kinds)


def _of_users(written: Principals, readings: Readings) -> Iterator[str]:
    """The names that may be users', whether they are understood or not."""
    kinds = {"AWS", *(["Federated"] if readings.federated_names_are_users else [])}
    yield from written.accounts
    yield from written.federated if "Federated" in kinds else ()
    yield from (name for name, kind in written.vague_by_kind if kind in kinds)


_MAY_NAME = re.compile(r"[^:/]*|arn:(?:[^:*?]*:){4}(?:root|(?:user|role|assumed-role|oidc-provider)/.+)", re.DOTALL)
"""What may be somebody's name: an account, or the resource name of a user, a role, or an account's root."""
_USER = re.compile(r"arn:aws:iam::[^:]*:user/[^:*?]+")
_EVERY_LOGIN = re.compile(rf"({_USER.pattern}):\*")


def _callers(name: str) -> str:
    """A pattern of the resource names of those whom a principal names: a user, or everybody in an account.

    >>> _callers("arn:aws:iam::marsh:root"), _callers("marsh"), _callers("arn:aws:iam:::user/deck")
    ('arn:aws:iam::marsh:*', 'arn:aws:iam::marsh:*', 'arn:aws:iam:::user/deck')
    """
    name = in_one_partition(name)
    account = re.fullmatch(r"arn:aws:iam::([^:]+):root|([^:]+)", name)
    return f"arn:aws:iam::{account[1] or account[2]}:*" if account else name


_NAME = re.compile(r"^arn:[^:]*:[^:]*:[^:]*:([^:]*:(?:root|(?:user|role)/.+))$")
"""The account of a principal, and what it is there."""
ROOT_OF_NO_ACCOUNT = "arn:aws:iam:::root"
_ROOTLESS = frozenset({ROOT_OF_NO_ACCOUNT, ""})
OF_NO_ACCOUNT = "arn:aws:iam:::*"
"""What fits the resource name of whoever is of no account: of no tenant, in a store that has some."""
