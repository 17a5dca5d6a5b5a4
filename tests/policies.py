"""Random policies and requests, over a vocabulary small enough that they often meet."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import Audience, always_carried, context_key
from rusty_lantern.core.access.policy.request_constraints import impossible
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext

BUCKET = "reedbed"
OWNER = "400100200300"
STRANGER = "909090909090"
AROUND = EvaluationContext(datetime(2026, 11, 2, 6, tzinfo=UTC), OWNER)
ACTION_NAMES = [
    "s3:GetObject",
    "s3:PutObject",
    "s3:DeleteObject",
    "s3:ListBucket",
    "s3:GetBucketPolicy",
    "s3:PutObjectAcl",
]

_values: dict[str, list[str]] = {
    "aws:Referer": ["https://a.example/x", "https://b.example/", ""],
    "aws:UserAgent": ["probe", "curl/8"],
    "aws:SourceVpce": ["vpce-1", "vpce-2", "vpce-0strange"],
    "aws:PrincipalOrgID": ["o-ours", "o-0strange00"],
    "aws:PrincipalAccount": [OWNER, STRANGER, "123456789012"],
    "aws:PrincipalArn": [f"arn:aws:iam::{STRANGER}:user/x", f"arn:aws:iam::{STRANGER}:role/admin"],
    "aws:PrincipalType": ["User", "AssumedRole", "Anonymous"],
    "aws:username": ["x", "ann"],
    "aws:VpcSourceIp": ["10.0.0.1", "192.168.0.1"],
    "s3:RequestObjectTag/a": ["x", "y"],
    "aws:PrincipalIsAWSService": ["false"],
    "aws:SourceIp": ["198.51.100.7", "203.0.113.9", "10.0.0.1", "2001:db8::1", "8.8.8.8"],
    "aws:SecureTransport": ["true", "false"],
    "aws:CurrentTime": ["2026-11-02T06:00:00Z", "2026-12-01T00:00:00Z", "2027-06-01T00:00:00Z"],
    "s3:prefix": ["", "pub/", "pub/x"],
    "s3:max-keys": ["1", "10", "10.5", "1000"],
    "s3:x-amz-acl": ["private", "public-read"],
    "s3:ExistingObjectTag/sort": ["open", "closed"],
    "s3:RequestObjectTagKeys": ["a", "b", "c"],
}
ARNS = [
    *(
        f"arn:aws:iam::{account}:{last}"
        for account in (STRANGER, "123456789012")
        for last in ("root", "user/x", "role/admin")
    ),
    f"arn:aws:iam::{STRANGER}:user/team/ann",
    f"arn:aws:sts::{STRANGER}:federated-user/x",
]
_text_operators = (
    "StringEquals StringNotEquals StringLike StringNotLike StringEqualsIgnoreCase StringNotEqualsIgnoreCase"
)
_operators: dict[str, list[str]] = {
    "text": _text_operators.split(),
    "name": ["ArnLike", "ArnNotLike", "ArnEquals", "StringLike"],
    "switch": ["Bool", "StringEquals"],
    "address": ["IpAddress", "NotIpAddress"],
    "date": ["DateLessThan", "DateGreaterThanEquals", "DateEquals", "DateNotEquals", "DateGreaterThan"],
    "number": ["NumericLessThanEquals", "NumericGreaterThan", "NumericEquals", "NumericNotEquals", "NumericLessThan"],
}
_globs = {
    "aws:Referer": ["https://a.example/*", "*"],
    "aws:SourceVpce": ["vpce-*", "vpce-?"],
    "aws:PrincipalOrgID": ["o-*"],
    "aws:PrincipalArn": ["arn:aws:iam::*:role/admin", f"arn:aws:iam::{STRANGER}:*"],
    "s3:prefix": ["pub/*", "?*"],
}
_networks = ["198.51.100.0/24", "0.0.0.0/1", "128.0.0.0/1", "10.0.0.0/8", "203.0.113.9", "2000::/3", "8.0.0.0/7"]


@st.composite
def conditions(draw: st.DrawFn) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key in draw(st.lists(st.sampled_from(sorted(_values)), max_size=2, unique=True)):
        row = context_key(key.lower())
        assert row is not None
        operator = draw(st.sampled_from([*_operators[row.kind], "Null"]))
        pool = _networks if row.kind == "address" else _values[key] + (_globs.get(key, []) if "ike" in operator else [])
        pool = ["true", "false"] if operator == "Null" else pool
        values = draw(st.lists(st.sampled_from(pool), min_size=1, max_size=2, unique=True))
        if row.many and operator != "Null":
            operator = draw(st.sampled_from(["ForAllValues:", "ForAnyValue:"])) + operator
        elif operator != "Null" and draw(st.integers(0, 4)) == 0:
            operator += "IfExists"
        elif operator != "Null" and draw(st.integers(0, 6)) == 0:
            operator = draw(st.sampled_from(["ForAllValues:", "ForAnyValue:"])) + operator
        found.setdefault(operator, {})[key] = values
    return found


@st.composite
def statements(draw: st.DrawFn) -> dict[str, Any]:
    who = draw(st.sampled_from(["*", {"AWS": "*"}, {"AWS": OWNER}, {"AWS": ["*", OWNER]}]))
    made: dict[str, Any] = {"Effect": draw(st.sampled_from(["Allow", "Allow", "Deny"]))}
    made[draw(st.sampled_from(["Principal", "Principal", "Principal", "NotPrincipal"]))] = who
    actions = draw(st.lists(st.sampled_from([*ACTION_NAMES, "s3:*", "s3:Get*", "S3:p?t*"]), min_size=1, max_size=2))
    made[draw(st.sampled_from(["Action", "Action", "NotAction"]))] = actions
    names = ["", "/*", "/pub/*", "/pub/x", "/*x", "/a?"]
    pool = [f"arn:aws:s3:::{BUCKET}{name}" for name in names] + [
        "*",
        "arn:aws:s3:::reed*/pub*",
        "arn:aws:s3:::other/*",
    ]
    resources = draw(st.lists(st.sampled_from(pool), min_size=1, max_size=2))
    made[draw(st.sampled_from(["Resource", "Resource", "NotResource"]))] = resources
    held = draw(conditions())
    return made | ({"Condition": held} if held else {})


def document(found: list[dict[str, Any]]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": found})


policies = st.lists(statements(), min_size=1, max_size=4).map(document)


_ENDPOINT = ("aws:SourceVpce", "aws:SourceVpc", "aws:VpcSourceIp")
_SENT: dict[str, list[str]] = {"s3:max-keys": ["0", "1", "10", "11", "1000"]}
"""Values that a request can carry, where a policy may name others too."""


@st.composite
def requests(draw: st.DrawFn, audience: Audience) -> Request:
    """A request that the audience could make: what cannot occur together does not."""
    action = draw(st.sampled_from(ACTION_NAMES))
    context: dict[str, tuple[str, ...]] = {}
    endpoint = draw(st.booleans())
    for key, values in _values.items():
        row = context_key(key.lower())
        assert row is not None
        presence = row.presence(audience, action)
        if key in _ENDPOINT or key == "aws:SourceIp":
            presence = "always" if endpoint == (key in _ENDPOINT) else "never"
        if key in ("aws:PrincipalArn", "aws:PrincipalAccount", "aws:PrincipalType", "aws:username"):
            continue
        if presence == "always" or (presence == "maybe" and draw(st.booleans())):
            context[key.lower()] = (draw(st.sampled_from(_SENT.get(key, values))),)
            if row.many:
                context[key.lower()] = tuple(draw(st.lists(st.sampled_from(values), min_size=1, unique=True)))
    tag, listed = context.get("s3:requestobjecttag/a"), context.get("s3:requestobjecttagkeys", ())
    if tag or "a" in listed:
        context["s3:requestobjecttagkeys"] = tuple(sorted({*listed, "a"}))
        context["s3:requestobjecttag/a"] = tag or ("x",)
    caller = ANONYMOUS
    if audience == "any-account":
        arn = draw(st.sampled_from(ARNS))
        caller = Caller(arn.split(":")[4], arn)
        context |= {"aws:principalarn": (arn,), "aws:principalaccount": (caller.account,)}
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn) | context
    key_text = (
        draw(st.sampled_from(["pub/x", "pub/", "a", "ax", "pub/yx"])) if ACTIONS[action].target == "object" else ""
    )
    assert not impossible(context)
    return Request(action, key_text, caller, context)
