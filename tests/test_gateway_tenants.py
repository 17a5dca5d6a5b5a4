"""A gateway with tenants: whom policies name there by account, by resource name and by id, as the gateway answers."""

from __future__ import annotations

import http.client
import itertools
import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials

from rusty_lantern.archive.workspace import make
from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import GATEWAY
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import user_named
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.dossier import decode
from tests.conftest import Ran, lantern
from tests.gateway import Gateway

BUCKET, KEY = "shared-tides", "k"
TENANT = "fen"
PEOPLE = {"stranger": "", "warden": TENANT, "wader": TENANT}
"""User → the tenant; none of them owns the bucket."""
NAMES = {user: f"arn:aws:iam::{tenant}:user/{user}" for user, tenant in PEOPLE.items()}
WHOM: list[Any] = [
    "*", {"AWS": "arn:aws:iam:::root"}, {"AWS": f"arn:aws:iam::{TENANT}:root"}, {"AWS": TENANT},
    {"AWS": "arn:aws:iam::dune:root"}, {"AWS": NAMES["stranger"]}, {"AWS": NAMES["warden"]},
    {"AWS": "arn:aws-cn:iam:::root"}, {"AWS": "arn:aws:sts:::user/stranger"}, {"AWS": f"arn:aws:iam:x:{TENANT}:root"},
    {"AWS": [NAMES["warden"], NAMES["stranger"]]}, {"AWS": ["arn:aws:iam:::root", NAMES["wader"]]},
    {"AWS": ""}, {"AWS": "stranger"}, {"AWS": f"{NAMES['warden']}:*"}, {"AWS": "arn:aws:iam:::user/*"},
    {"AWS": "arn:aws:iam::*:user/stranger"}, {"AWS": "arn:aws:iam:::group/stranger"}, {"AWS": "user/stranger"},
    {"Federated": NAMES["warden"]}, {"Federated": TENANT}, {"Federated": "*"}, {"Federated": f"{NAMES['stranger']}:*"},
    {"Service": NAMES["stranger"]}, {"Service": f"{NAMES['stranger']}:*", "AWS": NAMES["warden"]},
    {"CanonicalUser": "stranger"}, {"AWS": ["arn:aws:iam::*:root", NAMES["wader"]], "Federated": "stranger:x"},
]  # fmt: skip


def _statement(effect: str, element: str, whom: object) -> dict[str, object]:
    return {"Effect": effect, element: whom, "Action": "s3:GetObject", "Resource": f"arn:aws:s3:::{BUCKET}/*"}


def policies() -> Iterator[list[dict[str, object]]]:
    for element, whom in itertools.product(("Principal", "NotPrincipal"), WHOM):
        yield [_statement("Allow", element, whom)]
        yield [_statement("Allow", "Principal", "*"), _statement("Deny", element, whom)]


@pytest.fixture(scope="module")
def people(gateway: Gateway) -> Gateway:
    for user, tenant in PEOPLE.items():
        names = [f"--uid={user}", f"--display-name={user}", f"--access-key=AK{user}", f"--secret=sk-{user}"]
        gateway.admin("user", "create", *names, *([f"--tenant={tenant}"] if tenant else []))
    keeper = gateway.client()
    keeper.create_bucket(Bucket=BUCKET)
    keeper.put_object(Bucket=BUCKET, Key=KEY, Body=b"1")
    return gateway


def asked(gateway: Gateway, user: str, path: str) -> bool:
    """Whether the gateway lets a user in, or anybody. A bucket of no tenant is named to tenants with `:` before it."""
    host = gateway.address.removeprefix("http://")
    request = AWSRequest("GET", f"{gateway.address}{path}")
    if user:
        S3SigV4Auth(Credentials(f"AK{user}", f"sk-{user}"), "s3", "us-east-1").add_auth(request)
    connection = http.client.HTTPConnection(host, timeout=60)
    connection.request("GET", path, headers=dict(request.headers))
    answer = connection.getresponse()
    answer.read()
    connection.close()
    assert answer.status in (200, 403), answer.status
    return answer.status == 200


def request_of(user: str) -> Request:
    who = user_named(NAMES[user]) if user else None
    caller = Caller(who.account, who.arn, who.label) if who else Caller()
    named = {"aws:principalarn": (caller.arn,)} if user else {}
    return Request("s3:GetObject", KEY, caller, always_carried(anonymous=not user, arn=caller.arn) | named)


