"""ACL kinds, public-access guards and objects' own ACLs, each with each, as the gateway reads them."""

from __future__ import annotations

import contextlib
import json
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.error import HTTPError
from urllib.request import Request as Query
from urllib.request import urlopen

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.facts.bucket_web import any_page_has
from rusty_lantern.core.model.dossier import decode
from tests.conftest import lantern, whole_or
from tests.dialects.settings import POLICIES, Setting, settings
from tests.gateway import Gateway, send_to
from tests.real_store import workspace_for
from tests.test_gateway_decisions import DECK, send

ACTIONS = {"read": ("s3:GetObject", "a.txt"), "list": ("s3:ListBucket", ""), "write": ("s3:PutObject", "new")}


def made(gateway: Gateway, number: int, setting: Setting) -> None:
    """A bucket of this setting."""
    client, bucket = gateway.client(), f"set-{number:03d}"
    client.create_bucket(Bucket=bucket)
    client.put_object(Bucket=bucket, Key="a.txt", Body=b"x")
    client.put_bucket_acl(Bucket=bucket, ACL=setting.acl)
    client.put_object_acl(Bucket=bucket, Key="a.txt", ACL=setting.object_acl)
    statement = POLICIES[setting.policy]
    if statement is not None:
        document = {"Version": "2012-10-17", "Statement": [{**statement, "Resource": f"arn:aws:s3:::{bucket}/*"}]}
        client.put_bucket_policy(Bucket=bucket, Policy=json.dumps(document))
    if setting.guards:
        guards = {name: name in setting.guards for name in
                  ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")}  # fmt: skip
        client.put_public_access_block(Bucket=bucket, PublicAccessBlockConfiguration=guards)


def asked(verb: str, *, signed: bool) -> Request:
    action, key = ACTIONS[verb]
    caller = DECK if signed else ANONYMOUS
    context = always_carried(anonymous=not signed, arn=caller.arn)
    context |= {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",)}
    return Request(action, key, caller, context | ({"aws:principalarn": (caller.arn,)} if signed else {}))


def test_every_setting_with_every_other_is_decided_as_the_gateway_does(gateway: Gateway, tmp_path: Path) -> None:
    rows = settings()[:: whole_or(5, 1)]  # a number that shares no divisor with those of any setting
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda row: made(gateway, *row), enumerate(rows)))
    (tmp_path / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n    objects: {'*': all}\n"
        f"    doors:\n      swift: {{at: '{gateway.address}/swift/v1', credential: {{environment: DOOR}}}}\n"
    )
    secrets = {
        "HARBOUR_ACCESS_KEY_ID": gateway.keeper[0], "HARBOUR_SECRET_ACCESS_KEY": gateway.keeper[1],
        "DOOR_USER": gateway.swift[0], "DOOR_KEY": gateway.swift[1],
    }  # fmt: skip
    (tmp_path / "baseline.yaml").write_text("title: t\nsheets:\n- sheet: all\n  require: {objects.public: none}\n")
    done = lantern("survey", "--only", "harbour/set-*", cwd=tmp_path, **secrets)
    assert done.code == 0, done.err
    dossier = decode(next((tmp_path / "surveys").glob("2*/stores/harbour.json")).read_bytes(), "harbour.json")
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets}
    outcome, wrong = Counter[str](), []
    for number, row in enumerate(rows):
        bucket = f"set-{number:03d}"
        for verb in ("read", "list", "write"):
            for signed in (False, True):
                passed = send(gateway, asked(verb, signed=signed), bucket) == 200
                said = decide(rules[bucket], asked(verb, signed=signed)).allowed
                outcome["passed" if passed else "refused"] += 1
                outcome["unknown" if said is None else "agrees" if said is passed else "differs"] += 1
                if said is (not passed):
                    who = "a user" if signed else "nobody"
                    wrong.append(f"{row.name}: {verb} by {who} passes: {passed}, the dialect says {said}")
    print(dict(outcome))
    assert not wrong, "\n".join([str(dict(outcome)), *wrong[:40]])
    assert outcome["unknown"] == 0
    assert min(outcome["passed"], outcome["refused"]) >= whole_or(60, 300), outcome


