"""Which roles an identity may assume: decided from trust policies and permissions, and read as a client made them."""

from __future__ import annotations

import json
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.policy.assuming import Trusts
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy
from tests.conftest import lantern
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import held_to

OWN, OTHER = "123456789012", "777777777777"
CLERK, ROLE = f"arn:aws:iam::{OWN}:user/tide-clerk", f"arn:aws:iam::{OWN}:role/keeper"
ROOT = f"arn:aws:iam::{OWN}:root"
NONE: Answer[Any] = Answer("absent")
WITH_MFA = {"Bool": {"aws:MultiFactorAuthPresent": "true"}}
WITHOUT_MFA = {"BoolIfExists": {"aws:MultiFactorAuthPresent": "false"}}
BY_WORD = {"StringEquals": {"sts:ExternalId": "tide"}}


def trust(who: Any, effect: str = "Allow", action: str = "sts:AssumeRole", **more: Any) -> dict[str, Any]:
    return {"Effect": effect, "Action": action, "Principal": who, **more}


def own(resource: str = "*", effect: str = "Allow", action: str = "sts:AssumeRole", **more: Any) -> dict[str, Any]:
    return {"Effect": effect, "Action": action, "Resource": resource, **more}


def document(*statements: dict[str, Any]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": list(statements)})


def may(trusted: list[dict[str, Any]], permitted: list[dict[str, Any]], boundary: Answer[str] = NONE) -> bool | None:
    """Whether the clerk may assume the role; None where it is not known."""
    permissions = Answer("known", [AttachedPolicy("p", document(*permitted))])
    found = Trusts({ROLE: document(*trusted)}).of(CLERK, permissions, boundary)
    assert not found.sure & found.perhaps
    return True if found.sure else None if found.perhaps else False


@pytest.mark.parametrize(
    ("trusted", "permitted", "expected"),
    [
        ([trust({"AWS": CLERK})], [], True),  # named: it needs no permission of its own
        ([trust({"AWS": ROOT})], [], False),
        ([trust({"AWS": ROOT})], [own()], True),
        ([trust({"AWS": OWN})], [own(ROLE)], True),
        ([trust({"AWS": OWN})], [own(f"arn:aws:iam::{OWN}:role/*")], True),
        ([trust({"AWS": OWN})], [own(f"arn:aws:iam::{OWN}:role/other")], False),
        ([trust({"AWS": OWN})], [own(action="sts:*")], True),
        ([trust({"AWS": OWN})], [own(action="*")], True),
        ([trust({"AWS": OWN})], [own(action="s3:*")], False),
        ([trust({"AWS": OWN})], [{"Effect": "Allow", "NotAction": "iam:*", "Resource": "*"}], True),
        ([trust({"AWS": OWN})], [own("arn:aws:iam::*:role/${aws:username}")], None),
        ([trust({"AWS": OTHER})], [own()], False),
        ([trust({"AWS": "arn:aws:iam::123456789012:user/somebody"})], [own()], False),
        ([trust({"Service": "jobs.example.com"})], [own()], False),
        ([trust({"Federated": "id.example"}, action="sts:AssumeRoleWithWebIdentity")], [own()], False),
        ([trust("*")], [], True),
        ([trust({"AWS": "arn:aws:iam::123456789012:user/*"})], [], None),
        ([trust({"AWS": CLERK}, Condition=WITH_MFA)], [], True),
        ([trust({"AWS": CLERK}, Condition=BY_WORD)], [], None),
        ([trust({"AWS": OWN})], [own(Condition=BY_WORD)], None),
        ([trust({"AWS": CLERK})], [own(effect="Deny")], False),
        ([trust({"AWS": CLERK})], [own(effect="Deny", Condition=WITHOUT_MFA)], True),
        ([trust({"AWS": CLERK})], [own(effect="Deny", Condition=BY_WORD)], None),
        ([trust({"AWS": CLERK})], [own(f"arn:aws:iam::{OWN}:role/other", effect="Deny")], True),
        ([trust({"AWS": CLERK}), trust({"AWS": OWN}, "Deny")], [], False),
        ([trust({"AWS": CLERK}), trust("*", "Deny", Condition=BY_WORD)], [], None),
        ([trust({"AWS": CLERK}), trust({"AWS": OTHER}, "Deny")], [], True),
        ([trust({"AWS": CLERK}, "allow")], [], None),
        ([], [own()], False),
    ],
)
def test_a_role_is_assumed_by_whom_it_trusts(
    trusted: list[dict[str, Any]], permitted: list[dict[str, Any]], expected: bool | None
) -> None:
    assert may(trusted, permitted) is expected


@pytest.mark.parametrize(
    ("boundary", "by_account", "by_name"),
    [
        (Answer("known", document(own("*", action="*"))), True, True),
        (Answer("known", document(own("*", action="s3:*"))), False, True),
        (Answer("known", document(own("*", action="*"), own(effect="Deny"))), False, False),
        (Answer("denied"), None, None),
        (Answer("known", "{"), None, None),
    ],
)
def test_a_boundary_caps_permissions_and_its_denies_refuse(
    boundary: Answer[str], by_account: bool | None, by_name: bool | None
) -> None:
    assert may([trust({"AWS": OWN})], [own()], boundary) is by_account
    assert may([trust({"AWS": CLERK})], [own()], boundary) is by_name


def test_what_was_not_read_settles_nothing() -> None:
    known: Answer[Any] = Answer("known", [AttachedPolicy("p", document(own()))])
    for trusts, permissions in (
        (Trusts({ROLE: None}), known),
        (Trusts({ROLE: "{"}), known),
        (Trusts({ROLE: document(trust({"AWS": CLERK}))}), Answer("denied")),
        (Trusts({ROLE: document(trust({"AWS": OWN}))}), Answer("known", [AttachedPolicy("p", "{")])),
    ):
        assert trusts.of(CLERK, permissions, NONE) == (frozenset(), frozenset({ROLE}))


def test_a_session_that_is_named_is_one_of_its_roles_and_an_account_that_is_not_known_may_be_any() -> None:
    known: Answer[Any] = Answer("known", [AttachedPolicy("p", document(own()))])
    clerks = f"arn:aws:iam::{OWN}:role/clerk"
    session = trust({"AWS": f"arn:aws:sts::{OWN}:assumed-role/clerk/monday"})
    assert Trusts({ROLE: document(session)}).of(clerks, known, NONE) == (frozenset(), frozenset({ROLE}))
    assert Trusts({"keeper": document(trust({"AWS": ROOT}))}).of(CLERK, known, NONE).perhaps == frozenset({"keeper"})


CONDITIONS = st.sampled_from([{}, {}, {"Condition": WITH_MFA}, {"Condition": BY_WORD}])
EFFECTS = st.sampled_from(["Allow", "Allow", "Deny"])
TRUSTED = st.builds(
    lambda effect, who, condition: trust(who, effect, **condition),
    EFFECTS, st.sampled_from(["*", {"AWS": CLERK}, {"AWS": OWN}, {"AWS": OTHER}, {"Service": "a.example"}]), CONDITIONS,
)  # fmt: skip
PERMITTED = st.builds(
    lambda effect, resource, condition: own(resource, effect, **condition),
    EFFECTS, st.sampled_from(["*", ROLE, f"arn:aws:iam::{OWN}:role/k*", f"arn:aws:iam::{OWN}:role/other"]), CONDITIONS,
)  # fmt: skip


@given(st.lists(TRUSTED, max_size=3), st.lists(PERMITTED, max_size=3))
def test_each_request_is_let_through_as_is_said(trusted: list[dict[str, Any]], permitted: list[dict[str, Any]]) -> None:
    """With MFA and without, with the word that a condition asks for and without: the language, by hand."""

    def holds(statement: dict[str, Any], *, factor: bool, word: bool) -> bool:
        condition = statement.get("Condition", {})
        return ("Bool" not in condition or factor) and ("StringEquals" not in condition or word)

    def passes(*, factor: bool, word: bool) -> bool:
        here = [one for one in trusted if holds(one, factor=factor, word=word)]
        mine = [
            one for one in permitted
            if holds(one, factor=factor, word=word) and fnmatchcase(ROLE, one["Resource"])
        ]  # fmt: skip
        named = [one["Effect"] for one in here if one["Principal"] in ("*", {"AWS": CLERK})]
        whole = [one["Effect"] for one in here if one["Principal"] == {"AWS": OWN}]
        effects = [one["Effect"] for one in mine]
        if "Deny" in [*named, *whole, *effects]:
            return False
        return "Allow" in named or ("Allow" in whole and "Allow" in effects)

    said = may(trusted, permitted)
    if said is True:
        assert passes(factor=True, word=False) and passes(factor=True, word=True)
    if said is False:
        assert not any(passes(factor=factor, word=word) for factor in (False, True) for word in (False, True))
    if said is None:
        conditions = [(one["Effect"], one.get("Condition")) for one in (*trusted, *permitted)]
        assert any(condition == BY_WORD or (effect == "Deny" and condition) for effect, condition in conditions)


def test_roles_that_the_standard_client_made_are_assumed_by_whom_they_trust(tmp_path: Path) -> None:
    with empty_mock_server() as address:
        iam = standard_client(address, "mock-key", "mock-secret", service="iam")
        for name in ("boss", "clerk", "guest", "visitor"):
            iam.create_user(UserName=name)
        iam.put_user_policy(UserName="boss", PolicyName="own", PolicyDocument=document(own()))
        visits = document(own(Condition=BY_WORD))
        iam.put_user_policy(UserName="visitor", PolicyName="own", PolicyDocument=visits)
        account = iam.get_user(UserName="boss")["User"]["Arn"].split(":")[4]
        for name, who in (("keeper", f"arn:aws:iam::{account}:root"), ("scribe", f"arn:aws:iam::{account}:user/clerk")):
            iam.create_role(RoleName=name, AssumeRolePolicyDocument=document(trust({"AWS": who})))
        rows = held_to(
            tmp_path,
            address,
            "{sheet: all, of: {name: [boss, clerk, guest, visitor]}, require: {identity.assumes: absent}}",
        )
    assert {about: row["observed"] for about, row in rows.items()} == {
        ("boss", "drift"): "role keeper", ("clerk", "drift"): "role scribe", ("visitor", "unknown"): "unknown",
    }  # fmt: skip
    listed = json.loads(lantern("access", "--json", cwd=tmp_path).out)["assumes"]
    assert {row["identity"]: (row["roles"], row["unknown"]) for row in listed} == {
        "boss": (["role keeper"], []), "clerk": (["role scribe"], []), "visitor": ([], ["role keeper"]),
    }  # fmt: skip
    shown = lantern("access", "--who", "clerk", cwd=tmp_path).out
    assert "Roles that they may assume" in shown and "role scribe" in shown and "role keeper" not in shown
