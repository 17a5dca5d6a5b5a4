"""What a policy demands of every upload, every request, every retention; and what only looks like a demand."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.mandatory_conditions import MandatoryConditions
from rusty_lantern.core.value_types import DAY

SSE, DAYS = "s3:x-amz-server-side-encryption", "s3:object-lock-remaining-retention-days"
TLS = {"Action": "s3:*", "Resource": ["arn:aws:s3:::b", "arn:aws:s3:::b/*"]}
PLAIN = {"Bool": {"aws:SecureTransport": "false"}}
UNASKED = {"Null": {SSE: "true"}}


def demands(*statements: dict[str, Any]) -> MandatoryConditions:
    plain = {"Effect": "Deny", "Principal": "*", "Action": "s3:PutObject", "Resource": "arn:aws:s3:::b/*"}
    whole = [{k: v for k, v in {**plain, **statement}.items() if v is not None} for statement in statements]
    policy = parse_policy(json.dumps({"Version": "2012-10-17", "Statement": whole}))
    return MandatoryConditions(Rules("b", policy), EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC), "400100200300"))


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


@given(st.sampled_from([None, "AES256", "aws:kms", ""]), st.sampled_from(["true", "false"]))
def test_what_is_demanded_the_plain_decider_refuses(header: str | None, secure: str) -> None:
    found = demands({"Condition": UNASKED}, {**TLS, "Condition": PLAIN})
    context = {"aws:securetransport": (secure,)} | ({SSE: (header,)} if header is not None else {})
    refused = decide(found.rules, Request("s3:PutObject", "k", context=context)).allowed is False
    denied = header is None or secure == "false"
    assert found.answer("encryption").value == found.answer("transport").value == "on"
    assert refused or not denied
