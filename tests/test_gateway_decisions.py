"""Our decisions, held against a real gateway: random policies put there, requests sent, answers compared.

Requests come without credentials and from a second user, from several loopback addresses, with several headers. The
policies are read in the gateway's own dialect, so that nothing has to be left out; `tests/test_dialects.py` measures
the dialect, construct by construct.
"""

from __future__ import annotations

import json
import random
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from http.client import HTTPConnection
from typing import Any

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.sigv4 import canonical_query, encode, sign
from tests.gateway import Gateway

KEYS = ("pub/x", "pub/deep/y", "priv/z", "a")
ADDRESSES = ("127.0.0.1", "127.0.0.2", "127.1.2.3")
DECK = Caller("deck", "arn:aws:iam:::user/deck", "deck")
REFERERS = ["https://a.example/x", "https://b.example/x", "https://a.example/*", "https://b.example/*", "*"]
CONDITIONS: tuple[tuple[str, str, list[str]], ...] = (
    ("IpAddress", "aws:SourceIp", ["127.0.0.2/32", "127.0.0.0/24", "127.0.0.0/8", "198.51.100.0/24", "0.0.0.0/1"]),
    ("NotIpAddress", "aws:SourceIp", ["127.0.0.2/32", "127.0.0.0/24", "10.0.0.0/8"]),
    ("StringLike", "aws:Referer", ["https://a.example/*", "*", "https://?.example/x"]),
    ("StringNotLike", "aws:Referer", REFERERS[2:]),
    ("StringLikeIfExists", "aws:Referer", REFERERS),
    ("StringNotLikeIfExists", "aws:Referer", REFERERS),
    ("StringEquals", "aws:UserAgent", ["probe", "browser"]),
    ("StringNotEquals", "aws:UserAgent", ["probe", "browser"]),
    ("StringEqualsIgnoreCase", "aws:username", ["DECK", "anonymous"]),
    ("StringNotEqualsIgnoreCase", "aws:username", ["DECK", "anonymous", "other"]),
    ("StringEqualsIfExists", "aws:Referer", REFERERS[:2]),
    ("StringNotEqualsIfExists", "aws:PrincipalType", ["Anonymous", "User"]),
    ("ForAllValues:StringEquals", "aws:PrincipalType", ["Anonymous", "User"]),
    ("ForAnyValue:StringLike", "aws:username", ["d*", "anon*"]),
    ("Bool", "aws:SecureTransport", ["true", "false"]),
    ("BoolIfExists", "aws:SecureTransport", ["true", "false"]),
    ("BinaryEquals", "aws:UserAgent", ["cHJvYmU="]),
    ("ArnLike", "aws:PrincipalArn", ["*", "arn:aws:iam:::user/deck"]),
    ("ArnNotLike", "aws:PrincipalArn", ["arn:aws:iam:::user/deck"]),
    ("NumericLessThan", "aws:EpochTime", ["4070908800"]),
    ("DateLessThan", "aws:CurrentTime", ["2020-01-01T00:00:00Z", "2099-01-01T00:00:00Z"]),
    ("DateGreaterThan", "aws:CurrentTime", ["2020-01-01T00:00:00Z", "2099-01-01T00:00:00Z"]),
    ("Null", "aws:Referer", ["true", "false"]),
    ("NumericGreaterThan", "s3:max-keys", ["10", "1000"]),
    ("NumericLessThanEquals", "s3:max-keys", ["10", "1000"]),
    ("Null", "s3:max-keys", ["true"]),
    ("StringLike", "aws:Referer", ["*a*x", "https://*/x", "*.example/*"]),
    ("StringNotLike", "aws:Referer", ["*a*x", "*//*x"]),
    ("StringEquals", "s3:prefix", ["pub/", ""]),
    ("StringNotEqualsIfExists", "s3:prefix", ["pub/"]),
    ("Null", "aws:username", ["true"]),
    ("StringEqualsIfExists", "aws:username", ["deck"]),
    ("StringEquals", "s3:ExistingObjectTag/a", ["b", "c"]),
    ("StringNotEqualsIfExists", "s3:ExistingObjectTag/a", ["b"]),
)
WHO: tuple[Any, ...] = (
    "*", "*", {"AWS": "*"}, {"AWS": ["arn:aws:iam:::user/deck"]}, {"AWS": ["arn:aws:iam:::user/nobody"]},
    {"AWS": ["arn:aws:iam:::root"]}, {"AWS": ["arn:aws:iam:::user/d*"]}, {"CanonicalUser": ["deck"]},
    {"AWS": ["arn:aws:iam:::user/anonymous"]},
    {"AWS": ["arn:aws:iam:::user/deck:*"]}, {"Federated": ["arn:aws:iam:::user/deck"]}, {"Service": ["deck"]},
    {"AWS": [""]},
)  # fmt: skip
HEADERS: list[dict[str, str]] = [
    {},
    {"Referer": "https://a.example/x", "User-Agent": "probe"},
    {"Referer": "https://b.example/x"},
    {"User-Agent": "browser"},
]


