"""What a bucket's policy allows to requests that come through an access point: what that point's own policy allows too.

An access point is a further address of a bucket, with a policy and public-access guards of its own. A policy that looks
at the point a request came through, by `s3:DataAccessPointArn` and its kin, may hand the bucket's access over to its
points. Then each of its Allows counts for a request that comes through none, and through each point as far as an Allow
of the point goes. Points that were not read may allow anything. A policy that does not look at them is left as it is:
whatever a point lets in, the bucket lets in directly. Source: the S3 family's documentation of access points.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.policy.condition_keys import (
    ACCOUNT,
    POINT_ACCOUNT,
    POINT_ARN,
    POINT_KEYS,
    POINT_ORIGIN,
    POINT_TAG,
)
from rusty_lantern.core.access.policy.container_acl import EVERYBODY
from rusty_lantern.core.access.policy.document import Condition, Fault, Policy, Statement, parse_policy
from rusty_lantern.core.access.policy.names import partition_free
from rusty_lantern.core.access.policy.public_policy import counts_as_public
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.rules.guards import Guard, guards_of, strongest
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs, account_number
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.access_point import AccessPoint

MOST = 40
"""Access points of one bucket that are looked at one by one."""


class ThroughPoints(NamedTuple):
    """A policy with what it allows through access points, and why these may name more identities; empty where all that
    they say was read."""

    policy: Policy
    doubt: str = ""


def through_access_points(policy: Policy, bucket: BucketInputs, store: StoreInputs) -> ThroughPoints:
    """What a policy allows, through each access point of the bucket too."""
    if policy.unreadable or not any(map(_point_keys, policy.statements)):
        return ThroughPoints(policy)
    statements: list[Statement] = []
    unread: list[Statement] = []
    has_points = may_have_points(store)
    points = bucket.access_points.value or []
    looked_at = [(one, tuple(_allows(one, bucket, store))) for one in points[:MOST] if has_points]
    for statement in policy.statements:
        if statement.effect != "Allow":
            statements += [statement, *_perhaps_by_tag(statement)]
            continue
        statements.append(_through_none(statement))
        for point, allows in looked_at:
            statements += [_through(statement, allow, point) for allow in allows]
            unread += [allow for allow in allows if allow.place == _title(point)]
        perhaps = _through_unread(statement, bucket.access_points, account_number(store)) if has_points else ()
        unread += perhaps
    statements += (one for one in unread if one.place.endswith(_THROUGH_ANY))
    statements += [deny for point, _ in looked_at for deny in _denies(point, bucket.name)]
    doubt = str(unread[0].faults[-1]) if unread else ""
    return ThroughPoints(msgspec.structs.replace(policy, statements=tuple(statements)), doubt)


def may_have_points(store: StoreInputs) -> bool:
    """Whether a store's software may have access points: none that was measured has any."""
    return dialect_of(store).dialect == COMMON.dialect


def may_pass_through_points(bucket: BucketInputs, store: StoreInputs) -> str:
    """Why a permission on access points may count in a bucket; empty where it has none. What such a permission of an
    identity's own allows without one of the bucket's is not published."""
    points = bucket.access_points
    if not may_have_points(store) or points.state == "absent":
        return ""
    if points.value is None:
        return f"it names access points, and which the bucket has was not read ({_why(points)})"
    return "it names access points, and what it allows through them was not worked out"


OWN_POLICIES = "access points have policies of their own"


def _why(points: Answer[list[AccessPoint]]) -> str:
    """Why a bucket's access points were not read."""
    return points.reason if points.unread else "estate.yaml names no account door of the store (doors: account:)"


def _point_keys(statement: Statement) -> list[str]:
    """The condition keys of a statement that look at the access point."""
    return [one.key for one in statement.conditions if one.key.startswith(POINT_KEYS)]


def _condition(operator: str, key: str, *values: str) -> Condition:
    return Condition(operator, key, values, "")


KEPT_FOR_OWN = "kept for the account's own"
"""The place of the condition that stands for a guard on public policies."""
_SIGNED_OR_NOT = Condition("null", ACCOUNT, ("false",), KEPT_FOR_OWN)
"""True of every request: only marks what a guard may keep for the account's own."""
_THROUGH_ANY = ", through an access point"
_THROUGH_ONE = _condition("null", POINT_ARN, "false")
_TAGS_UNREAD = Fault("", "the tags of access points were not read")


def _with(statement: Statement, *conditions: Condition, faults: tuple[Fault, ...] = ()) -> Statement:
    return msgspec.structs.replace(
        statement, conditions=(*statement.conditions, *conditions), faults=(*statement.faults, *faults)
    )


def _through_none(statement: Statement) -> Statement:
    """What a statement says of requests that come through no access point."""
    keys = dict.fromkeys((POINT_ARN, POINT_ACCOUNT, POINT_ORIGIN, *_point_keys(statement)))
    return _with(statement, *(_condition("null", key, "true") for key in keys))


