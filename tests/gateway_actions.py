"""Every action that a real gateway knows, one request after the other: what it answers, and what is decided of it."""

from __future__ import annotations

from datetime import UTC, datetime
from http.client import HTTPConnection

from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.condition_keys import ARN, REFERER_HOST, always_carried
from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.sigv4 import sign
from tests.gateway import Gateway

READ_AS_ANOTHER_REQUEST = (
    "Ownership", "Encryption", "Accelerate", "Inventory", "Analytics", "Metrics", "Tiering", "Abac", "Metadata",
    "Torrent", "Attributes", "TagResource", "UntagResource", "ListTagsForResource", "MultipartUploadParts", "Website",
    "Notification", "Logging",
)  # fmt: skip
"""Words in actions that the gateway does not know: it takes their requests for others, or answers them for nobody."""
ASKED = [
    action
    for action in ACTIONS.values()
    if action.method and not any(word in action.name for word in READ_AS_ANOTHER_REQUEST)
]
KEYS = {"s3:PutObject": "new", "s3:DeleteObject": "d1", "s3:DeleteObjectVersion": "d2",
        "s3:BypassGovernanceRetention": "d3"}  # fmt: skip
"""Which object each action is on; the others are on `k`."""


def ask(gateway: Gateway, pair: tuple[str, str] | None, bucket: str, action: Action) -> int:
    """The answer's status. The request has a body that no setting accepts; without a pair of keys it is not signed."""
    path = f"/{bucket}" + (f"/{KEYS.get(action.name, 'k')}" if action.target == "object" else "")
    headers = {"x-amz-bypass-governance-retention": "true"} if "Bypass" in action.name else {}
    host = gateway.address.removeprefix("http://")
    if pair:
        parts = sorted(part if "=" in part else f"{part}=" for part in action.query.split("&") if part)
        extra = {"x-amz-content-sha256": "UNSIGNED-PAYLOAD", **headers}
        key, query = AccessKey(*pair), "&".join(parts)
        headers = dict(sign(key, action.method, host, path, query, datetime.now(UTC), "us-east-1", extra))
    connection = HTTPConnection(host, timeout=60)
    try:
        connection.request(
            action.method, path + (f"?{action.query}" if action.query else ""), body=b"", headers=headers
        )
        answer = connection.getresponse()
        answer.read()
        return answer.status
    finally:
        connection.close()


def request_of(action: Action, caller: Caller) -> Request:
    """The same request, to be decided."""
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn)
    context |= {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",), REFERER_HOST: ("",)}
    key = "k" if action.target == "object" else ""
    return Request(action.name, key, caller, context | ({} if caller.anonymous else {ARN: (caller.arn,)}))