def test_objects_that_a_deny_spares_are_not_closed_by_the_first_one_that_it_refuses(
    gateway: Gateway, tmp_path: Path
) -> None:
    client: Any = gateway.client()
    client.create_bucket(Bucket="spared")
    for key in ("a", "b"):
        client.put_object(Bucket="spared", Key=key, Body=b"1", ACL="public-read")
    me = {"AWS": f"arn:aws:iam:::user/{gateway.swift[0].partition(':')[0]}"}
    deny = {"Effect": "Deny", "NotPrincipal": me, "Action": "s3:*", "Resource": "arn:aws:s3:::spared/a*"}
    client.put_bucket_policy(Bucket="spared", Policy=json.dumps({"Version": "2012-10-17", "Statement": [deny]}))
    passing = []
    for key in ("a", "b"):
        with contextlib.suppress(HTTPError), urlopen(f"{gateway.address}/spared/{key}", timeout=60) as answer:
            passing.append((key, answer.status))
    assert passing == [("b", 200)]
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    assert lantern("survey", "--only", "real/spared", "--objects", "all", cwd=folder).code == 0
    shown = json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"][0]["exposure"]["anyone"]["read"]
    assert shown["verdict"] == "unknown", shown


def test_under_the_guard_on_new_acls_the_request_that_is_shown_is_a_copy(gateway: Gateway, tmp_path: Path) -> None:
    client: Any = gateway.client()
    anybody = {"Effect": "Allow", "Principal": "*", "Action": ["s3:PutObject", "s3:GetObject"]}
    for name in ("copies", "uploads"):
        client.create_bucket(Bucket=name)
        client.put_object(Bucket=name, Key="a", Body=b"1")
        statement = anybody | {"Resource": f"arn:aws:s3:::{name}/*"}
        client.put_bucket_policy(Bucket=name, Policy=json.dumps({"Version": "2012-10-17", "Statement": [statement]}))
    names = ("IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")
    client.put_public_access_block(
        Bucket="copies", PublicAccessBlockConfiguration={"BlockPublicAcls": True} | dict.fromkeys(names, False)
    )
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper)
    assert lantern("survey", "--only", "real/copies", "--only", "real/uploads", cwd=folder).code == 0
    rows = json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]
    shown = {row["bucket"]: row["exposure"]["anyone"]["write"] for row in rows}
    assert {verdict["verdict"] for verdict in shown.values()} == {"open"}
    by_copy = {"x-amz-copy-source": "(any object that the caller may read)"}
    assert [shown[name]["witness"].get("headers", {}) for name in ("copies", "uploads")] == [by_copy, {}]
    dossier = decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")
    denied = [
        msgspec.structs.replace(bucket, public_access_guards=Answer("denied", None, "denied"))
        for bucket in dossier.buckets
    ]
    unread = views([msgspec.structs.replace(dossier, buckets=denied)], None, dossier.taken)
    assert {view.bucket.name: view.rules.takes_copies_alone for view in unread} == {"copies": True, "uploads": True}
    assert {view.verdicts["anyone", "write"].level for view in unread} == {"unknown"}
    copied = {"x-amz-copy-source": "/copies/a"}
    answers = [send_to(gateway.address, None, "PUT", f"/copies/{k}", "", h)[0] for k, h in (("b", {}), ("c", copied))]
    assert answers == [403, 200]
    assert send_to(gateway.address, None, "PUT", "/uploads/b")[0] == 200


HOSTILE = (
    "https://evil.test", "http://evil.test:8443", "null", "https://evilsaltmarsh.example", "https://saltmarsh.evil",
    "https://saltmarsh.example.evil.test",
)  # fmt: skip
"""Origins that an attacker's page can have."""
ORIGINS = (
    "*", "null", "https://*", "http*", "*:8443", "*saltmarsh.example", "https://*saltmarsh.example", "https://saltmarsh.*",
    "https://saltmarsh.example*", "*.test", "https://*.saltmarsh.example", "*.saltmarsh.example", "*://saltmarsh.example",
    "https://saltmarsh.example:*", "https://a*.saltmarsh.example", "https://saltmarsh.example",
)  # fmt: skip


def test_origins_that_any_page_can_have_are_those_that_the_gateway_lets_in(gateway: Gateway) -> None:
    client = gateway.client()
    client.create_bucket(Bucket="origins")
    let_in = set()
    for form in ORIGINS:
        rule = {"AllowedOrigins": [form], "AllowedMethods": ["GET"]}
        client.put_bucket_cors(Bucket="origins", CORSConfiguration={"CORSRules": [rule]})
        for page in HOSTILE:
            # refused or not, the answer says whether the page may have it
            try:
                told = urlopen(Query(f"{gateway.address}/origins/", headers={"Origin": page})).headers
            except HTTPError as refused:
                told = refused.headers
            let_in |= {form} if told["access-control-allow-origin"] else set()
    assert let_in == {form for form in ORIGINS if any_page_has(form)}
