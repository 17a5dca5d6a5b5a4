"""The permissions that the docs say are enough are enough for the real gateway, and what is left out is denied."""

from __future__ import annotations

import contextlib
import json
import re
from pathlib import Path
from typing import Any

import boto3
from botocore.exceptions import ClientError

from rusty_lantern.core.access.dialects.shipped import GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import Policy, parse_policy
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.identity_policies import StoreSoftware, policies_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.test_gateway_decisions import DECK

PAGE = Path(__file__).parent.parent / "docs/permissions.md"


def documented() -> list[str]:
    block = re.search(r"```json\n(.*?)```", PAGE.read_text(), re.DOTALL)
    assert block is not None
    actions: list[str] = json.loads(block[1])["Statement"][0]["Action"]
    return actions


def denied(gateway: Gateway, folder: Path, moment: str) -> set[str]:
    """The answers of the bucket that the survey is refused."""
    access, secret = gateway.keeper
    ran = lantern(
        "survey", "--as-of", moment, cwd=folder, HARBOUR_ACCESS_KEY_ID=access, HARBOUR_SECRET_ACCESS_KEY=secret
    )
    assert ran.code in (0, 3), ran.err
    [kept] = (folder / "surveys").glob(f"{moment.replace('-', '').replace(':', '')}/stores/harbour.json")
    [bucket] = json.loads(kept.read_text())["buckets"]
    return {name for name, one in bucket.items() if isinstance(one, dict) and one.get("state") == "denied"}


def own_policies(gateway: Gateway) -> tuple[str, Any]:
    """The name of the gateway's user, who has no policy of its own, and a client that can give it one."""
    name, (access, secret) = gateway.swift[0].partition(":")[0], gateway.keeper
    gateway.admin("caps", "add", f"--uid={name}", "--caps=user-policy=*")
    client = boto3.client(
        "iam", endpoint_url=gateway.address, aws_access_key_id=access, aws_secret_access_key=secret,
        region_name="us-east-1",
    )  # fmt: skip
    with contextlib.suppress(ClientError):
        client.delete_user_policy(UserName=name, PolicyName="survey")
    return name, client


def test_what_the_docs_ask_for_is_enough_and_what_is_missing_is_denied(gateway: Gateway, tmp_path: Path) -> None:
    client: Any = gateway.client()
    client.create_bucket(Bucket="ledger", ObjectLockEnabledForBucket=True)
    client.put_bucket_tagging(Bucket="ledger", Tagging={"TagSet": [{"Key": "steward", "Value": "finance"}]})
    (tmp_path / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n"
    )
    assert denied(gateway, tmp_path, "2026-11-02T06:00:00Z") == set()
    name, identities = own_policies(gateway)

    def deny(*actions: str) -> None:
        statement = {"Effect": "Deny", "Action": actions, "Resource": "*"}
        policy = json.dumps({"Version": "2012-10-17", "Statement": [statement]})
        identities.put_user_policy(UserName=name, PolicyName="survey", PolicyDocument=policy)

    def takes(action: str) -> bool:
        with contextlib.suppress(ClientError):
            deny(action)
            return True
        return False

    asked = documented()
    unknown = {action for action in asked if not takes(action)}
    assert unknown and all(f"`{action}`" in PAGE.read_text() for action in unknown), unknown
    others = [action for action in ACTIONS if action not in asked and takes(action)]
    assert len(others) > 40
    deny(*others)
    assert denied(gateway, tmp_path, "2026-11-02T06:00:01Z") == set()
    deny(*others, "s3:GetBucketTagging")
    assert denied(gateway, tmp_path, "2026-11-02T06:00:02Z") == {"tags"}
    deny(*others, *(action for action in asked if action not in unknown and action != "s3:ListAllMyBuckets"))
    assert len(denied(gateway, tmp_path, "2026-11-02T06:00:03Z")) > 10


DENIALS: list[dict[str, Any]] = [
    {"Action": "s3:GetBucketTagging"},
    {"Action": "s3:GetBucketAcl"},
    {"NotAction": ["s3:ListBucket"]},
    {"Action": "s3:GetBucketTagging", "Condition": {"Bool": {"aws:SecureTransport": "false"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"StringNotEquals": {"s3:x-amz-acl": "private"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"StringNotEquals": {"aws:UserAgent": ["a", "b"]}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"Null": {"s3:x-amz-acl": "true"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"Null": {"s3:x-amz-acl": "false"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"NumericGreaterThan": {"aws:EpochTime": "1"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"IpAddress": {"aws:SourceIp": "127.0.0.0/8"}}},
    {"Action": "s3:GetBucketTagging", "Condition": {"NotIpAddress": {"aws:SourceIp": "127.0.0.0/8"}}},
]


def test_a_users_own_permissions_are_read_as_the_gateway_reads_them(gateway: Gateway) -> None:
    """By the dialect of bucket policies: the owner of a bucket, refused by what is attached to the owner alone."""
    name, identities = own_policies(gateway)
    client: Any = gateway.client()
    client.create_bucket(Bucket="own-side")
    client.put_bucket_tagging(Bucket="own-side", Tagging={"TagSet": [{"Key": "a", "Value": "b"}]})
    software = StoreSoftware(Answer("known", Software("an object gateway", dialect=GATEWAY.dialect)))
    asked = Request(
        "s3:GetBucketTagging", "", DECK,
        always_carried(anonymous=False, arn=DECK.arn)
        | {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",), "aws:epochtime": ("1790000000",),
           "aws:useragent": ("Boto3",)},
    )  # fmt: skip
    told = []
    for denial in DENIALS:
        text = json.dumps({"Version": "2012-10-17", "Statement": [{"Effect": "Deny", "Resource": "*"} | denial]})
        identities.put_user_policy(UserName=name, PolicyName="survey", PolicyDocument=text)
        try:
            client.get_bucket_tagging(Bucket="own-side")
            passes = True
        except ClientError as error:
            assert error.response["Error"]["Code"] == "AccessDenied", error.response
            passes = False
        owner = Identity(name="owner", policies=Answer("known", [AttachedPolicy("survey", text)]))
        said = []
        for answers in (software, StoreSoftware()):
            side = policies_of(owner, {}, [], answers=answers)
            everything = parse_policy(json.dumps({"Statement": [{"Effect": "Allow", "Principal": "*", "Action": "*",
                                                                 "Resource": "*"}]}))  # fmt: skip
            rules = Rules("own-side", Policy((*everything.statements, *side.statements)))
            said.append(decide(rules, asked).allowed)
        told.append((denial, passes, *said))
    assert [one for one in told if one[1] is not one[2]] == [], (
        "our reading by the dialect, beside the gateway's answer"
    )
    assert [one for one in told if one[1] is not one[3]], "the common reading would be wrong somewhere"