def statement(dice: random.Random, bucket: str) -> dict[str, Any]:
    actions = dice.sample(
        ["s3:GetObject", "s3:PutObject", "s3:ListBucket", "s3:*", "s3:Get*", "s3:*Object", "*:Other", "s3:List*",
         "s3:GetObjectTagging"], 2
    )  # fmt: skip
    names = ["", "/*", "/pub/*", "/pub/x", "/p*", "/?", "/put/*", "/*x", "/p*b/x", "/*/*"]
    made: dict[str, Any] = {
        "Effect": dice.choice(["Allow", "Allow", "Deny"]),
        "Principal": dice.choice(WHO),
        "Action": actions[: dice.randint(1, 2)],
        "Resource": [f"arn:aws:s3:::{bucket}{name}" for name in dice.sample(names, dice.randint(1, 3))],
    }
    if dice.random() < 0.1:
        made["NotAction"] = made.pop("Action")
    if dice.random() < 0.1:
        made["NotResource"] = made.pop("Resource")
    if dice.random() < 0.1:
        del made["Principal"]
        left_out = dice.choice(["user/deck", "user/nobody", "user/deck:*", "group/deck", "*"])
        made["NotPrincipal"] = {dice.choice(["AWS", "AWS", "Service"]): [f"arn:aws:iam:::{left_out}"]}
    for operator, written, values in dice.sample(CONDITIONS, dice.choice([0, 1, 1, 2])):
        key = dice.choice([written] * 7 + [written.lower(), written.replace("aws:", "AWS:").replace("Ip", "IP")])
        said = made.setdefault("Condition", {}).setdefault(operator, {})
        said[key] = dice.sample(values, min(len(values), dice.randint(1, 2)))
    return made


PARAMETERS = ("delimiter", "max-keys", "prefix")
QUERIES = {"s3:ListBucket": ("list-type", "2"), "s3:ListBucketVersions": ("versions", ""),
           "s3:GetObjectTagging": ("tagging", "")}  # fmt: skip
TAGGED = "pub/x"
"""The key of the object that is tagged a=b."""
ASKED: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("s3:GetObject", KEYS), ("s3:PutObject", ("put/1",)), ("s3:GetObjectTagging", (TAGGED,)), ("s3:ListBucket", ("",)),
    ("s3:ListBucketVersions", ("",)),
)  # fmt: skip


