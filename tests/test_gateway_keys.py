"""Which condition keys a real gateway's requests carry: what is sent with uploads, and tags of objects by action."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import pytest

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.policy.condition_keys import always_carried, key_name
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.solver.exposure import exposures
from tests.gateway import Gateway, send_to

SENT = {
    "x-amz-acl": "private", "x-amz-storage-class": "STANDARD", "x-amz-tagging": "t=u",
    "x-amz-object-lock-mode": "GOVERNANCE", "x-amz-object-lock-retain-until-date": "2099-12-30T00:00:00Z",
    "x-amz-object-lock-legal-hold": "OFF", "x-amz-website-redirect-location": "/x",
}  # fmt: skip
"""The headers of an upload."""
OF_UPLOADS = {
    "s3:x-amz-acl": True, "s3:RequestObjectTag/t": True, "s3:RequestObjectTagKeys": False,
    "s3:x-amz-storage-class": False, "s3:object-lock-mode": False, "s3:object-lock-legal-hold": False,
    "s3:object-lock-retain-until-date": False, "s3:x-amz-website-redirect-location": False,
    "s3:x-amz-content-sha256": False, "s3:signatureAge": False,
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
        assert (key_name(key) in GATEWAY.readings.never_carried) is not carried, key


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
