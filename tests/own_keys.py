"""Uploads that bring an encryption key of their own, and policies that may refuse them."""

from __future__ import annotations

import base64
import hashlib
import json
from datetime import UTC, datetime
from typing import Any

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.mandatory_conditions import MandatoryConditions
from rusty_lantern.core.model.dialect import Dialect

ASKED, ALGORITHM = "s3:x-amz-server-side-encryption", "s3:x-amz-server-side-encryption-customer-algorithm"
KEY = b"0123456789abcdef0123456789abcdef"
OWN_KEY = {
    "x-amz-server-side-encryption-customer-algorithm": "AES256",
    "x-amz-server-side-encryption-customer-key": base64.b64encode(KEY).decode(),
    "x-amz-server-side-encryption-customer-key-MD5": base64.b64encode(hashlib.md5(KEY).digest()).decode(),
}
"""The headers of an upload that brings its own key."""
KEY_CONDITIONS: dict[str, str] = {
    json.dumps(condition): common
    for condition, common in (
        ({"Null": {ALGORITHM: "false"}}, "on"),
        ({"StringEquals": {ALGORITHM: "AES256"}}, "on"),
        ({"StringLike": {ALGORITHM: "*"}}, "on"),
        ({"StringEquals": {ALGORITHM: "none"}}, "off"),  # the only algorithm that there is fits not
        ({"Null": {ALGORITHM: "true"}}, "off"),  # the wrong way round
        ({"Null": {ASKED: "true"}}, "on"),  # who brings a key asks for none of the store's
        ({"StringNotEquals": {ASKED: "aws:kms"}}, "on"),
        ({"StringNotEqualsIfExists": {ASKED: "aws:kms"}}, "on"),
        ({"StringEquals": {ASKED: "AES256"}}, "off"),
        ({"Null": {ALGORITHM: "false"}, "StringEquals": {"aws:username": "deck"}}, "off"),  # one user's uploads alone
    )
}  # fmt: skip
"""A Deny's condition → whether the published language refuses every upload that brings its own key by it."""


def denies_uploads(bucket: str, condition: dict[str, Any], **more: Any) -> str:
    """A policy that refuses everybody such uploads."""
    said = {"Effect": "Deny", "Principal": "*", "Action": "s3:PutObject", "Resource": f"arn:aws:s3:::{bucket}/*"}
    return json.dumps({"Version": "2012-10-17", "Statement": [{**said, "Condition": condition, **more}]})


def demanded(bucket: str, condition: dict[str, Any], dialect: Dialect, **more: Any) -> MandatoryConditions:
    """What this policy demands of everybody, as a software reads it."""
    policy = as_read(parse_policy(denies_uploads(bucket, condition, **more)), dialect)
    return MandatoryConditions(Rules(bucket, policy), EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC), "4001"))
