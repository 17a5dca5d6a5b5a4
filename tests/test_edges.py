"""The edges of a decision: moments of any size, what callers choose, what requests without credentials carry."""

from __future__ import annotations

import json
from typing import Any

import pytest

from rusty_lantern.core.access.asking import Asking, request_of
from rusty_lantern.core.access.decide import decide
from rusty_lantern.core.access.documents import parse_policy
from rusty_lantern.core.access.exposure import Verdict, exposures
from rusty_lantern.core.access.rules import Rules
from tests.policies import AROUND


def statement(effect: str = "Allow", **more: Any) -> dict[str, Any]:
    plain = {"Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::quay/*"}
    return {"Effect": effect, **plain, **more}


def rules(*statements: dict[str, Any]) -> Rules:
    return Rules("quay", parse_policy(json.dumps({"Version": "2012-10-17", "Statement": list(statements)})))


def verdict(*statements: dict[str, Any], audience: Any = "anyone", verb: Any = "read") -> Verdict:
    return exposures(rules(*statements), AROUND)[audience, verb]


@pytest.mark.parametrize(
    ("condition", "level"),
    [
        ({"NumericLessThan": {"aws:EpochTime": "1767225600000"}}, "open"),
        ({"NumericGreaterThan": {"aws:EpochTime": "1767225600000"}}, "narrow"),
        ({"NumericGreaterThan": {"aws:EpochTime": "9" * 30}}, "narrow"),
        ({"DateGreaterThan": {"aws:CurrentTime": "9999-12-31T23:59:59Z"}}, "narrow"),
        ({"DateLessThan": {"aws:CurrentTime": "9999-12-31T23:59:59Z"}}, "open"),
    ],
)
def test_a_moment_past_the_calendar_is_shown_as_such(condition: dict[str, Any], level: str) -> None:
    found = verdict(statement(Condition=condition))
    assert found.level == level, found.doubts
    if level == "narrow":
        assert found.fence and found.fence.words == "only at a moment past the calendar"


def test_a_retention_past_the_calendar_is_decided() -> None:
    until = {"DateGreaterThan": {"s3:object-lock-retain-until-date": "9999-12-31T23:59:59Z"}}
    found = verdict(statement(Action="s3:PutObject", Condition=until), verb="write")
    assert found.level == "open" and found.witness is not None


@pytest.mark.parametrize(
    ("allow", "verb"),
    [
        (statement(Action="s3:PutObject", Resource="arn:aws:s3:::quay/${s3:RequestObjectTag/team}/*"), "write"),
        (statement(Action="s3:ListBucket", Resource="arn:aws:s3:::quay",
                   Condition={"StringEquals": {"aws:UserAgent": "${s3:prefix}"}}), "list"),
    ],
)  # fmt: skip
def test_a_variable_that_the_caller_chooses_is_never_taken_for_one_that_nobody_has(allow: Any, verb: str) -> None:
    assert verdict(allow, verb=verb).level == "unknown"


CARRIED = [
    # the published table of principal keys: what a request without credentials carries
    (statement("Deny", Condition={"Null": {"aws:PrincipalAccount": "true"}}), "open"),
    (statement("Deny", Condition={"StringEquals": {"aws:PrincipalAccount": "anonymous"}}), "closed"),
    (statement("Deny", Condition={"StringNotEquals": {"aws:PrincipalAccount": "400100200300"}}), "closed"),
    (statement("Deny", Condition={"StringEquals": {"aws:PrincipalType": "Anonymous"}}), "closed"),
    (statement("Deny", Condition={"StringNotEquals": {"aws:PrincipalType": "Anonymous"}}), "open"),
    (statement("Deny", Condition={"StringEquals": {"aws:userid": "anonymous"}}), "closed"),
    (statement("Deny", Condition={"Null": {"aws:PrincipalArn": "true"}}), "closed"),
    (statement("Deny", Condition={"Bool": {"aws:PrincipalIsAWSService": "false"}}), "open"),
    (statement("Deny", Condition={"Bool": {"aws:ViaAWSService": "false"}}), "narrow"),  # only through a service
    (statement("Deny", Condition={"Bool": {"aws:SecureTransport": "false"}}), "open"),
]


@pytest.mark.parametrize(("deny", "level"), CARRIED)
def test_what_a_request_without_credentials_carries(deny: dict[str, Any], level: str) -> None:
    assert verdict(statement(), deny).level == level
    request = request_of(Asking(action="s3:GetObject", key="a"), AROUND.moment)
    assert decide(rules(statement(), deny), request).allowed is (level == "open")


@pytest.mark.parametrize("variable", ["aws:PrincipalAccount", "aws:userid"])
def test_a_variable_with_a_fixed_value_for_the_public_is_that_value(variable: str) -> None:
    allow = statement(Resource="arn:aws:s3:::quay/${" + variable + "}/*")
    found = verdict(allow)
    assert found.level == "open" and found.witness and found.witness.key.startswith("anonymous/")
