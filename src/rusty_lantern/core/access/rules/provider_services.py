"""What a policy allows to services of the provider that act for whoever asks them: any account may send one.

An Allow that names a service, and neither the account nor the thing that it is to act for, lets in what that service
does for anybody's account. It is `restricted`: only through the service. Source: the published page on the confused
deputy problem, and the keys `aws:SourceArn`, `aws:SourceAccount` and `aws:SourceOrgID`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

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
        whose = _account_of(value) or value.split(":", 5)[-1].partition("/")[0]
        return bool(whose) and not set("*?$") & set(whose)
    if key == "aws:sourceorgpaths":
        value = value.partition("/")[0]
    return not set("*?$") & set(value)


def served_accounts(statements: Iterable[Statement], service: str) -> frozenset[str] | None:
    """The accounts that the Allows to a service have it act for: none where it acts for the bucket's own alone. None
    where one of them does not say."""
    if service in _FOR_ITS_OWN_ALONE:
        return frozenset()
    accounts: set[str] = set()
    for statement in statements:
        who = statement.principals
        if statement.effect == "Deny" or who is None or service not in who.services:
            continue
        served = [account for condition in statement.conditions for account in _accounts_in(condition)]
        if not served:
            return None
        accounts.update(served)
    return frozenset(accounts)


def _accounts_in(condition: Condition) -> list[str]:
    """The accounts that a condition binds a service to; none where it binds it to none, or to more than accounts."""
    if condition.key not in (SOURCE_ACCOUNT, SOURCE_ARN, "aws:sourceowner") or not _binds(condition):
        return []
    named = [_account_of(value) if condition.key == SOURCE_ARN else value for value in condition.values]
    return named if all(named) else []


def _account_of(arn: str) -> str:
    parts = arn.split(":", 5)
    return parts[4] if len(parts) == 6 else ""