def _perhaps_by_tag(deny: Statement) -> Iterator[Statement]:
    """What a Deny by an access point's tag may refuse of requests through one."""
    others = tuple(one for one in deny.conditions if not one.key.startswith(POINT_TAG))
    if len(others) < len(deny.conditions):
        yield _with(msgspec.structs.replace(deny, conditions=others), _THROUGH_ONE, faults=(_TAGS_UNREAD,))


def _allows(point: AccessPoint, bucket: BucketInputs, store: StoreInputs) -> Iterator[Statement]:
    """What an access point allows, as statements on its bucket that apply to requests through the point alone."""
    pins = tuple(_pins(point))
    if not point.account:
        why = Fault("", f'"{point.arn[:60]}", the resource name of the access point {point.name}, has no account')
        yield _anything(point, why, (_THROUGH_ONE,))
        return
    if point.policy.unread:
        why = Fault("", f"the policy of the access point {point.name} could not be read ({point.policy.reason})")
        yield _anything(point, why, pins)
        return
    policy = parse_policy(point.policy.value) if point.policy.value is not None else Policy()
    if policy.unreadable:
        why = Fault("", f"the policy of the access point {point.name} is not understood: {policy.unreadable}")
        yield _anything(point, why, pins)
        return
    kept_for_own, doubt = _shut(policy, point, bucket, store)
    for statement in policy.statements:
        on_bucket = None if statement.effect == "Deny" else _on_bucket(statement, point, bucket.name)
        if on_bucket is not None:
            yield _with(on_bucket, *pins, *kept_for_own, faults=doubt)


def _anything(point: AccessPoint, why: Fault, pins: tuple[Condition, ...]) -> Statement:
    return Statement(
        _title(point), "Allow", principals=EVERYBODY, actions=("*",), resources=("*",), conditions=pins, faults=(why,)
    )


def _denies(point: AccessPoint, bucket: str) -> Iterator[Statement]:
    """What an access point refuses, of requests through it."""
    pins = tuple(_pins(point))
    policy = parse_policy(point.policy.value) if point.policy.value is not None else Policy()
    for statement in policy.statements:
        on_bucket = None if statement.effect == "Allow" else _on_bucket(statement, point, bucket)
        if on_bucket is not None:
            yield _with(on_bucket, *pins)


def _title(point: AccessPoint) -> str:
    return f"access point {point.name}"


def _pins(point: AccessPoint) -> Iterator[Condition]:
    """What requests through an access point carry, and what a request through it needs."""
    origin = {"internet": "Internet", "vpc": "VPC"}.get(point.origin)
    yield _condition("stringequals", POINT_ARN, point.arn)
    yield _condition("stringequals", POINT_ACCOUNT, point.account)
    yield _condition("stringequals", POINT_ORIGIN, *((origin,) if origin else ("Internet", "VPC")))
    if point.origin == "vpc" and point.vpc:
        yield _condition("stringequals", "aws:sourcevpc", point.vpc)
    elif point.origin == "vpc":
        yield _condition("null", "aws:sourcevpc", "false")


def _on_bucket(statement: Statement, point: AccessPoint, bucket: str) -> Statement | None:
    """An access point's statement with the bucket's own resource names; None where none of them is the point's."""
    faults = list(statement.faults)
    if not point.origin:
        faults.append(Fault("", f"from which networks the access point {point.name} is reached is not known"))
    names: list[str] = []
    for resource in statement.resources:
        try:
            known = list(_names_on_bucket(partition_free(resource), partition_free(point.arn), bucket))
        except NotUnderstood as error:
            known = ["*"]
            faults.append(Fault(statement.place, str(error)))
        names += known
    if statement.resources and not names:
        if not statement.resources_negated:
            return None
        names = ["arn:aws:s3:::"]  # no bucket's: it leaves out nothing of this one
    place = f"{_title(point)}, {statement.title}"
    return msgspec.structs.replace(statement, place=place, sid="", resources=tuple(names), faults=tuple(faults))


def _names_on_bucket(resource: str, arn: str, bucket: str) -> Iterator[str]:
    """The bucket's names for what a resource of an access point's policy means. Raises `NotUnderstood`.

    >>> list(_names_on_bucket("arn:aws:s3:n:1:accesspoint/p/object/a*", "arn:aws:s3:n:1:accesspoint/p", "maps"))
    ['arn:aws:s3:::maps/a*']
    """
    of_bucket = f"arn:aws:s3:::{bucket}"
    behind = resource.removeprefix(arn) if resource.startswith(arn) else None
    if resource == "*":
        yield "*"
    elif behind == "":
        yield of_bucket
    elif behind is not None and behind.startswith("/object/"):
        yield f"{of_bucket}/{behind.removeprefix('/object/')}"
    elif behind in ("/*", "/object*"):
        yield f"{of_bucket}/*"
    elif behind == "*":
        yield from (of_bucket, f"{of_bucket}/*")
    elif not _apart(resource, arn):
        raise NotUnderstood(f'what "{resource[:80]}" means in the policy of an access point was not worked out')