def test_whom_a_policy_names_is_let_in_or_kept_out_as_the_gateway_does_it(people: Gateway) -> None:
    keeper, around, wrong, closed = people.client(), EvaluationContext(datetime.now(UTC)), [], 0
    for statements in policies():
        text = json.dumps({"Version": "2012-10-17", "Statement": statements})
        keeper.put_bucket_policy(Bucket=BUCKET, Policy=text)
        rules = Rules(BUCKET, as_read(parse_policy(text), GATEWAY), ids_are_names=True)
        let_in = {user: asked(people, user, f"/%3A{BUCKET}/{KEY}") for user in ("", *PEOPLE)}
        verdicts = exposures(rules, around)
        levels = {user: verdicts["anyone", "read"].level if not user
                  else reach_of(user_named(NAMES[user]), rules, around, Budget(10**7))["read"].level
                  for user in let_in}  # fmt: skip
        for user, passed in let_in.items():
            said = decide(rules, request_of(user)).allowed
            if said is not passed or (levels[user] != "closed") is not passed:
                wrong.append((text, user, passed, said, levels[user]))
        if verdicts["any-account", "read"].level == "closed":
            closed += 1
            strangers = {user for user in PEOPLE if let_in[user] and f"user/{user}" not in text and TENANT not in text}
            assert not strangers, text
    keeper.delete_bucket_policy(Bucket=BUCKET)
    assert (wrong, closed > 5) == ([], True)


RESOURCES = (
    "arn:aws:s3:::{}/*", "arn:aws:s3::fen:{}/*", "arn:aws:s3::*:{}/*", "arn:aws:s3:*:*:{}/*", "arn:aws:s3::fen:*", "*",
    "arn:*:*:*:*:{}/*", "arn:aws:s3:here::{}/*", "arn:aws-cn:s3:::{}/*", "arn:aws:*:::{}/*", "arn:aws:s3:::w*",
)  # fmt: skip


def test_a_tenants_bucket_is_open_to_whom_the_gateway_lets_in_whichever_way_its_policy_names_it(
    people: Gateway, tmp_path: Path
) -> None:
    """By its owner's own key, and by the administration door alone, which tells it with its tenant before its name."""
    warden = people.client(("AKwarden", "sk-warden"))
    let_in: dict[tuple[str, str], bool] = {}
    for number, (element, resource) in enumerate(itertools.product(("Resource", "NotResource"), RESOURCES)):
        bucket = f"wet-{number}"
        statement = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", element: resource.format(bucket)}
        text = json.dumps({"Version": "2012-10-17", "Statement": [statement]})
        warden.create_bucket(Bucket=bucket)
        warden.put_object(Bucket=bucket, Key=KEY, Body=b"1")
        warden.put_bucket_policy(Bucket=bucket, Policy=text)
        let_in[bucket, text] = asked(people, "", f"/{TENANT}%3A{bucket}/{KEY}")
    assert set(let_in.values()) == {True, False}
    allow_to_audit(people)
    login = f"--subuser={TENANT}$warden:swift", "--access=full", "--key-type=swift", "--secret=sk-swift-000"
    people.admin("subuser", "create", f"--uid={TENANT}$warden", *login)
    keys = {"own": ("AKwarden", "sk-warden", f"{TENANT}$warden:swift"), "by-admin": (*people.keeper, people.swift[0])}
    for name, (key, secret, user) in keys.items():
        folder = tmp_path / name
        make(folder, {"baseline.yaml": ("title: t\nsheets: [{sheet: s, require: {exposure.read: closed}}]\n", 0o644),
                      "estate.yaml": (_estate(people, admin=name == "by-admin"), 0o644)})  # fmt: skip
        shown_key = {"M_ACCESS_KEY_ID": key, "M_SECRET_ACCESS_KEY": secret, "S_USER": user, "S_KEY": "sk-swift-000"}
        assert lantern("survey", "--only", "marsh/*wet-*", cwd=folder, **shown_key).code == 0
        (saved,) = folder.glob("surveys/*/stores/marsh.json")
        store = decode(saved.read_bytes(), saved.name)
        paid_by_owner: Answer[bool] = Answer("absent")
        buckets = {one.name: msgspec.structs.replace(one, requester_pays=paid_by_owner) for one in store.buckets}
        for (bucket, text), passed in let_in.items():
            rules = rules_of(buckets[bucket if name == "own" else f"{TENANT}:{bucket}"], store)
            said = exposures(rules, EvaluationContext(datetime.now(UTC)))["anyone", "read"].level
            assert (said == "open") is passed, (name, text, said)  # not closed: objects may have ACLs of their own
    rows = json.loads(lantern("access", "--json", cwd=tmp_path / "by-admin").out)["access"]
    named = {row["identity"]: (row["inside"], row["identities"]) for row in rows if row["bucket"].startswith(TENANT)}
    assert named.pop(f"{TENANT}$warden") == (True, None), "one of the store's own users, by the name that it has there"
    assert named.keys() <= {TENANT}, "bulk deletion lets in its tenant"
    assert [inside for inside, _ in named.values()] == [True]


