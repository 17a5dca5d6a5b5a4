"""The permissions that the docs say are enough are enough for the real gateway, and what is left out is denied."""

from __future__ import annotations

import contextlib
import json
import re
from pathlib import Path
from typing import Any

import boto3
from botocore.exceptions import ClientError

from rusty_lantern.core.access.policy.actions import ACTIONS
from tests.conftest import lantern
from tests.gateway import Gateway

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


def test_what_the_docs_ask_for_is_enough_and_what_is_missing_is_denied(gateway: Gateway, tmp_path: Path) -> None:
    client: Any = gateway.client()
    client.create_bucket(Bucket="ledger", ObjectLockEnabledForBucket=True)
    client.put_bucket_tagging(Bucket="ledger", Tagging={"TagSet": [{"Key": "steward", "Value": "finance"}]})
    (tmp_path / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n"
    )
    assert denied(gateway, tmp_path, "2026-11-02T06:00:00Z") == set()
    name = gateway.swift[0].partition(":")[0]
    gateway.admin("caps", "add", f"--uid={name}", "--caps=user-policy=*")
    access, secret = gateway.keeper
    identities = boto3.client(
        "iam", endpoint_url=gateway.address, aws_access_key_id=access, aws_secret_access_key=secret,
        region_name="us-east-1",
    )  # fmt: skip

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
