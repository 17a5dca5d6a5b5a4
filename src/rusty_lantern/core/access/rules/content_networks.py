"""Content delivery networks that a policy lets in. They hand on what they are allowed, and to whom is no setting of the
bucket: they are a door that nobody read.

A network asks as a service of the provider, or as an identity that the provider made for it. Source: the published
pages on access of a content delivery network, and of website hosting, to a private bucket.
"""

from __future__ import annotations

import re

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, dialect_of
from rusty_lantern.core.access.policy.condition_keys import IS_SERVICE, SERVICE_NAME
from rusty_lantern.core.access.policy.document import Policy
from rusty_lantern.core.access.policy.principals import Known, Principal, read_principal
from rusty_lantern.core.access.rules.rule_inputs import StoreInputs

_FROM_THE_INTERNET: Known = (("aws:sourcevpc", ()), ("aws:sourcevpce", ()))
"""A network comes through nobody's private endpoint."""
_SERVICE = re.compile(r"(amplify|cloudfront)\.amazonaws\.com(\.cn)?")
_IDENTITY = re.compile(r"arn:aws[^:]*:iam::cloudfront:user/.+")


def content_networks(policy: Policy, store: StoreInputs) -> tuple[Principal, ...]:
    """The networks that a policy's Allows name, and those of the access points that these hand over to."""
    if dialect_of(store).dialect != COMMON.dialect:
        return ()
    named: dict[Principal, None] = {}
    allows = [statement for statement in policy.statements if statement.effect != "Deny"]
    for statement in (*allows, *(allow.within for allow in allows if allow.within)):
        who = statement.principals
        if who is None or who.negated:
            continue
        named |= dict.fromkeys(_service(name) for name in who.services if _SERVICE.fullmatch(name))
        named |= dict.fromkeys(_identity(name) for name in who.accounts if _IDENTITY.fullmatch(name))
    return tuple(named)


def _service(name: str) -> Principal:
    return Principal(name, "service", ((IS_SERVICE, ("true",)), (SERVICE_NAME, (name,)), *_FROM_THE_INTERNET))


def _identity(name: str) -> Principal:
    return msgspec.structs.replace(read_principal(name), known=_FROM_THE_INTERNET)
