"""Which condition keys a real gateway's requests carry: what is sent with uploads, and tags of objects by action."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import COMMON, GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import Policy, parse_policy
from rusty_lantern.core.access.policy.key_names import key_name
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.exposure import exposures
from tests.gateway import Gateway, send_to, takes_policy
from tests.own_keys import KEY_CONDITIONS, OWN_KEY, demanded, denies_uploads

SENT = {
    "x-amz-acl": "private", "x-amz-storage-class": "STANDARD", "x-amz-tagging": "t=u",
    "x-amz-object-lock-mode": "GOVERNANCE", "x-amz-object-lock-retain-until-date": "2099-12-30T00:00:00Z",
    "x-amz-object-lock-legal-hold": "OFF", "x-amz-website-redirect-location": "/x", "If-None-Match": "*",
}  # fmt: skip
"""The headers of an upload."""
OF_UPLOADS = {
    "s3:x-amz-acl": True, "s3:RequestObjectTag/t": True, "s3:RequestObjectTagKeys": False,
    "s3:x-amz-storage-class": False, "s3:object-lock-mode": False, "s3:object-lock-legal-hold": False,
    "s3:object-lock-retain-until-date": False, "s3:x-amz-website-redirect-location": False,
    "s3:x-amz-content-sha256": False, "s3:signatureAge": False, "s3:object-lock-remaining-retention-days": False,
    "s3:if-none-match": False, "s3:if-match": False, "s3:ObjectCreationOperation": False,
    "s3:DataAccessPointArn": False, "s3:DataAccessPointAccount": False, "s3:AccessPointNetworkOrigin": False,
    "s3:AccessPointTag/t": False, "aws:RequestTag/t": False, "aws:TagKeys": False,
}  # fmt: skip
"""Condition keys of which every upload that sends them all tells a value; whether there is one."""
TAG = b"<Tagging><TagSet><Tag><Key>a</Key><Value>b</Value></Tag></TagSet></Tagging>"
RETENTION = b"<Retention><Mode>GOVERNANCE</Mode><RetainUntilDate>2099-12-30T00:00:00Z</RetainUntilDate></Retention>"
BODIES = {
    "s3:PutObjectTagging": TAG, "s3:PutObjectRetention": RETENTION,
    "s3:PutObjectLegalHold": b"<LegalHold><Status>OFF</Status></LegalHold>",
}  # fmt: skip
OF_OBJECTS = (
    "s3:GetObject", "s3:PutObject", "s3:DeleteObject", "s3:GetObjectTagging", "s3:PutObjectTagging",
    "s3:DeleteObjectTagging", "s3:GetObjectAcl", "s3:GetObjectRetention", "s3:PutObjectRetention",
    "s3:GetObjectLegalHold", "s3:PutObjectLegalHold", "s3:AbortMultipartUpload",
)  # fmt: skip


def policy(bucket: str, action: str, condition: dict[str, Any] | None) -> str:
    resources = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    said = {"Effect": "Allow", "Principal": "*", "Action": action, "Resource": resources}
    return json.dumps(
        {"Version": "2012-10-17", "Statement": [{**said, **({"Condition": condition} if condition else {})}]}
    )


@pytest.fixture(scope="module")
def bucket(gateway: Gateway) -> str:
    gateway.client().create_bucket(Bucket="carried", ObjectLockEnabledForBucket=True)
    return "carried"


def test_what_an_upload_carries_is_what_the_dialect_says(gateway: Gateway, bucket: str) -> None:
    for key, carried in OF_UPLOADS.items():
        gateway.client().put_bucket_policy(
            Bucket=bucket, Policy=policy(bucket, "s3:PutObject", {"StringLike": {key: "*"}})
        )
        status, _ = send_to(gateway.address, gateway.deck, "PUT", f"/{bucket}/n", "", SENT, b"1")
        assert status == (200 if carried else 403), key
        name = key_name(key)
        named = {name, f"{name.partition('/')[0]}/"} & {*GATEWAY.readings.never_carried}
        assert bool(named) is not carried, key


@pytest.mark.parametrize("condition", KEY_CONDITIONS)
def test_an_upload_with_its_own_key_is_refused_where_it_is_said_to_be(gateway: Gateway, condition: str) -> None:
    bucket = "own-keys"
    gateway.client().create_bucket(Bucket=bucket)
    gateway.client().delete_bucket_policy(Bucket=bucket)
    gateway.client().put_object(Bucket=bucket, Key="there", Body=b"1")
    assert takes_policy(gateway.client(), bucket, denies_uploads(bucket, json.loads(condition)))
    statuses = [
        send_to(gateway.address, gateway.keeper, "PUT", f"/{bucket}/k", "", OWN_KEY | copied, body)[0]
        for copied, body in (({}, b"1"), ({"x-amz-copy-source": f"/{bucket}/there"}, b""))
    ]
    refused = statuses == [403, 403]
    assert refused or statuses == [200, 200]
    assert demanded(bucket, json.loads(condition), GATEWAY).answer("store-keys").value == ("on" if refused else "off")


@pytest.mark.parametrize("operator", ["NumericLessThan", "NumericGreaterThan", "NumericNotEquals"])
def test_how_long_a_version_is_locked_is_nothing_that_a_policy_refuses(
    gateway: Gateway, bucket: str, operator: str
) -> None:
    """By the published language such a policy keeps retention within bounds; this server lets any through."""
    condition = {operator: {"s3:object-lock-remaining-retention-days": "30"}}
    both = {"Action": ["s3:PutObject", "s3:PutObjectRetention"]}
    assert takes_policy(gateway.client(), bucket, denies_uploads(bucket, condition, **both))
    for days in (1, 99):
        until = datetime.now(UTC) + timedelta(days=days)
        lock = {"x-amz-object-lock-mode": "GOVERNANCE", "x-amz-object-lock-retain-until-date": f"{until:%FT%TZ}"}
        assert send_to(gateway.address, gateway.keeper, "PUT", f"/{bucket}/n", "", lock, b"1")[0] == 200
    bounds = ("shortest", "longest")
    there, common = (demanded(bucket, condition, dialect, **both) for dialect in (GATEWAY, COMMON))
    assert [there.answer(name).value for name in bounds] == [None, None]
    assert [common.answer(name).value for name in bounds] != [None, None]


@pytest.mark.parametrize("action", OF_OBJECTS)
def test_an_objects_tags_decide_the_requests_that_the_dialect_says(gateway: Gateway, bucket: str, action: str) -> None:
    """Held against the same request without the condition: some find nothing there, which is not a refusal."""
    keeper, passed = gateway.client(), []
    method, query = ACTIONS[action].method, ACTIONS[action].query
    condition = {"StringEquals": {"s3:ExistingObjectTag/a": "b"}}
    for wanted in (None, condition, {"StringEquals": {"s3:ExistingObjectTag/a": "c"}}):
        keeper.put_object(Bucket=bucket, Key="k", Body=b"1", Tagging="a=b")
        keeper.put_bucket_policy(Bucket=bucket, Policy=policy(bucket, action, wanted))
        status, _ = send_to(gateway.address, None, method, f"/{bucket}/k", query, {}, BODIES.get(action, b""))
        passed.append(status != 403)
    text = policy(bucket, action, condition)
    rules = Rules(bucket, as_read(parse_policy(text), GATEWAY))
    context = always_carried(anonymous=True) | {"s3:existingobjecttag/a": ("b",)}
    carries = action != "s3:PutObject"
    assert passed == [True, carries, False]
    if carries:
        assert decide(rules, Request(action, "k", ANONYMOUS, context)).allowed is True
    verdict = exposures(rules, EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC)))["anyone", ACTIONS[action].verb]
    assert verdict.level == ("restricted" if carries else "closed")
    if carries:
        assert verdict.restriction is not None and verdict.restriction.words == 'only objects tagged a="b"'


READS = (
    "s3:ListBucket", "s3:GetObject", "s3:GetBucketVersioning", "s3:GetBucketAcl", "s3:GetObjectTagging",
    "s3:ListBucketVersions", "s3:GetBucketLocation", "s3:ListBucketMultipartUploads", "s3:GetObjectAcl",
    "s3:GetBucketPolicy", "s3:GetReplicationConfiguration",
)  # fmt: skip
ACTION_PATTERNS = (
    "s3:*g", "s3:*e*n", "s3:*ing", "s3:Get*ing", "s3:Get*g", "s3:List*s", "s3:*Object", "s3:*Versions",
    "s3:get*OBJECT*", "s3:?*", "s3:**", "s3:GetBucket*n", "s?:GetObject",
)  # fmt: skip


def test_a_star_in_an_action_ends_where_the_next_letter_first_comes(gateway: Gateway, bucket: str) -> None:
    gateway.client().put_object(Bucket=bucket, Key="k", Body=b"1")
    otherwise = 0
    for pattern in ACTION_PATTERNS:
        text = policy(bucket, pattern, None)
        assert takes_policy(gateway.client(), bucket, text), pattern
        for action in READS:
            key = "k" if ACTIONS[action].target == "object" else ""
            path = f"/{bucket}" + (f"/{key}" if key else "")
            passed = send_to(gateway.address, None, "GET", path, ACTIONS[action].query)[0] != 403
            wanted = Request(action, key, ANONYMOUS, always_carried(anonymous=True))
            there, common = (decide(Rules(bucket, one), wanted).allowed for one in both_readings(text))
            assert there is passed, (pattern, action)
            otherwise += there is not common
    assert otherwise > 5


def both_readings(text: str) -> tuple[Policy, Policy]:
    return as_read(parse_policy(text), GATEWAY), parse_policy(text)


@pytest.mark.parametrize("operator", ["ArnEquals", "ArnLike", "ArnNotEquals", "ArnNotLike", "ArnLikeIfExists"])
@pytest.mark.parametrize("effect", ["Allow", "Deny"])
def test_a_condition_on_a_resource_name_never_holds(gateway: Gateway, bucket: str, operator: str, effect: str) -> None:
    said = json.loads(policy(bucket, "s3:GetObject", {operator: {"aws:Referer": "arn:aws:iam:::user/*"}}))
    said["Statement"][0]["Effect"] = effect
    if effect == "Deny":
        said["Statement"] += json.loads(policy(bucket, "s3:GetObject", None))["Statement"]
    assert takes_policy(gateway.client(), bucket, json.dumps(said))
    for headers in ({}, {"Referer": "arn:aws:iam:::user/deck"}, {"Referer": "x"}):
        passed = send_to(gateway.address, None, "GET", f"/{bucket}/k", "", headers)[0] == 200
        context = always_carried(anonymous=True) | {f"aws:{name.lower()}": (value,) for name, value in headers.items()}
        read, _ = both_readings(json.dumps(said))
        assert decide(Rules(bucket, read), Request("s3:GetObject", "k", ANONYMOUS, context)).allowed is passed, headers


def test_a_deny_of_some_names_lets_the_others_in_and_is_said_to(gateway: Gateway, bucket: str) -> None:
    """*Closed* by the published language: the object's name fits the Deny's pattern in another way only."""
    gateway.client().put_object(Bucket=bucket, Key="a.b.jpg", Body=b"1")
    allowed = json.loads(policy(bucket, "s3:GetObject", None))
    allowed["Statement"][0]["Resource"] = [f"arn:aws:s3:::{bucket}/*.b.jpg"]
    denied = {**allowed["Statement"][0], "Effect": "Deny", "Resource": [f"arn:aws:s3:::{bucket}/*.jpg"]}
    text = json.dumps({**allowed, "Statement": [*allowed["Statement"], denied]})
    assert takes_policy(gateway.client(), bucket, text)
    assert send_to(gateway.address, None, "GET", f"/{bucket}/a.b.jpg")[0] == 200
    levels = [
        exposures(Rules(bucket, read), EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC)))["anyone", "read"].level
        for read in both_readings(text)
    ]
    assert levels == ["open", "closed"]
