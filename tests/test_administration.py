"""Permissions at an identity service with which an identity gives itself, or another, all others."""

from __future__ import annotations

import itertools
import json
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.policy.administration import POWERS, administration
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import held_to

OWN = "arn:aws:iam::123456789012:user/tide-clerk"
SELF = "arn:aws:iam::*:user/${aws:username}"
WITH_MFA = {"Bool": {"aws:MultiFactorAuthPresent": "true"}}
WITHOUT_MFA = {"BoolIfExists": {"aws:MultiFactorAuthPresent": "false"}}
NONE: Answer[Any] = Answer("absent")


def says(actions: Any, resource: Any = "*", effect: str = "Allow", **more: Any) -> dict[str, Any]:
    return {"Effect": effect, "Action": actions, "Resource": resource, **more}


def document(*statements: dict[str, Any], version: str = "2012-10-17") -> str:
    return json.dumps({"Version": version, "Statement": list(statements)})


def powers(*statements: dict[str, Any], boundary: Answer[str] = NONE, **more: Any) -> tuple[str, list[str]]:
    """The answer's state, and the powers in it."""
    attached = [AttachedPolicy("p", document(*statements, **more))]
    answer = administration(Answer("known", attached), boundary, OWN)
    return answer.state, answer.value or []


USERS = [power for power, of in POWERS.items() if of == "user"]


@pytest.mark.parametrize(
    ("statements", "state", "found"),
    [
        ([], "absent", []),
        ([says("s3:*")], "absent", []),
        ([says("*")], "known", list(POWERS)),
        ([says("iam:*")], "known", list(POWERS)),
        ([says("IAM:putuserPOLICY")], "known", ["iam:PutUserPolicy"]),
        ([says(["iam:Get*", "iam:List*"])], "absent", []),
        ([says("iam:Attach?serPolicy")], "known", ["iam:AttachUserPolicy"]),
        ([{"Effect": "Allow", "NotAction": "iam:*", "Resource": "*"}], "absent", []),
        ([{"Effect": "Allow", "NotAction": "s3:*", "Resource": "*"}], "known", list(POWERS)),
        ([says("iam:*", "arn:aws:iam::*:user/*")], "known", USERS),
        ([says("iam:*", "arn:aws:iam::123456789012:*")], "known", list(POWERS)),
        ([says("*", "arn:aws:s3:::maps/*")], "absent", []),
        ([says("iam:*", "arn:aws:iam::*:mfa/${aws:username}")], "absent", []),
        # one's own key and password are no power; one's own permissions are
        ([says(["iam:CreateAccessKey", "iam:UpdateLoginProfile"], [SELF, OWN])], "absent", []),
        ([says("iam:CreateAccessKey", [SELF, "arn:aws:iam::*:user/boss"])], "failed", []),
        ([says("iam:PutUserPolicy", SELF)], "known", ["iam:PutUserPolicy"]),
        ([says("iam:AttachUserPolicy", OWN)], "known", ["iam:AttachUserPolicy"]),
        ([says("iam:PutRolePolicy", "arn:aws:iam::*:role/app-*")], "failed", []),
        ([{"Effect": "Allow", "Action": "iam:*", "NotResource": "arn:aws:iam::*:user/boss"}], "failed", []),
        ([says("iam:*", Condition=WITH_MFA)], "known", list(POWERS)),
        ([says("iam:*", Condition={"StringEquals": {"aws:RequestedRegion": "north-1"}})], "failed", []),
        ([says("iam:*"), says("iam:*", effect="Deny")], "absent", []),
        ([says("iam:*"), says("*", effect="Deny", Condition=WITHOUT_MFA)], "known", list(POWERS)),
        ([says("iam:PutUserPolicy"), says("iam:*", SELF, effect="Deny")], "failed", []),
        ([says("iam:CreateAccessKey"), says("iam:*", SELF, effect="Deny")], "known", ["iam:CreateAccessKey"]),
        ([says("iam:*"), says("s3:*", effect="Deny")], "known", list(POWERS)),
        ([says("iam:*"), says("*", "arn:aws:s3:::maps", effect="Deny")], "known", list(POWERS)),
        ([says("iam:*", Condition={"Odd": 3})], "failed", []),
        ([{"Effect": "allow", "Action": "iam:*", "Resource": "*"}], "failed", []),
    ],
)
def test_what_is_as_good_as_every_permission(statements: list[dict[str, Any]], state: str, found: list[str]) -> None:
    assert powers(*statements) == (state, found)


def test_a_variable_of_the_older_language_is_plain_text() -> None:
    assert powers(says("iam:PutUserPolicy", SELF), version="2008-10-17")[0] == "failed"


