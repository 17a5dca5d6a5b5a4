"""Where the requester pays, who gets in without credentials at a real gateway: by a policy, some do all the same."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from rusty_lantern.core.access.dialects.shipped import GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.model.dossier import decode
from tests.conftest import lantern
from tests.gateway import Gateway, send_to
from tests.gateway_actions import ASKED, ask, request_of
from tests.real_store import workspace_for
from tests.swift_server import SwiftDoor

NOT_THERE = ("s3:RestoreObject", "s3:PutReplicationConfiguration")
"""Actions that this release answers alike whoever asks."""
FORMS: dict[str, dict[str, Any]] = {
    "policy": {"policy": True},
    "acl": {"acl": "public-read-write"},
    "both": {"policy": True, "acl": "public-read-write"},
    "object": {"object": "public-read-write"},
    "container": {"headers": {"X-Container-Read": ".r:*,.rlistings", "X-Container-Write": "*"}},
}
"""What lets everybody into a bucket."""


def name_of(form: str, payer: str) -> str:
    return f"payers-{form}-{payer.lower()}"


def lay_out(gateway: Gateway, swift: SwiftDoor, form: str, payer: str) -> None:
    bucket, client, opened = name_of(form, payer), gateway.client(), FORMS[form]
    client.create_bucket(Bucket=bucket, ACL=opened.get("acl", "private"))
    for key in ("k", "d1", "d2", "d3"):
        client.put_object(Bucket=bucket, Key=key, Body=b"x", ACL=opened.get("object", "private"))
    if "policy" in opened:
        said = {"Effect": "Allow", "Principal": "*", "Action": "s3:*",
                "Resource": [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]}  # fmt: skip
        client.put_bucket_policy(Bucket=bucket, Policy=json.dumps({"Version": "2012-10-17", "Statement": said}))
    if "headers" in opened:
        assert swift.send("POST", f"/{bucket}", gateway.swift, opened["headers"])[0] == 204
    client.put_bucket_request_payment(Bucket=bucket, RequestPaymentConfiguration={"Payer": payer})


@pytest.fixture(scope="module")
def folder(gateway: Gateway, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A survey of buckets of each form, for which their owner pays, and for which the requester does."""
    swift = SwiftDoor(f"{gateway.address}/swift/v1")
    swift.token(gateway.swift)
    for form in FORMS:
        for payer in ("BucketOwner", "Requester"):
            lay_out(gateway, swift, form, payer)
    made = workspace_for(tmp_path_factory.mktemp("payers") / "w", gateway.address, gateway.keeper, gateway.swift)
    (made / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    assert lantern("survey", "--objects", "all", cwd=made).code in (0, 3)
    return made


@pytest.mark.parametrize("form", FORMS)
def test_who_gets_in_without_credentials_is_who_does_on_the_gateway(gateway: Gateway, folder: Path, form: str) -> None:
    dossier = decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")
    bucket = next(one for one in dossier.buckets if one.name == name_of(form, "Requester"))
    rules, wrong, let_in = rules_of(bucket, dossier), [], set()
    for action in ASKED:
        if action.name not in NOT_THERE:
            passed = ask(gateway, None, bucket.name, action) != 403
            said = decide(rules, request_of(action, ANONYMOUS)).allowed
            wrong += [] if said is passed else [(action.name, passed, said)]
            let_in |= {action.name} if passed else set()
    assert not wrong, wrong
    not_asked = {action.name for action in ASKED} & {*GATEWAY.readings.payer_not_asked}
    assert let_in == (not_asked if "policy" in FORMS[form] else set())
    read = ask(gateway, None, name_of(form, "BucketOwner"), ACTIONS["s3:GetObject"])
    listed = ask(gateway, None, name_of(form, "BucketOwner"), ACTIONS["s3:ListBucket"])
    assert 200 in (read, listed)  # where the owner pays, it does let them in


def test_the_verdicts_say_so_and_the_server_lets_their_witness_in(gateway: Gateway, folder: Path) -> None:
    rows = json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]
    said = {row["bucket"]: row["exposure"] for row in rows}
    paid = said[name_of("policy", "Requester")]
    open_to = {who: {verb for verb, one in paid[who].items() if one["verdict"] == "open"} for who in paid}
    closed = {verb for verb, one in paid["anyone"].items() if one["verdict"] == "closed"}
    assert {"write", "delete", "change-settings", "read-settings"} <= open_to["anyone"]
    assert closed == {"list", "read"} and closed <= open_to["any-account"]
    method, path = paid["anyone"]["write"]["witness"]["request"].split()[:2]
    assert method == "PUT" and send_to(gateway.address, None, method, path, "", {}, b"1")[0] == 200
    by_acl = said[name_of("acl", "Requester")]
    assert {by_acl["anyone"][verb]["verdict"] for verb in ("list", "read", "write")} == {"closed"}
    assert by_acl["any-account"]["write"]["verdict"] == "open"


@pytest.mark.parametrize(("form", "deletes"), [("policy", True), ("acl", False)])
def test_several_objects_at_once_are_deleted_like_one(gateway: Gateway, folder: Path, form: str, deletes: bool) -> None:
    bucket = name_of(form, "Requester")
    gateway.client().put_object(Bucket=bucket, Key="several", Body=b"x")
    both = b"<Delete><Object><Key>several</Key></Object></Delete>"
    send_to(gateway.address, None, "POST", f"/{bucket}", "delete", {}, both)
    left = gateway.client().list_objects_v2(Bucket=bucket, Prefix="several")["KeyCount"]
    assert (left == 0) is deletes
