"""Roles assumed by tokens of a sign-in service: anybody's, unless the trust policy binds them to a subject."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.policy.role_trust import assumable_by, callers_outside, unknown_services
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Identity
from tests.conftest import lantern
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import held_to

OWN = "400100200300"
CODE, POOL = "token.actions.githubusercontent.com", "cognito-identity.amazonaws.com"
AUDIENCE = {f"{CODE}:aud": "sts.amazonaws.com"}
MY_POOL = {f"{POOL}:aud": "north-1:0c0c"}


def provider(issuer: str) -> str:
    return f"arn:aws:iam::{OWN}:oidc-provider/{issuer}"


def trust(*services: str, **condition: Any) -> str:
    statement = {
        "Effect": "Allow", "Action": "sts:AssumeRoleWithWebIdentity", "Principal": {"Federated": list(services)},
        **({"Condition": condition} if condition else {}),
    }  # fmt: skip
    return json.dumps({"Version": "2012-10-17", "Statement": [statement]})


def bound(operator: str, claim: str, *values: str, issuer: str = CODE) -> str:
    condition: dict[str, dict[str, Any]] = {"StringLike": dict(AUDIENCE)}
    condition.setdefault(operator, {})[f"{issuer}:{claim}"] = list(values)
    return trust(provider(issuer), **condition)


def of_pool(*kinds: str, **condition: Any) -> str:
    return trust(POOL, **condition, **{"ForAnyValue:StringLike": {f"{POOL}:amr": list(kinds)}})


@pytest.mark.parametrize(
    ("policy", "who"),
    [
        (trust(provider(CODE)), "anybody"),
        (trust(provider(CODE), StringEquals=AUDIENCE), "anybody"),  # everybody may name the audience
        (bound("StringLike", "sub", "repo:*"), "anybody"),
        (bound("StringLike", "sub", "repo:trust*"), "anybody"),  # whoever calls themselves trust-too
        (bound("StringLike", "sub", "repo:*/maps:*"), "anybody"),
        (bound("StringLike", "sub", "*:environment:live"), "anybody"),
        (bound("StringLike", "sub", "repo:trust/*", "repo:partner*"), "anybody"),
        (bound("StringLike", "sub", "repo:trust/*"), "federated"),
        (bound("ForAnyValue:StringLike", "sub", "repo:trust/maps:*"), "federated"),
        (bound("StringEquals", "sub", "repo:trust/maps:ref:refs/heads/main"), "federated"),
        (bound("StringLike", "repository", "trust/*"), "federated"),
        (bound("StringLike", "repository_owner", "trust*"), "anybody"),
        (bound("StringEquals", "repository_owner", "trust"), "federated"),
        (bound("StringEquals", "ref", "refs/heads/main"), None),
        (bound("StringNotLike", "sub", "repo:stranger/*"), None),
        (bound("StringLikeIfExists", "sub", "repo:trust/*"), None),
        (bound("ForAllValues:StringLike", "sub", "repo:trust/*"), None),
        (trust(provider(CODE), IpAddress={"aws:SourceIp": "203.0.113.0/28"}), None),
        (trust("accounts.google.com", StringEquals={"accounts.google.com:aud": "app"}), "anybody"),
        (trust("accounts.google.com", StringEquals={"accounts.google.com:sub": "117"}), "federated"),
        (of_pool("authenticated", StringEquals=MY_POOL), "federated"),
        (of_pool("authenticated"), "anybody"),  # of whichever pool
        (of_pool("unauthenticated", StringEquals=MY_POOL), "anybody"),  # guests
        (of_pool("*", StringEquals=MY_POOL), "anybody"),
        (trust(POOL, StringEquals=MY_POOL), "anybody"),
        (trust(f"arn:aws:iam::{OWN}:saml-provider/directory"), "federated"),
        (trust(provider("oidc.eks.north-1.amazonaws.com/id/0C0C")), "federated"),
        (trust(f"arn:aws:iam::{OWN}:saml-provider/directory", provider(CODE)), "anybody"),
    ],
)
def test_tokens_that_anybody_gets_make_a_role_anybodys(policy: str, who: str | None) -> None:
    assert (assumable_by(policy, OWN).value, unknown_services(policy)) == (who, [])


@pytest.mark.parametrize(
    ("policy", "unknown"),
    [
        (trust(provider("id.example/trust")), ["id.example/trust"]),
        (bound("StringLike", "sub", "*", issuer="id.example"), ["id.example"]),
        (bound("StringEquals", "sub", "117", issuer="id.example"), []),
        (bound("StringLike", "sub", "team:maps:*", issuer="id.example"), []),
        (trust(provider("b.example"), provider("a.example")), ["a.example", "b.example"]),
    ],
)
def test_a_service_that_is_not_known_and_bound_to_no_subject_is_named(policy: str, unknown: list[str]) -> None:
    assert (assumable_by(policy, OWN).value, unknown_services(policy)) == ("federated", unknown)


PARTNER, STRANGER = "400100200399", "400100200388"
ORGANISATION = "o-saltmarsh01"


INSECURE = {"Bool": {"aws:SecureTransport": "false"}}


def for_accounts(who: Any, deny: Any = None, **condition: Any) -> str:
    """A trust policy for accounts. `deny`: the condition of a Deny to everybody."""
    allow = {"Effect": "Allow", "Action": "sts:AssumeRole", "Principal": {"AWS": who}, "Condition": condition}
    denies = {"Effect": "Deny", "Action": "sts:*", "Principal": "*", "Condition": deny}
    return json.dumps({"Version": "2012-10-17", "Statement": [allow, *([denies] if deny else [])]})


@pytest.mark.parametrize(
    ("policy", "who", "outside"),
    [
        (for_accounts(f"arn:aws:iam::{PARTNER}:role/reader"), "other-accounts", [PARTNER]),
        (for_accounts([PARTNER, f"arn:aws:iam::{OWN}:root"]), "other-accounts", [PARTNER]),
        (for_accounts([PARTNER, STRANGER]), "other-accounts", [STRANGER, PARTNER]),
        (for_accounts("AIDAEXAMPLE0GONE"), "other-accounts", ["AIDAEXAMPLE0GONE"]),
        (for_accounts("*"), "anybody", ["*"]),
        (for_accounts("*", StringEquals={"aws:PrincipalAccount": PARTNER}), "other-accounts", [PARTNER]),
        (for_accounts("*", StringEquals={"aws:PrincipalAccount": [PARTNER, OWN]}), "other-accounts", [PARTNER]),
        (for_accounts("*", StringEquals={"aws:PrincipalAccount": OWN}), "own-account", []),
        (for_accounts("*", StringEquals={"aws:PrincipalOrgID": ORGANISATION}), None, [ORGANISATION]),
        (
            for_accounts("*", ArnLike={"aws:PrincipalArn": f"arn:aws:iam::{PARTNER}:role/*"}),
            "other-accounts",
            [PARTNER],
        ),
        (for_accounts("*", ArnLike={"aws:PrincipalArn": "arn:aws:iam::*:role/reader"}), None, ["*"]),
        (for_accounts("*", StringLike={"aws:PrincipalAccount": "4001002003*"}), None, ["*"]),
        (for_accounts("*", StringEqualsIfExists={"aws:PrincipalAccount": PARTNER}), None, ["*"]),
        (for_accounts("*", StringNotEquals={"aws:PrincipalAccount": STRANGER}), None, ["*"]),
        (for_accounts("*", StringEquals={"sts:ExternalId": "tern"}), None, ["*"]),
        (for_accounts("*", {"StringNotEquals": {"aws:PrincipalAccount": PARTNER}}), "other-accounts", [PARTNER]),
        (for_accounts("*", {"StringEquals": {"aws:PrincipalAccount": PARTNER}}), "anybody", ["*"]),
        (for_accounts("*", {"StringNotEquals": {"aws:PrincipalAccount": PARTNER}, **INSECURE}), "anybody", ["*"]),
        (for_accounts(f"arn:aws:iam::{PARTNER}:user/*"), None, ["*"]),
    ],
)  # fmt: skip
def test_everybody_is_whom_the_conditions_bind_it_to(policy: str, who: str | None, outside: list[str]) -> None:
    assert (assumable_by(policy, OWN).value, callers_outside(policy, OWN)) == (who, outside)


@pytest.fixture(scope="module")
def mock() -> Iterator[str]:
    with empty_mock_server() as address:
        yield address


def test_roles_that_the_standard_client_made_are_held_to_whom_they_trust(mock: str, tmp_path: Path) -> None:
    """Drift where it is anybody's, unknown of a service that is not known, ok where it is bound."""
    iam = standard_client(mock, "mock-key", "mock-secret", service="iam")
    policies = {
        "builder": bound("StringLike", "sub", "repo:trust*"),
        "publisher": bound("StringLike", "sub", "repo:trust/*"),
        "reporter": trust(provider("id.example/trust")),
    }
    for name, policy in policies.items():
        iam.create_role(RoleName=name, AssumeRolePolicyDocument=policy)
    rows = held_to(tmp_path, mock, "{sheet: roles, require: {identity.assumable-by: at most federated}}")
    assert {about: row["observed"] for about, row in rows.items()} == {
        ("role builder", "drift"): "anybody", ("role reporter", "unknown"): "federated or anybody",
    }  # fmt: skip
    assert "id.example/trust gives a token to anybody is not known" in rows["role reporter", "unknown"]["reason"]


