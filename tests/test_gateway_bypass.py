"""Who bypasses governance at the real gateway: random policies, ACLs and own permissions; one object, and several."""

from __future__ import annotations

import itertools
import json
import random
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import boto3
from botocore import UNSIGNED
from botocore.config import Config
from botocore.exceptions import ClientError

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.condition_keys import ARN, SEVERAL, always_carried
from rusty_lantern.core.access.rules.bucket_rules import Rules, rules_of
from rusty_lantern.core.access.rules.identity_policies import StoreSoftware, combined_rules, policies_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier, decode
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from tests.conftest import lantern, whole_or
from tests.gateway import Gateway, standard_client
from tests.real_store import workspace_for

BYPASS = "s3:BypassGovernanceRetention"
ACTIONS = (
    [BYPASS], [BYPASS], ["s3:DeleteObject", "s3:DeleteObjectVersion"], ["s3:DeleteObjectVersion"], ["s3:DeleteObject"],
    ["s3:Delete*"], ["s3:Bypass*", "s3:DeleteObjectVersion"], ["s3:*GovernanceRetention", "s3:GetObject"], ["s3:*"],
)  # fmt: skip
RESOURCES = (["{}/*"], ["{}/*"], ["{}"], ["{}", "{}/*"], ["{}*"], ["*"], ["{}/g*"], ["other/*", "{}"])
OWN = (
    [("Allow", ["s3:DeleteObject", "s3:DeleteObjectVersion"], "*")], [("Allow", ["s3:DeleteObjectVersion"], "*")],
    [("Allow", ["s3:*"], "*")], [("Allow", ["s3:Delete*"], "*"), ("Deny", [BYPASS], "arn:aws:s3:::*/*")],
)  # fmt: skip
"""Own permissions: a user of each."""


def statement(dice: random.Random, bucket: str) -> dict[str, Any]:
    effect = dice.choice(["Allow", "Allow", "Deny"])
    actions = dice.choice([one for one in ACTIONS if effect == "Allow" or one != ["s3:*"]])
    names = [name.format(bucket) for name in dice.choice(RESOURCES)]
    return {
        "Effect": effect,
        "Principal": dice.choice(["*", {"AWS": ["arn:aws:iam:::user/bypasser"]}]),
        "Action": actions,
        "Resource": [name if name == "*" else f"arn:aws:s3:::{name}" for name in names],
    }


def laid_out(gateway: Gateway, bucket: str, number: int) -> dict[str, Any]:
    """A bucket with lock, and random rules; what they are, for a message."""
    dice, client = random.Random(number), gateway.client()
    client.create_bucket(Bucket=bucket, ObjectLockEnabledForBucket=True)
    acl = dice.choice(["private", "private", "public-read-write"])
    client.put_bucket_acl(Bucket=bucket, ACL=acl)
    statements = [statement(dice, bucket) for _ in range(dice.randint(1, 4))]
    client.put_bucket_policy(Bucket=bucket, Policy=json.dumps({"Version": "2012-10-17", "Statement": statements}))
    return {"acl": acl, "policy": [(s["Effect"], s["Principal"], s["Action"], s["Resource"]) for s in statements]}


def passes(owner: Any, client: Any, bucket: str, key: str, *, several: bool) -> bool:
    """Whether a version under governance is gone after the client has tried to delete it with a bypass."""
    until = datetime.now(UTC) + timedelta(hours=1)
    locked = {"ObjectLockMode": "GOVERNANCE", "ObjectLockRetainUntilDate": until}
    version = owner.put_object(Bucket=bucket, Key=key, Body=b"x", **locked)["VersionId"]
    one = {"Key": key, "VersionId": version}
    try:
        if several:
            client.delete_objects(Bucket=bucket, Delete={"Objects": [one]}, BypassGovernanceRetention=True)
        else:
            client.delete_object(Bucket=bucket, **one, BypassGovernanceRetention=True)
    except ClientError as error:
        assert error.response["Error"]["Code"] == "AccessDenied"
    left = owner.list_object_versions(Bucket=bucket, Prefix=key).get("Versions", [])
    return version not in [found["VersionId"] for found in left]