@pytest.mark.parametrize(
    ("boundary", "state"),
    [
        (Answer("known", document(says("*"))), "known"),
        (Answer("known", document(says("s3:*"))), "absent"),
        (Answer("known", document(says("iam:*", "arn:aws:iam::*:role/app-*"))), "failed"),
        (Answer("known", document(says("*"), says("iam:*", effect="Deny"))), "absent"),
        (Answer("known", "{"), "failed"),
        (Answer("denied"), "failed"),
    ],
)
def test_a_boundary_bounds_it(boundary: Answer[str], state: str) -> None:
    assert powers(says("iam:*"), boundary=boundary)[0] == state


def test_what_was_not_read_settles_nothing() -> None:
    assert administration(Answer("denied"), NONE).state == "denied"
    assert administration(Answer("known", [AttachedPolicy("p", "{")]), NONE).state == "failed"


TARGETS = {"user": ["tide-clerk", "boss"], "role": ["app-web", "night-watch"], "group": ["staff"], "policy": ["all"]}
STATEMENTS = st.builds(
    lambda effect, action, resource, condition: says(action, resource, effect, **condition),
    st.sampled_from(["Allow", "Allow", "Deny"]),
    st.sampled_from(["*", "iam:*", "iam:Put*", "iam:CreateAccessKey", "s3:*"]),
    st.sampled_from(["*", SELF, "arn:aws:iam::*:user/*", "arn:aws:iam::*:role/app-*", "arn:aws:s3:::maps"]),
    st.sampled_from([{}, {"Condition": WITH_MFA}, {"Condition": {"IpAddress": {"aws:SourceIp": "10.0.0.0/8"}}}]),
)


def applies(statement: dict[str, Any], action: str, target: str, factor: bool, inside: bool) -> bool:
    """Whether a statement is about a request: the language, by hand."""
    resource = statement["Resource"].replace("${aws:username}", "tide-clerk")
    condition = statement.get("Condition", {})
    holds = ("Bool" not in condition or factor) and ("IpAddress" not in condition or inside)
    return fnmatchcase(action, statement["Action"]) and fnmatchcase(target, resource) and holds


@given(st.lists(STATEMENTS, max_size=4))
def test_requests_are_let_through_as_the_powers_say(statements: list[dict[str, Any]]) -> None:
    """Each power on each target, with MFA and without, from inside and outside."""

    def passes(action: str, target: str, *, factor: bool, inside: bool) -> bool:
        fits = [s["Effect"] for s in statements if applies(s, action, target, factor, inside)]
        return "Allow" in fits and "Deny" not in fits

    state, found = powers(*statements)
    for power, kind in POWERS.items():
        targets = [f"arn:aws:iam::123456789012:{kind}/{name}" for name in TARGETS[kind]]
        others = [
            target for target in targets if target != OWN or power in ("iam:PutUserPolicy", "iam:AttachUserPolicy")
        ]
        if power in found:  # signed in as is meant, from wherever
            assert any(passes(power, one, factor=True, inside=inside) for one in others for inside in (False, True))
        if state == "absent":
            every = itertools.product(others, (False, True), (False, True))
            assert not any(passes(power, one, factor=factor, inside=inside) for one, factor, inside in every)


def test_identities_that_the_standard_client_made_are_held_to_it(tmp_path: Path) -> None:
    """By permissions of their own, of a group, within a boundary; and a role's."""
    with empty_mock_server() as address:
        iam = standard_client(address, "mock-key", "mock-secret", service="iam")
        own_key = document(says(["iam:CreateAccessKey", "iam:DeleteAccessKey"], SELF))
        for name, policy in (("boss", document(says("*"))), ("clerk", own_key), ("deputy", document(says("s3:*")))):
            iam.create_user(UserName=name)
            iam.put_user_policy(UserName=name, PolicyName="own", PolicyDocument=policy)
        iam.create_group(GroupName="keepers")
        iam.put_group_policy(
            GroupName="keepers", PolicyName="keep", PolicyDocument=document(says("iam:AddUserToGroup"))
        )
        iam.add_user_to_group(GroupName="keepers", UserName="deputy")
        cap = iam.create_policy(PolicyName="cap", PolicyDocument=document(says("s3:*")))["Policy"]["Arn"]
        trusted = document(
            {"Effect": "Allow", "Action": "sts:AssumeRole", "Principal": {"Service": "jobs.example.com"}}
        )
        for name, bounded in (("builder", {}), ("trainee", {"PermissionsBoundary": cap})):
            iam.create_role(RoleName=name, AssumeRolePolicyDocument=trusted, **bounded)
        iam.put_role_policy(RoleName="trainee", PolicyName="own", PolicyDocument=document(says("*")))
        some = document(says("iam:PutRolePolicy", "arn:aws:iam::*:role/app-*"))
        iam.put_role_policy(RoleName="builder", PolicyName="own", PolicyDocument=some)
        rows = held_to(tmp_path, address, "{sheet: everybody, require: {identity.administers: absent}}")
    assert {about: row["observed"] for about, row in rows.items()} == {
        ("boss", "drift"): ", ".join(POWERS), ("deputy", "drift"): "iam:AddUserToGroup",
        ("account root", "drift"): "the account's root", ("role builder", "unknown"): "unknown",
    }  # fmt: skip