def _apart(resource: str, arn: str) -> bool:
    """Whether a resource is certainly none of an access point: it differs from the point's name before any pattern."""
    fixed = resource[: min((resource.find(sign) for sign in "*?$" if sign in resource), default=len(resource))]
    if fixed != resource:
        return not (arn.startswith(fixed) or fixed.startswith(arn))
    return not resource.startswith((arn + "/", arn + "*"))


def _shut(
    policy: Policy, point: AccessPoint, bucket: BucketInputs, store: StoreInputs
) -> tuple[tuple[Condition, ...], tuple[Fault, ...]]:
    """What the guards on public policies leave of what an access point allows: the account's own callers. The point's
    guards count, and those of the account and of the bucket."""
    guards = guards_of(bucket, store, "restrict_policies", "public policy restricted")
    guards.append(_own_guard(point))
    guard = strongest(guards)
    public = counts_as_public(policy, lambda _: False)
    if not public.most or (guard.sure and not guard.on):
        return (), ()
    number = account_number(store)
    if guard.on and public.least and number:
        return (Condition("stringequals", ACCOUNT, (number,), KEPT_FOR_OWN),), ()
    words = guard.source or "public policy restricted"
    return (_SIGNED_OR_NOT,), (
        Fault("", f"whether a guard keeps {_title(point)} from counting is not certain: {words}"),
    )


def _own_guard(point: AccessPoint) -> Guard:
    guards = point.public_access_guards
    if guards.value is not None:
        return Guard(guards.value.restrict_policies, source=f"public policy restricted by {_title(point)}")
    if guards.unread:
        return Guard(False, sure=False, source=f"the guards of {_title(point)} could not be read ({guards.reason})")
    return Guard(False)


def for_own(statement: Statement) -> Statement | None:
    """A statement as it counts for the account's own identities, which a guard keeps it for; None for any other."""
    cap = for_own(statement.within) if statement.within else None
    kept = tuple(one for one in statement.conditions if one.place != KEPT_FOR_OWN)
    if cap is None and len(kept) == len(statement.conditions):
        return None
    return msgspec.structs.replace(statement, conditions=kept, within=cap or statement.within)


def _through(statement: Statement, allow: Statement, point: AccessPoint) -> Statement:
    """What both a statement of the bucket and one of its access point allow. The one that names somebody caps the
    other: whom an Allow lets in is read from its own principals."""
    if not allow.effect:
        unsure = Fault("", "its effect is not understood")
        allow = msgspec.structs.replace(allow, effect="Allow", faults=(*allow.faults, unsure))
    title = f"{statement.title}, through the access point {point.name}"
    others = tuple(one for one in statement.conditions if not one.key.startswith(POINT_TAG))
    if len(others) < len(statement.conditions):
        faults = (*statement.faults, _TAGS_UNREAD)
        statement = msgspec.structs.replace(statement, conditions=others, faults=faults)
    who = allow.principals
    if who is not None and not who.everyone:
        return msgspec.structs.replace(allow, place=title, sid="", within=statement)
    return msgspec.structs.replace(statement, place=title, sid="", within=allow)


def _through_unread(statement: Statement, points: Answer[list[AccessPoint]], own: str) -> Iterator[Statement]:
    """What a statement may allow through access points that were not looked at: all, or those of other accounts."""
    place = f"{statement.title}{_THROUGH_ANY}"
    unnamed = msgspec.structs.replace(statement, place=place, sid="")
    if points.value is None and points.state != "absent":
        yield _with(unnamed, _THROUGH_ONE, faults=(Fault("", f"{OWN_POLICIES}, which were not read ({_why(points)})"),))
        return
    known = points.value or []
    if len(known) > MOST:
        yield _with(unnamed, _THROUGH_ONE, faults=(Fault("", f"the bucket has {len(known)} access points"),))
        return
    if _confined(statement, own):
        return
    others = Fault("", f"{OWN_POLICIES}, which those of other accounts show to their account alone")
    elsewhere = (
        _condition("stringnotequals", POINT_ACCOUNT, own), _condition("stringnotlike", POINT_ARN, f"arn:*:{own}:*"),
    )  # fmt: skip
    yield _with(unnamed, _THROUGH_ONE, *(elsewhere if own else ()), faults=(others,))


def _confined(statement: Statement, own: str) -> bool:
    """Whether a condition lets in no access points but those of the bucket's own account."""
    return bool(own) and any(_confines(condition, own) for condition in statement.conditions)


def _confines(condition: Condition, own: str) -> bool:
    sure = not condition.if_exists and condition.quantifier != "forallvalues" and "not" not in condition.operator
    if condition.operator in ("null", "bool") or not sure:
        return False
    if condition.key == POINT_ACCOUNT:
        return set(condition.values) == {own}
    return condition.key == POINT_ARN and all(value.split(":")[4:5] == [own] for value in condition.values)
