"""By whose tokens a role is assumed: a sign-in service outside, and the subjects that a trust policy binds it to.

Some services give a token to whoever signs up: a role that trusts one of them and binds it to no subject is anybody's.
A subject is bound where it is written out, or to the customer's own part of it (`repo:TRUST/maps:*`); a pattern that
leaves that part open (`repo:*`, `repo:trust*`) binds nothing, and nor does the audience, which everybody may name.
Sources: the pages of the policy language on roles for web identities, and each service's page on its tokens' claims.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Literal

from rusty_lantern.core.access.policy.document import Condition, Statement

OPEN_TO_ALL = frozenset({
    "accounts.google.com", "agent.buildkite.com", "app.terraform.io", "cognito-identity.amazonaws.com",
    "gitlab.com", "graph.facebook.com", "token.actions.githubusercontent.com", "www.amazon.com",
})  # fmt: skip
"""Services that give a token to whoever signs up with them."""
POOLS = "cognito-identity.amazonaws.com"
"""The service that gives tokens to guests too, for pools of identities that each account makes for itself."""
_OF_THE_TEAM = re.compile(r"arn:[^:]*:iam::[^:]*:saml-provider/.+|oidc\.eks\.[a-z0-9-]+\.amazonaws\.com(\.cn)?/id/.+")
"""Services that somebody of the account set up for its own: a directory's, a cluster's."""
_PROVIDER = re.compile(r"arn:[^:]*:iam::[^:]*:oidc-provider/(.+)")
_OF_ONE_CUSTOMER = {"sub": 2, "repository": 1, "repository_id": 0, "repository_owner": 0, "repository_owner_id": 0}
"""Claims that say for which customer of a service a token is → how many of their parts a pattern has to write out;
0: no pattern will do."""
_OF_NO_ONE = frozenset({"aud", "azp", "oaud"})
"""Claims that whoever has a token may have named."""
_EQUALS = ("stringequals", "stringequalsignorecase")
Bound = Literal["bound", "open", "not worked out", "not known"]
"""`open`: anybody gets such a token; `not known`: so they may, at a service that this tool does not know."""


def issuer_of(service: str) -> str:
    """A sign-in service as its tokens name it: without the account that trusts it.

    >>> issuer_of("arn:aws:iam::400100200300:oidc-provider/id.example/trust")
    'id.example/trust'
    """
    match = _PROVIDER.fullmatch(service)
    return match[1] if match else service


def bound_to(statement: Statement, service: str) -> Bound:
    """Whether a statement of a trust policy binds a sign-in service that it names to subjects of somebody's own."""
    issuer = issuer_of(service)
    if _OF_THE_TEAM.fullmatch(issuer):
        return "bound"
    each = [_of_condition(condition, issuer) for condition in statement.conditions]
    if "bound" in each or (issuer == POOLS and _of_known_people(statement.conditions)):
        return "bound"
    if issuer.lower() not in OPEN_TO_ALL:
        return "not known"
    return "not worked out" if "not worked out" in each else "open"


def _of_condition(condition: Condition, issuer: str) -> Bound:
    claim = condition.key.lower().removeprefix(f"{issuer.lower()}:")
    if claim in _OF_NO_ONE or (issuer == POOLS and claim == "amr"):
        return "open"
    sure = not condition.if_exists and condition.quantifier != "forallvalues" and condition.values
    if claim not in _OF_ONE_CUSTOMER or not sure:
        return "not worked out"
    if condition.operator in _EQUALS:
        return "bound"
    if condition.operator != "stringlike":
        return "not worked out"
    parts = _OF_ONE_CUSTOMER[claim]
    return "bound" if all(_is_of_one(pattern, parts) for pattern in condition.values) else "open"


def _is_of_one(pattern: str, parts: int) -> bool:
    """Whether whatever fits a pattern is of one customer: it has no wildcard, or none in its first parts.

    >>> _is_of_one("repo:trust/maps:*", 2), _is_of_one("repo:trust*", 2), _is_of_one("repo:*", 2)
    (True, False, False)
    """
    written_out = re.match(r"([^:/*?]+[:/])*", pattern)
    first = written_out[0] if written_out else ""
    return not re.search("[*?]", pattern) or (parts > 0 and len(re.findall("[:/]", first)) >= parts)


def _of_known_people(conditions: Iterable[Condition]) -> bool:
    """Whether a pool of the account's own is named, and guests are left out."""
    fixed = {
        condition.key.lower().removeprefix(f"{POOLS}:"): condition.values
        for condition in conditions
        if condition.operator in (*_EQUALS, "stringlike") and not condition.if_exists
        if condition.quantifier != "forallvalues" and not any(re.search("[*?]", value) for value in condition.values)
    }
    kinds = fixed.get("amr", ())
    return bool(fixed.get("aud") and kinds) and "unauthenticated" not in kinds
