"""Roles of a real gateway: whom they let in while it takes their sessions, and that nobody is said to be shut out."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, NamedTuple

import boto3
import pytest
from botocore.exceptions import ClientError

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.admin.role_sessions import NOT_SHOWN, roles_behind
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.real_store import workspace_for

STRANGER, AUDITOR = ("AKFERRYMAN", "sk-ferryman"), ("AKCHURCHWARDEN", "sk-churchwarden")
TAKES_SESSIONS = ("rgw s3 auth use sts = true", "rgw sts key = abcdefghijklmnop")
TRUST = {"Effect": "Allow", "Principal": {"AWS": ["*"]}, "Action": ["sts:AssumeRole"]}
MAY = {"Effect": "Allow", "Action": ["s3:*"], "Resource": "arn:aws:s3:::*"}
BUCKET = "ferry-ledger"


def document(statement: dict[str, Any]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": [statement]})


@pytest.fixture(scope="module")
def coast(gateway: Gateway) -> Gateway:
    """The gateway with a bucket that names nobody, and a role of every permission, which any user may assume."""
    for (key, secret), more in ((STRANGER, ()), (AUDITOR, ("--caps=users=read;buckets=read;metadata=read",))):
        uid = key.removeprefix("AK").lower()
        gateway.admin("user", "create", f"--uid={uid}", "--display-name=X", f"--access-key={key}",
                      f"--secret={secret}", *more)  # fmt: skip
    gateway.admin("role", "create", "--role-name=tollkeeper", f"--assume-role-policy-doc={document(TRUST)}")
    gateway.admin("role-policy", "put", "--role-name=tollkeeper", "--policy-name=all", f"--policy-doc={document(MAY)}")
    gateway.client().create_bucket(Bucket=BUCKET)
    gateway.client().put_object(Bucket=BUCKET, Key="page", Body=b"one passenger")
    return gateway


def session_of(coast: Gateway) -> Any:
    """A client of the role, which the stranger assumes."""
    place = {"endpoint_url": coast.address, "region_name": "us-east-1"}
    service = boto3.client("sts", aws_access_key_id=STRANGER[0], aws_secret_access_key=STRANGER[1], **place)
    given = service.assume_role(RoleArn="arn:aws:iam:::role/tollkeeper", RoleSessionName="crossing")["Credentials"]
    return boto3.client("s3", aws_access_key_id=given["AccessKeyId"], aws_secret_access_key=given["SecretAccessKey"],
                        aws_session_token=given["SessionToken"], **place)  # fmt: skip


def reads(client: Any) -> bool:
    try:
        return bool(client.get_object(Bucket=BUCKET, Key="page")["Body"].read() == b"one passenger")
    except ClientError as error:
        assert error.response["ResponseMetadata"]["HTTPStatusCode"] == 403
        return False


def told(
    coast: Gateway, folder: Path, *, left_over: bool = False
) -> tuple[dict[str, int], list[str], dict[str, dict[Verb, str]]]:
    """What becomes of the requirements that roles let in nobody, and that the stranger does not get in; why it is
    unknown; and which verbs each identity of the store's own has on the bucket."""
    made = workspace_for(folder, coast.address, coast.keeper)
    auditor = f"[default]\naws_access_key_id={AUDITOR[0]}\naws_secret_access_key={AUDITOR[1]}\n"
    auditor += "aws_session_token=left-over\n" if left_over else ""
    (made / "auditor.ini").write_text(auditor)
    with (made / "estate.yaml").open("a") as estate:
        estate.write(f"    doors:\n      admin: {{at: '{coast.address}/admin', credential: {{file: auditor.ini}}}}\n")
    required = "{access.through-roles: nothing, access.ferryman: 'within [delete, change-settings]'}"  # as anybody can
    (made / "baseline.yaml").write_text(f"sheets:\n- sheet: all\n  require: {required}\n")
    assert lantern("survey", "--objects", "all", "--only", f"real/{BUCKET}", cwd=made).code == 0
    judged = json.loads(lantern("audit", "--json", cwd=made).out)
    people = json.loads(lantern("access", f"real/{BUCKET}", "--json", cwd=made).out)["identities"]
    levels = {one["identity"]: one["verbs"] for one in people if BUCKET in one["buckets"]}
    return judged["counts"], [row["reason"] for row in judged["unknown"]], levels


class Crossing(NamedTuple):
    """Whether the role's session read the bucket, and what the program says, with sessions taken or not."""

    passed: bool
    counts: dict[str, int]
    unknown: list[str]
    verbs: dict[str, dict[Verb, str]]


@pytest.fixture(scope="module")
def crossings(coast: Gateway, tmp_path_factory: pytest.TempPathFactory) -> dict[bool, Crossing]:
    """Sessions taken or not → what came of it; the session is the same."""
    folder = tmp_path_factory.mktemp("coast")
    with coast.set_up_with(*TAKES_SESSIONS):
        session = session_of(coast)
        taken = Crossing(reads(session), *told(coast, folder / "taken"))
    return {True: taken, False: Crossing(reads(session), *told(coast, folder / "not", left_over=True))}


def test_a_gateway_that_takes_sessions_of_roles_shuts_nobody_out_for_certain(
    coast: Gateway, crossings: dict[bool, Crossing]
) -> None:
    assert not reads(coast.client(STRANGER))
    assert crossings[True].passed, "the role lets in who is let in by nothing else"
    assert crossings[True].counts == {"ok": 0, "drift": 0, "waived": 0, "unknown": 2}  # of all, and of the user
    assert crossings[True].unknown == [f"who may assume any role: {NOT_SHOWN}"] * 2
    assert crossings[True].verbs["any role"] == dict.fromkeys(VERBS, "unknown")


def test_a_gateway_that_takes_no_sessions_has_no_roles_that_count(crossings: dict[bool, Crossing]) -> None:
    assert not crossings[False].passed
    assert crossings[False].unknown == []
    assert crossings[False].counts == {"ok": 2, "drift": 0, "waived": 0, "unknown": 0}
    assert "any role" not in crossings[False].verbs


def test_where_that_could_not_be_asked_there_may_be_roles() -> None:
    refused: Answer[Any] = Answer(
        "denied", None, "whether the gateway takes sessions of roles is not known: answered 403"
    )
    assert [role.assumable_by for role in roles_behind(refused)] == [refused]
    assert [role.assumable_by.note for role in roles_behind(Answer("known", True))] == [NOT_SHOWN]
    assert roles_behind(Answer("known", False)) == []
