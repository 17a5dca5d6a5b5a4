"""What a policy allows to services of the provider that act for whoever asks them: any account may send one.

An Allow that names a service, and neither the account nor the thing that it is to act for, lets in what that service
does for anybody's account. It is `restricted`: only through the service. Source: the published page on the confused
deputy problem, and the keys `aws:SourceArn`, `aws:SourceAccount` and `aws:SourceOrgID`.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.policy.condition_keys import IS_SERVICE, SERVICE_NAME
from rusty_lantern.core.access.policy.container_acl import EVERYBODY
from rusty_lantern.core.access.policy.document import Condition, Policy, Statement
from rusty_lantern.core.access.rules.rule_inputs import StoreInputs, account_number

SOURCE_ACCOUNT, SOURCE_ARN = "aws:sourceaccount", "aws:sourcearn"
_SOURCES = frozenset({SOURCE_ACCOUNT, SOURCE_ARN, "aws:sourceowner", "aws:sourceorgid", "aws:sourceorgpaths"})
"""Keys that say for whom a service acts."""
_FIXED_BY = frozenset({"stringequals", "stringequalsignorecase", "stringlike", "arnequals", "arnlike"})
_FOR_ITS_OWN_ALONE = frozenset({"logging.s3.amazonaws.com"})
"""Services that act for a bucket's own account alone. Source: the page on access logging: both buckets are in one
account."""


def with_unbound_services(policy: Policy, store: StoreInputs) -> Policy:
    """The policy with what its Allows let in by way of a service, for whichever account that acts."""
    if dialect_of(store).dialect != COMMON.dialect:
        return policy
    unbound = [one for statement in policy.statements for one in _through(statement, account_number(store))]
    return msgspec.structs.replace(policy, statements=(*policy.statements, *unbound)) if unbound else policy


def _through(statement: Statement, own: str) -> Iterator[Statement]:
    for service in unbound_services(statement):
        conditions = [
            Condition("stringequals", SERVICE_NAME, (service,), ""), Condition("bool", IS_SERVICE, ("true",), ""),
        ]  # fmt: skip
        if own:
            conditions.append(Condition("stringnotequals", SOURCE_ACCOUNT, (own,), ""))
            conditions.append(Condition("stringnotlike", SOURCE_ARN, (f"arn:*:*:*:{own}:*",), ""))
        yield msgspec.structs.replace(
            statement, place=f"{statement.title}, through the service {service}", sid="", principals=EVERYBODY,
            by_service=True,
            conditions=(*statement.conditions, *conditions),
        )  # fmt: skip


def unbound_services(statement: Statement) -> tuple[str, ...]:
    """The services that an Allow names without saying for whom they are to act."""
    who = statement.principals
    if (
        statement.effect == "Deny"
        or who is None
        or who.negated
        or who.everyone
        or any(map(_binds, statement.conditions))
    ):
        return ()
    return tuple(service for service in who.services if service not in _FOR_ITS_OWN_ALONE)


def _binds(condition: Condition) -> bool:
    """Whether a condition says for whom a service acts: an account, an organisation, or a thing of theirs."""
    sure = condition.operator in _FIXED_BY and not condition.if_exists and condition.quantifier != "forallvalues"
    return condition.key in _SOURCES and sure and all(_fixed(condition.key, value) for value in condition.values)


def _fixed(key: str, value: str) -> bool:
    if key == SOURCE_ARN:
        parts = value.split(":", 5)
        whose = (parts[4] or parts[5].partition("/")[0]) if len(parts) == 6 else value
        return bool(whose) and not set("*?$") & set(whose)
    if key == "aws:sourceorgpaths":
        value = value.partition("/")[0]
    return not set("*?$") & set(value)
