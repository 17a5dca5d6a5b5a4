"""What a policy demands of every upload, every request, every retention; and what only looks like a demand."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from itertools import product
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from rusty_lantern.core.access.dialects.shipped import COMMON
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.container_acl import EVERYBODY
from rusty_lantern.core.access.policy.document import Fault, Statement, parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.mandatory_conditions import MandatoryConditions
from rusty_lantern.core.value_types import DAY
from tests.own_keys import KEY_CONDITIONS
from tests.own_keys import demanded as demanded_of

SSE, DAYS = "s3:x-amz-server-side-encryption", "s3:object-lock-remaining-retention-days"
TLS = {"Action": "s3:*", "Resource": ["arn:aws:s3:::b", "arn:aws:s3:::b/*"]}
PLAIN = {"Bool": {"aws:SecureTransport": "false"}}
AROUND = EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC), "400100200300")
UNASKED = {"Null": {SSE: "true"}}


def demands(*statements: dict[str, Any]) -> MandatoryConditions:
    plain = {"Effect": "Deny", "Principal": "*", "Action": "s3:PutObject", "Resource": "arn:aws:s3:::b/*"}
    whole = [{k: v for k, v in {**plain, **statement}.items() if v is not None} for statement in statements]
    policy = parse_policy(json.dumps({"Version": "2012-10-17", "Statement": whole}))
    return MandatoryConditions(Rules("b", policy), AROUND)


@pytest.mark.parametrize(
    "statements,demanded",
    [
        ([{"Condition": UNASKED}], "on"),
        ([{"Condition": {"StringNotEquals": {SSE: "aws:kms"}}}], "on"),  # negated: true of an absent key
        ([{"Condition": {"StringEquals": {SSE: "none"}}}], "off"),  # an absent header is none of these
        ([{"Condition": {"StringNotEqualsIfExists": {SSE: "AES256"}}}], "on"),
        ([{"Condition": UNASKED, "Resource": "arn:aws:s3:::b/in/*"}], "off"),  # one folder only
        ([{"Condition": UNASKED, "Principal": {"AWS": "500600700800"}}], "off"),  # one account only
        ([{"Condition": UNASKED, "NotPrincipal": {"AWS": "400100200300"}, "Principal": None}], "off"),
        ([{"Condition": {**UNASKED, "StringNotEquals": {"aws:PrincipalAccount": "400100200300"}}}], "off"),
        ([{"Condition": {**UNASKED, "NotIpAddress": {"aws:SourceIp": "10.0.0.0/8"}}}], "off"),
        ([{"Condition": UNASKED, "Effect": "Allow"}], "off"),
        ([{"Condition": {**UNASKED, "StringEquals": {"made:up": "x"}}}], None),
        ([], "off"),
    ],
)
def test_uploads_without_encryption_are_refused(statements: list[dict[str, Any]], demanded: str | None) -> None:
    assert demands(*statements).answer("encryption").value == demanded


@pytest.mark.parametrize("fault", ["", "it was not read"])
def test_nothing_is_demanded_of_whoever_comes_by_a_door_that_asks_no_policy(fault: str) -> None:
    """And where such a door was not read, what is demanded is unknown."""
    asked = demands({"Condition": UNASKED}, {**TLS, "Condition": PLAIN})
    door = Statement(
        "a filer", "Allow", principals=EVERYBODY, actions=("s3:PutObject",), resources=("*",), door="filer"
    )
    door = replace(door, by_post="filer", faults=(Fault("", fault),) if fault else ())
    policy = asked.rules.policy
    beside = Rules("b", replace(policy, statements=(*policy.statements, door)))
    answers = {name: MandatoryConditions(beside, AROUND).answer(name) for name in ("encryption", "transport")}
    assert {name: asked.answer(name).value for name in answers} == dict.fromkeys(answers, "on")
    assert {one.value for one in answers.values()} == {None if fault else "off"}
    assert {one.reason for one in answers.values()} == {f"a filer: {fault}" if fault else ""}
    assert MandatoryConditions(beside, AROUND).answer("store-keys").value == "on"  # such doors take no keys


@pytest.mark.parametrize("condition", KEY_CONDITIONS)
def test_uploads_with_a_key_of_their_own_are_refused(condition: str) -> None:
    assert demanded_of("b", json.loads(condition), COMMON).answer("store-keys").value == KEY_CONDITIONS[condition]


def test_uploads_with_a_key_of_their_own_pass_where_a_folder_or_somebody_is_spared() -> None:
    refusing = {"Null": {"s3:x-amz-server-side-encryption-customer-algorithm": "false"}}
    spared = ({"Resource": "arn:aws:s3:::b/in/*"}, {"Principal": {"AWS": "500600700800"}}, {"Effect": "Allow"})
    for more in spared:
        assert demanded_of("b", refusing, COMMON, **more).answer("store-keys").value == "off"
    assert demanded_of("b", {"StringEquals": {"made:up": "x"}}, COMMON).answer("store-keys").value is None


@pytest.mark.parametrize(
    "changes,demanded",
    [
        ({}, "on"),
        ({"Resource": "arn:aws:s3:::b/*"}, "off"),  # the bucket's own actions are spared
        ({"Action": "s3:Get*"}, "off"),
        ({"Condition": {"Bool": {"aws:SecureTransport": "true"}}}, "off"),  # the wrong way round
        ({"Condition": {"NumericLessThan": {"s3:TlsVersion": "1.2"}}}, "off"),
    ],
)
def test_plain_http_is_refused(changes: dict[str, Any], demanded: str) -> None:
    assert demands({**TLS, "Condition": PLAIN, **changes}).answer("transport").value == demanded


def test_retention_bounds() -> None:
    both = {"Action": ["s3:PutObject", "s3:PutObjectRetention"]}
    short = {**both, "Condition": {"NumericLessThan": {DAYS: "30"}}}
    long = {**both, "Condition": {"NumericGreaterThan": {DAYS: "3650"}}}
    bounded = demands(short, long)
    assert [bounded.answer(end).value for end in ("shortest", "longest")] == [30 * DAY, 3650 * DAY]
    assert demands(short).answer("longest").state == "absent"
    sidestepped = demands({**long, "Action": "s3:PutObjectRetention"})  # an upload may still bring its own
    assert sidestepped.answer("longest").state == "absent"


B = "arn:aws:s3:::b"
WHOM = [*[{"Principal": "*"}] * 4, {"Principal": {"AWS": "*"}}, {"Principal": {"AWS": "500600700800"}},
        {"NotPrincipal": {"AWS": "arn:aws:iam::400100200300:root"}}]  # fmt: skip
WHAT = [*[{"Action": "s3:*"}] * 4, {"Action": "*"}, {"Action": "s3:Put*"}, {"NotAction": "s3:GetObject"},
        {"NotAction": "iam:*"}, {"Action": ["s3:Get*", "s3:List*", "s3:Delete*"]}]  # fmt: skip
WHERE = [*[{"Resource": [B, f"{B}/*"]}] * 4, {"Resource": f"{B}/*"}, {"Resource": B}, {"Resource": f"{B}*"},
         {"NotResource": f"{B}/in/*"}]  # fmt: skip
IF = [
    PLAIN, PLAIN, UNASKED, UNASKED, {"BoolIfExists": {"aws:SecureTransport": "false"}},
    {"StringNotEquals": {"aws:SecureTransport": "true"}}, {"Null": {"aws:SecureTransport": "false"}},
    {"Bool": {"aws:SecureTransport": "true"}}, {"StringNotEquals": {SSE: ["aws:kms", "AES256"]}},
    {"StringNotLike": {SSE: "aws:*"}}, {"StringEquals": {SSE: "AES256"}}, {},
]  # fmt: skip
AND = [*[{}] * 6, {"IpAddress": {"aws:SourceIp": "203.0.113.0/24"}}, {"NotIpAddress": {"aws:SourceIp": "203.0.113.9"}},
       {"StringLike": {"aws:PrincipalAccount": "4*"}}]  # fmt: skip
DENIES = st.builds(
    lambda whom, what, where, condition, more: {
        "Effect": "Deny", **whom, **what, **where, "Condition": condition | more,
    },
    st.sampled_from(WHOM), st.sampled_from(WHAT), st.sampled_from(WHERE), st.sampled_from(IF), st.sampled_from(AND),
)  # fmt: skip
CALLERS = [
    ANONYMOUS, Caller("400100200300", "arn:aws:iam::400100200300:root"),
    Caller("400100200300", "arn:aws:iam::400100200300:user/own"),
    Caller("500600700800", "arn:aws:iam::500600700800:user/x"),
]  # fmt: skip


def requests(secure: str, actions: Iterable[str], headers: Iterable[str | None] = (None,)) -> Iterator[Request]:
    """Requests of everybody, for everything; with each of these encryption headers, or none."""
    addresses = ("203.0.113.9", "198.51.100.7")
    for action, caller, address, header in product(actions, CALLERS, addresses, headers):
        who = {"aws:principalaccount": (caller.account,), "aws:principalarn": (caller.arn,)}
        carried = {"aws:securetransport": (secure,), "aws:sourceip": (address,)} | ({SSE: (header,)} if header else {})
        for key in ("k", "in/k") if ACTIONS[action].target == "object" else ("",):
            yield Request(action, key, caller, carried | ({} if caller.anonymous else who))


@given(st.lists(DENIES, min_size=1, max_size=3))
def test_what_is_demanded_the_plain_decider_refuses_to_everybody(statements: list[dict[str, Any]]) -> None:
    """And of plain http: where it is not demanded, somebody may ask for something in that way."""
    allowed = {"Effect": "Allow", "Principal": "*", "Action": "s3:*", "Resource": [B, f"{B}/*"]}
    rules, over = (
        Rules("b", parse_policy(json.dumps({"Version": "2012-10-17", "Statement": written})))
        for written in (statements, [allowed, *statements])
    )
    asked = MandatoryConditions(rules, AROUND)
    plainly = [*requests("false", ACTIONS), *requests("false", ["s3:PutObject"], ("AES256", "aws:kms", "else"))]
    uploads = [one for secure in ("true", "false") for one in requests(secure, ["s3:PutObject"])]
    for name, tried in (("encryption", uploads), ("transport", plainly)):
        passed = any(decide(over, one).allowed is not False for one in tried)
        answer = asked.answer(name).value
        assert answer in ("on", "off")
        assert not (passed and answer == "on"), name
        if name == "transport" and "SecureTransport" in json.dumps(statements):
            assert passed or answer == "on"