def send(gateway: Gateway, request: Request, bucket: str) -> int:
    """Send the request; a second user's is signed."""
    host = gateway.address.removeprefix("http://")
    name, port = host.split(":")
    source = request.context["aws:sourceip"][0]
    headers = {"Referer": "aws:referer", "User-Agent": "aws:useragent"}
    sent = {header: request.context[key][0] for header, key in headers.items() if key in request.context}
    method = "PUT" if request.action == "s3:PutObject" else "GET"
    path = f"/{bucket}" + (f"/{encode(request.key, '/')}" if request.key else "")
    parameters = [(name, request.context[f"s3:{name}"][0]) for name in PARAMETERS if f"s3:{name}" in request.context]
    query = ""
    if request.action in QUERIES:
        query = canonical_query([QUERIES[request.action], *parameters])
    if not request.caller.anonymous:
        key = AccessKey(*gateway.deck)
        extra = {"x-amz-content-sha256": "UNSIGNED-PAYLOAD"} if method == "PUT" else {}
        sent |= sign(key, method, host, path, query, datetime.now(UTC), "us-east-1", extra)
    connection = HTTPConnection(name, int(port), timeout=20, source_address=(source, 0))
    try:
        connection.putrequest(
            method, path + (f"?{query}" if query else ""), skip_host="host" in sent, skip_accept_encoding=True
        )
        for header, value in sent.items():
            connection.putheader(header, value)
        connection.putheader("Content-Length", "0")
        connection.endheaders()
        answer = connection.getresponse()
        answer.read()
        return answer.status
    finally:
        connection.close()


def requests(dice: random.Random) -> list[Request]:
    """A spread of requests for one bucket."""
    made = []
    for caller in (ANONYMOUS, DECK):
        for action, keys in ASKED:
            for key in keys:
                for headers in dice.sample(HEADERS, 3):
                    context = {
                        "aws:sourceip": (dice.choice(ADDRESSES),),
                        "aws:securetransport": ("false",),
                        "aws:currenttime": (datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),),
                    }
                    for header, value in headers.items():
                        context[f"aws:{header.lower().replace('-', '')}"] = (value,)
                    if key == TAGGED:
                        context["s3:existingobjecttag/a"] = ("b",)
                    if action.startswith("s3:List"):
                        parameter, value = dice.choice([("max-keys", "5"), ("max-keys", "2000"), ("prefix", "pub/")])
                        context |= dice.choice([{}, {f"s3:{parameter}": (value,)}])
                    known = always_carried(anonymous=caller.anonymous, arn=caller.arn)
                    named = {} if caller.anonymous else {"aws:principalarn": (caller.arn,)}
                    made.append(Request(action, key, caller, known | named | context))
    return made


def test_decisions_agree_with_the_gateway(gateway: Gateway) -> None:
    dice = random.Random(20261102)
    keeper = gateway.client()
    cases: list[tuple[str, str, Request]] = []
    for number in range(170):
        bucket = f"decided-{number:03d}"
        keeper.create_bucket(Bucket=bucket)
        for key in KEYS:
            keeper.put_object(Bucket=bucket, Key=key, Body=b"x", Tagging="a=b" if key == TAGGED else "")
        statements = [statement(dice, bucket) for _ in range(dice.randint(1, 3))]
        policy = json.dumps({"Version": "2012-10-17", "Statement": statements})
        keeper.put_bucket_policy(Bucket=bucket, Policy=policy)
        cases += [(bucket, policy, request) for request in requests(dice)]
    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(lambda case: send(gateway, case[2], case[0]), cases))
    outcome: Counter[str] = Counter()
    wrong = []
    for (bucket, policy, request), status in zip(cases, answers, strict=True):
        assert status in (200, 403), (status, request)
        said = decide(Rules(bucket, as_read(parse_policy(policy), GATEWAY)), request).allowed
        outcome["unknown" if said is None else "agree" if said is (status == 200) else "differ"] += 1
        outcome["allowed" if status == 200 else "refused"] += 1
        common = decide(Rules(bucket, parse_policy(policy)), request).allowed
        outcome["otherwise by the common reading"] += common is not (status == 200)
        wrong += [] if said in (None, status == 200) else [(policy, request, status)]
    print(f"decisions compared with the gateway: {len(cases)}, {dict(outcome)}")
    assert len(cases) >= 5_000
    assert outcome["allowed"] > 500
    assert not wrong, wrong[:3]
    assert outcome["unknown"] <= len(cases) // 1000
    assert outcome["otherwise by the common reading"] > 100, "the dialect makes no difference"
