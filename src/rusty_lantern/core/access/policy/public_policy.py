"""Whether a policy counts as public: the test that the guard on public policies applies, as it is published.

A policy is public unless each of its Allows lets in fixed ones only: named principals, or fixed values of one of the
keys of `FIXING`. A value with a wildcard or a variable in it is not fixed; nor is a network broader than a /8 of IPv4
or a /32 of IPv6, each network by itself (private ones aside). Source: the page on blocking public access, "the meaning
of public". That is not our `open`: two networks of a /8 each let in more than any one organisation holds, and are not
public; objects with a tag are public.

Nothing is published about how a Deny bears on it. Where a Deny could matter, the policy counts as public only if what
those Allows let in is open all the same, their other conditions aside; else that is not certain.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable

import msgspec

from rusty_lantern.core.access.policy.document import Condition, Policy, Statement
from rusty_lantern.core.access.policy.values import NotUnderstood

FIXING = frozenset(
    {
        "aws:sourceip", "aws:sourcearn", "aws:sourcevpc", "aws:sourcevpce", "aws:sourceowner", "aws:sourceaccount",
        "aws:userid", "aws:principalarn", "aws:principalaccount", "aws:principalorgid", "aws:principalorgpaths",
        "aws:principalservicename", "aws:principalservicenameslist", "s3:dataaccesspointarn",
        "s3:dataaccesspointaccount",
    }
)  # fmt: skip
"""Keys that fix whom a statement lets in, where their values are fixed."""
_FIXED_BY = frozenset(
    {"stringequals", "stringequalsignorecase", "stringlike", "arnequals", "arnlike", "ipaddress"}
)  # fmt: skip
BROADEST_V4, BROADEST_V6 = 8, 32


class PublicStatus(msgspec.Struct, frozen=True):
    """Whether the policy counts as public: certainly, and possibly. Decides what a guard on it shuts."""

    least: bool = False
    most: bool = False


def counts_as_public(policy: Policy, opens: Callable[[Policy], bool]) -> PublicStatus:
    """The published test. `opens`: whether a policy lets outsiders in, from everywhere."""
    if policy.unreadable:
        return PublicStatus(least=False, most=True)
    allows = [s for s in policy.statements if s.effect == "Allow"]
    doubtful = [s for s in policy.statements if not s.effect or (s.faults and s.effect == "Allow")]
    public = [s for s in allows if not s.faults and _lets_in_anybody(s) == "yes"]
    if not public:
        maybe = any(_lets_in_anybody(s) != "no" for s in (*doubtful, *allows))
        return PublicStatus(least=False, most=maybe)
    denies = tuple(s for s in policy.statements if s.effect != "Allow")
    if not denies:
        return PublicStatus(least=True, most=True)
    bare = tuple(msgspec.structs.replace(s, conditions=()) for s in public)
    return PublicStatus(least=opens(Policy(bare + denies)), most=True)


def _lets_in_anybody(statement: Statement) -> str:
    """Whether an Allow lets in others than fixed ones: yes, no, or maybe."""
    who = statement.principals
    if who is not None and not who.everyone and not who.negated:
        return "maybe" if who.vague else "no"
    fixed = {_fixes(condition, variables=statement.variables) for condition in statement.conditions}
    if "yes" in fixed:
        return "no"
    return "maybe" if who is None or "maybe" in fixed else "yes"


def _fixes(condition: Condition, *, variables: bool) -> str:
    """Whether a condition lets in fixed ones only."""
    if condition.key not in FIXING or condition.operator not in _FIXED_BY:
        return "no"
    try:
        fixed = all(_fixed(condition, value, variables=variables) for value in condition.values)
    except (ValueError, NotUnderstood):
        return "maybe"
    sure = not condition.if_exists and condition.quantifier != "forallvalues"
    return "no" if not fixed else ("yes" if sure else "maybe")


def _fixed(condition: Condition, value: str, *, variables: bool) -> bool:
    if variables and "${" in value:
        return False
    if condition.operator == "ipaddress":
        network = ipaddress.ip_network(value.strip(), strict=False)
        return network.is_private or network.prefixlen >= (BROADEST_V4 if network.version == 4 else BROADEST_V6)
    if condition.operator in ("stringequals", "stringequalsignorecase"):
        return True
    if condition.key == "s3:dataaccesspointarn":  # the access point's own name may have a wildcard
        value = value.partition("/")[0]
    if condition.key == "aws:userid" and value.partition(":")[2] == "*":
        value = value.partition(":")[0]
    return "*" not in value and "?" not in value