@pytest.mark.parametrize("state", ["denied", "hidden", "failed"])
def test_a_trust_policy_that_was_not_read_trusts_nobody(state: Any) -> None:
    """Whatever is left of it: a role of a trusted organisation is one that was read and understood."""
    trusted = frozenset({ORGANISATION})
    policy = for_accounts("*", StringEquals={"aws:PrincipalOrgID": ORGANISATION})
    role = Identity(name="r", assumable_by=assumable_by(policy, OWN), assumed_from=callers_outside(policy, OWN))
    assert role.assumable_by_trusted(trusted)
    lost: Answer[Any] = Answer(state, None, "AccessDenied")
    assert not msgspec.structs.replace(role, assumable_by=lost).assumable_by_trusted(trusted)


def test_a_role_of_trusted_partners_alone_is_not_from_outside(mock: str, tmp_path: Path) -> None:
    """Trusted are an account, an organisation, sign-in services; one caller besides is enough to be from outside."""
    iam = standard_client(mock, "mock-key", "mock-secret", service="iam")
    directory = f"arn:aws:iam::{OWN}:saml-provider/directory"
    policies = {
        "t-account": for_accounts(f"arn:aws:iam::{PARTNER}:root"),
        "t-organisation": for_accounts("*", StringEquals={"aws:PrincipalOrgID": ORGANISATION}),
        "t-directory": trust(directory),
        "t-service": trust(provider("id.example/trust")),  # who may get its tokens is not known, but it is trusted
        "t-two": for_accounts([PARTNER, STRANGER]),
        "t-anybodys": trust(provider(CODE)),
    }
    reading = {"Effect": "Allow", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::t-maps/*"}
    document = json.dumps({"Version": "2012-10-17", "Statement": [reading]})
    for name, policy in policies.items():
        iam.create_role(RoleName=name, AssumeRolePolicyDocument=policy)
        iam.put_role_policy(RoleName=name, PolicyName="read", PolicyDocument=document)
    standard_client(mock, "mock-key", "mock-secret").create_bucket(Bucket="t-maps")
    trusted = f"'{PARTNER}', {ORGANISATION}, '{directory}', id.example/trust, {CODE}"
    sheet = "{sheet: s, require: {identity.assumable-by: at most trusted, access.through-roles: nothing}}"
    rows = held_to(tmp_path, mock, sheet, trusted)
    told = {about: row["observed"] for about, row in rows.items() if about[0].startswith(("role t-", "t-"))}
    assert told == {
        ("role t-two", "drift"): "other-accounts", ("role t-anybodys", "drift"): "anybody", ("t-maps", "drift"): "read",
    }  # fmt: skip
    exposed = json.loads(lantern("exposure", "--json", "t-maps", cwd=tmp_path).out)["buckets"][0]
    sure = {one["role"] for one in exposed["through_roles"] if one["verbs"] == {"read": "open"}}
    assert sure == {"role t-anybodys", "role t-two"}