def test_an_acl_that_names_a_user_by_id_lets_in_whom_a_policy_names_by_resource_name(
    people: Gateway, tmp_path: Path
) -> None:
    """Asked for by either name, and told of once."""
    keeper = people.client()
    owner = keeper.get_bucket_acl(Bucket=BUCKET)["Owner"]["ID"]
    ids = [owner, "stranger", f"{TENANT}$warden"]
    permissions = ["FULL_CONTROL", "READ", "READ"]
    grants = [{"Grantee": {"Type": "CanonicalUser", "ID": one}, "Permission": given}
              for one, given in zip(ids, permissions, strict=True)]  # fmt: skip
    keeper.put_bucket_acl(Bucket=BUCKET, AccessControlPolicy={"Owner": {"ID": owner}, "Grants": grants})
    let_in = {user: asked(people, user, f"/%3A{BUCKET}") for user in PEOPLE}
    assert let_in == {"stranger": True, "warden": True, "wader": False}
    rules = Rules(BUCKET, acl=tuple(Grant("named", "read", one) for one in ids[1:]), ids_are_names=True)
    around = EvaluationContext(datetime.now(UTC))
    for user, passed in let_in.items():
        reach = reach_of(user_named(NAMES[user]), rules, around, Budget(10**7))["list"]
        assert (reach.level != "closed") is passed, user
    allow_to_audit(people)
    login = {"M_ACCESS_KEY_ID": people.keeper[0], "M_SECRET_ACCESS_KEY": people.keeper[1],
             "S_USER": people.swift[0], "S_KEY": people.swift[1]}  # fmt: skip

    def run(door: str, *words: str) -> Ran:
        return lantern(*words, cwd=tmp_path / door, **login)

    for door, refused in (
        ("admin", False),
        ("none", None),
    ):  # what else a user may do, only the administration door tells
        make(tmp_path / door, {
            "baseline.yaml": ("title: t\nsheets: [{sheet: s, require: {exposure.read: closed}}]\n", 0o644),
            "estate.yaml": (_estate(people, admin=door == "admin"), 0o644)})  # fmt: skip
        assert run(door, "survey", "--only", f"marsh/{BUCKET}").code == 0
        asked_for: list[tuple[str, bool | None]] = [("anyone", False)]
        for user, passed in let_in.items():
            said = passed or refused
            asked_for += [(NAMES[user], said), (f"{TENANT}${user}" if PEOPLE[user] else user, said)]
        for name, said in asked_for:
            decided = json.loads(run(door, "why", f"marsh/{BUCKET}", "--as", name, "--verb", "list", "--json").out)
            assert decided["allowed"] is said, (door, name, decided)
            assert "its own account" not in decided["note"]
            assert (decided["request"]["caller"] == "no credentials") is (name == "anyone")
    rows = json.loads(run("none", "access", "--json").out)["access"]
    assert sorted(row["identity"] for row in rows) == sorted(ids)
    assert [row["inside"] for row in rows if row["identity"] == owner] == [True]


def allow_to_audit(gateway: Gateway) -> None:
    keeper = f"--uid=keeper-{Path(__file__).stem.rpartition('_')[2]}"
    gateway.admin("caps", "add", keeper, "--caps=users=read;buckets=read;metadata=read")


def _estate(gateway: Gateway, *, admin: bool = False) -> str:
    return (
        f"estate: t\nstores:\n  marsh:\n    reads: s3\n    at: {gateway.address}\n    plain-http: allowed\n"
        f"    credential: {{environment: M}}\n"
        f"    doors:\n      swift: {{at: {gateway.address}/swift/v1, credential: {{environment: S}}}}\n"
        + (f"      admin: {{at: {gateway.address}/admin, credential: {{environment: M}}}}\n" if admin else "")
    )