def own_document(own: list[tuple[str, list[str], str]]) -> str:
    statements = [{"Effect": effect, "Action": actions, "Resource": names} for effect, actions, names in own]
    return json.dumps({"Version": "2012-10-17", "Statement": statements})


def users(gateway: Gateway) -> dict[str, Any]:
    """The users by name, each with a client."""
    gateway.admin("user", "create", "--uid=warden", "--display-name=W", "--access-key=AKWARDEN",
                  "--secret=sk-warden", "--caps=user-policy=*")  # fmt: skip
    clients = {}
    for name in ("bypasser", *(f"bypasser-{n}" for n in range(len(OWN)))):
        named = (f"--uid={name}", "--display-name=B", f"--access-key=AK{name}", f"--secret=sk-{name}")
        gateway.admin("user", "create", *named)
        clients[name] = standard_client(gateway.address, f"AK{name}", f"sk-{name}")
    identities = boto3.client("iam", endpoint_url=gateway.address, region_name="us-east-1",
                              aws_access_key_id="AKWARDEN", aws_secret_access_key="sk-warden")  # fmt: skip
    for number, own in enumerate(OWN):
        identities.put_user_policy(UserName=f"bypasser-{number}", PolicyName="p", PolicyDocument=own_document(own))
    return clients


def said(rules: Rules, caller: Caller, *, several: bool) -> bool | None:
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn)
    context |= {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",)}
    context |= {SEVERAL: ("true",)} if several else {}
    return decide(rules, Request(BYPASS, "g", caller, context | ({ARN: (caller.arn,)} if caller.arn else {}))).allowed


def of_user(rules: Rules, dossier: Dossier, name: str) -> Rules:
    """The rules of a bucket together with a user's own permissions."""
    number = name.partition("-")[2]
    attached = [AttachedPolicy("p", own_document(OWN[int(number)]))] if number else []
    identity = Identity(name=name, resource=f"arn:aws:iam:::user/{name}", policies=Answer("known", attached))
    policies = policies_of(identity, {}, (), answers=StoreSoftware(dossier.software))
    return combined_rules(rules, policies, "")


def test_who_bypasses_governance_is_who_does_on_the_gateway(gateway: Gateway, tmp_path: Path) -> None:
    count = whole_or(40, 200)
    buckets = {f"bypass-{n}": n for n in range(count)}
    with ThreadPoolExecutor(4) as pool:
        how = dict(zip(buckets, pool.map(lambda one: laid_out(gateway, *one), buckets.items()), strict=True))
    clients = users(gateway)
    unsigned = Config(signature_version=UNSIGNED, s3={"addressing_style": "path"})
    clients[""] = boto3.client("s3", endpoint_url=gateway.address, region_name="us-east-1", config=unsigned)
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    assert lantern("survey", "--only", "real/bypass-*", cwd=folder).code == 0
    dossier = decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets}
    cases = [(b, name, several) for b in buckets for name in clients for several in (False, True)]
    owner = gateway.client()
    with ThreadPoolExecutor(4) as pool:
        gone = list(pool.map(lambda c: passes(owner, clients[c[1]], c[0], f"g{c[1]}{c[2]}", several=c[2]), cases))
    passed = dict(zip(cases, gone, strict=True))
    outcome, wrong = Counter[str](), []
    for bucket, name in itertools.product(buckets, clients):
        caller = Caller("", f"arn:aws:iam:::user/{name}", name) if name else ANONYMOUS
        mine = of_user(rules[bucket], dossier, name) if name else rules[bucket]
        ways = {several: passed[bucket, name, several] for several in (False, True)}
        decided = {several: said(mine, caller, several=several) for several in ways}
        verdict = True if True in decided.values() else None if None in decided.values() else False
        outcome[f"{verdict} {'passed' if any(ways.values()) else 'refused'}"] += 1
        shut = [several for several in ways if ways[several] and decided[several] is False]
        if shut or verdict is (not any(ways.values())):
            wrong.append(f"{name or 'nobody'}: passed {ways}, decided {decided}, {how[bucket]}")
    print(dict(outcome), *wrong, sep="\n")
    assert not wrong, (len(wrong), "\n".join(wrong[:20]))
    assert outcome["True passed"] > 2 * count, outcome
    assert outcome["None passed"] + outcome["None refused"] < 0.2 * outcome.total(), outcome
