"""Owners and their further logins at a real gateway: every action, one request after the other, at both doors."""

from __future__ import annotations

import contextlib
import json
import time
from collections import Counter
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from http.client import HTTPConnection
from pathlib import Path
from typing import Any

import pytest
from botocore.exceptions import ClientError

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.container_acl import SETS_ACL
from rusty_lantern.core.access.rules.bucket_rules import Rules, rules_of
from rusty_lantern.core.access.rules.identity_policies import combined_rules, identity_policies_of
from rusty_lantern.core.model.dossier import Dossier, decode
from rusty_lantern.core.model.store_index import StoreIndex
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.gateway_actions import ASKED, ask, request_of
from tests.real_store import workspace_for
from tests.swift_server import SwiftDoor

LEVELS = {"all": "full", "read": "read", "write": "write", "both": "readwrite", "none": ""}
"""A further login of the user `plover` → what it is made with."""
OWNED = ("own", "own-bare", "own-denied", "own-by-name")
"""Forms whose bucket is the user's own; the others' is somebody else's."""
AT_SWIFT_DOOR = {
    "s3:ListBucket": ["GET /"], "s3:GetObject": ["GET /k"], "s3:PutObject": ["PUT /new"],
    "s3:DeleteObject": ["DELETE /d1", "POST /k"], "s3:PutBucketAcl": ["POST "], "s3:GetBucketAcl": ["HEAD "],
}  # fmt: skip
"""What is asked at the Swift door too, below the container."""
Form = Callable[[Any, SwiftDoor, Gateway, str, str], None]


def _acl(permission: str, *, to: str = "plover", key: str = "") -> Form:
    def put(client: Any, _: SwiftDoor, __: Gateway, bucket: str, owner: str) -> None:
        named = [(to, permission)] if owner == to else [(owner, "FULL_CONTROL"), (to, permission)]
        grants = [{"Grantee": {"ID": who, "Type": "CanonicalUser"}, "Permission": what} for who, what in named]
        acl = {"Grants": grants, "Owner": {"ID": owner}}
        for name in ("k", "d1", "d2", "d3") if owner == to else ():
            client.put_object_acl(Bucket=bucket, Key=name, AccessControlPolicy=acl)
        if key:
            client.put_object_acl(Bucket=bucket, Key=key, AccessControlPolicy=acl)
        else:
            client.put_bucket_acl(Bucket=bucket, AccessControlPolicy=acl)

    return put


def _policy(effect: str, who: Any, *actions: str) -> Form:
    def put(client: Any, _: SwiftDoor, __: Gateway, bucket: str, ___: str) -> None:
        names = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
        one = {"Effect": effect, "Principal": who, "Action": [f"s3:{name}" for name in actions], "Resource": names}
        client.put_bucket_policy(Bucket=bucket, Policy=json.dumps({"Version": "2012-10-17", "Statement": [one]}))

    return put


def _container(side: str, name: str) -> Form:
    def put(_: Any, swift: SwiftDoor, gateway: Gateway, bucket: str, __: str) -> None:
        assert swift.send("POST", f"/{bucket}", gateway.swift, {f"X-Container-{side}": name})[0] == 204

    return put


def _canned(acl: str) -> Form:
    return lambda client, _, __, bucket, ___: client.put_bucket_acl(Bucket=bucket, ACL=acl)


PLOVER, READER = {"AWS": ["arn:aws:iam:::user/plover"]}, {"AWS": ["arn:aws:iam:::user/plover:read"]}
DENIED = ("PutBucketVersioning", "GetBucketCORS", "PutObject", "GetBucketAcl", "ListBucket", "PutBucketAcl")
FORMS: Mapping[str, Form] = {
    "shut": lambda *_: None,
    "own": lambda *_: None,
    "own-bare": _acl("READ"),
    "own-denied": _policy("Deny", "*", *DENIED),
    "own-by-name": _policy("Allow", READER, "PutObject", "GetBucketPolicy"),
    **{f"acl-{permission.lower().replace('_', '-')}": _acl(permission)
       for permission in ("READ", "WRITE", "READ_ACP", "WRITE_ACP", "FULL_CONTROL")},
    "object": _acl("FULL_CONTROL", key="k"),
    "policy": _policy("Allow", READER, "*"),
    "policy-user": _policy("Allow", PLOVER, "GetObject", "PutBucketVersioning"),
    "container-read": _container("Read", "plover"),
    "container-write": _container("Write", "plover"),
    "container-login": _container("Write", "plover:read"),
    "everybody": _canned("public-read-write"),
    "signed": _canned("authenticated-read"),
}  # fmt: skip
"""Ways to open a bucket to a user."""


def _answers(gateway: Gateway, swift: SwiftDoor, login: str, form: str, known: list[Action]) -> dict[str, bool]:
    """Action → whether the gateway lets the login through, at either door."""
    bucket, passed = f"login-{form}", {}
    pair = (f"AK{login}", f"sk-{login}")
    for action in known:
        if action.name == "s3:DeleteBucketPolicy" and ("policy" in form or "denied" in form or "by-name" in form):
            continue  # it would be gone
        passed[action.name] = ask(gateway, pair, bucket, action) != 403
        user = login if ":" in login else f"{login}:all"
        for line in AT_SWIFT_DOOR.get(action.name, ()):
            if line == "HEAD " and not form.startswith("container"):
                continue  # it shows container ACLs
            method, path = line.split(" ")
            sent = swift.send(method, f"/{bucket}{path}", (user, f"sk-swift-{user}"), {"X-Object-Meta-A": "1"})
            passed[action.name] |= sent[0] not in (401, 403)
    return passed


@pytest.fixture(scope="module")
def swift(gateway: Gateway) -> SwiftDoor:
    """The Swift door; with the user `plover`, its further logins, and an auditor."""
    user = ("--uid=plover", "--display-name=P", "--access-key=AKplover", "--secret=sk-plover")
    gateway.admin("user", "create", *user)
    for name, level in LEVELS.items():
        login = ("--uid=plover", f"--subuser=plover:{name}")
        access = (f"--access={level}",) if level else ()
        made = ("--key-type=swift", f"--secret=sk-swift-plover:{name}")
        gateway.admin("subuser", "create", *login, *access, *made)
        pair = (f"--access-key=AKplover:{name}", f"--secret=sk-plover:{name}")
        gateway.admin("key", "create", *login, "--key-type=s3", *pair)
    auditor = ("--uid=reader-of-logins", "--display-name=R", "--access-key=AKLOGINS2", "--secret=sk-reads")
    gateway.admin("user", "create", *auditor, "--admin", "--caps=users=read;buckets=read;metadata=read")
    return SwiftDoor(f"{gateway.address}/swift/v1")


def surveyed(gateway: Gateway, folder: Path, pattern: str) -> Dossier:
    """A survey by the auditor, with the Swift door and the administration door."""
    folder = workspace_for(folder, gateway.address, ("AKLOGINS2", "sk-reads"), gateway.swift)
    admin = f"      admin: {{at: '{gateway.address}/admin', credential: {{file: key.ini}}}}\n"
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text() + admin)
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    done = lantern("survey", "--only", f"real/{pattern}", "--objects", "all", cwd=folder)
    assert done.code == 0, done.err
    return decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")


def test_each_login_has_its_part_of_what_acls_give_and_all_of_what_owning_and_policies_give(
    gateway: Gateway, swift: SwiftDoor, tmp_path: Path
) -> None:
    keeper, plover = gateway.client(), gateway.client(("AKplover", "sk-plover"))
    for form, put in FORMS.items():
        client, bucket = plover if form in OWNED else keeper, f"login-{form}"
        client.create_bucket(Bucket=bucket)
        for key in ("k", "d1", "d2", "d3"):
            client.put_object(Bucket=bucket, Key=key, Body=b"x")
        put(client, swift, gateway, bucket, "plover" if form in OWNED else gateway.swift[0].partition(":")[0])
    dossier = surveyed(gateway, tmp_path / "ws", "login-*")
    index, buckets = StoreIndex(dossier, dossier.taken), {one.name: one for one in dossier.buckets}
    logins = ["plover", *(f"plover:{name}" for name in LEVELS)]
    # the guards are shown to whoever may read the policy, whichever other action is allowed or denied
    known = [one for one in ASKED if one.name not in ("s3:DeleteBucket", "s3:GetBucketPublicAccessBlock")]
    known = [one for one in known if ask(gateway, ("AKplover", "sk-plover"), "login-shut", one) == 403]
    assert len(known) > 40, [one.name for one in known]
    cases = [(form, login) for form in FORMS for login in logins]
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda case: _answers(gateway, swift, case[1], case[0], known), cases))
    outcome, wrong = Counter[str](), []
    for (form, login), passed in zip(cases, answers, strict=True):
        identity = index.identities_by_name[login]
        caller = Caller("", identity.resource, identity.name, aliases=tuple(identity.aliases))
        rules = combined_rules(rules_of(buckets[f"login-{form}"], dossier), identity_policies_of(index, identity), "")
        for name, through in passed.items():
            said = decide(rules, request_of(ACTIONS[name], caller)).allowed
            outcome["unknown" if said is None else "passed" if through else "refused"] += 1
            # which of many objects' own ACLs let it in is not known of each by name
            if said is not through and not (said is None and ACTIONS[name].target == "object"):
                wrong.append(f"{form}: {name} by {login}: passed {through}, decided {said}")
    print(dict(outcome), *wrong, sep="\n")
    assert not wrong, (len(wrong), "\n".join(wrong[:60]))
    assert outcome["passed"] > 700, outcome


def unsigned(gateway: Gateway, method: str, path: str, headers: Mapping[str, str] = {}) -> int:
    """The status of a request without credentials."""
    connection = HTTPConnection(gateway.address.removeprefix("http://"), timeout=60)
    try:
        connection.request(method, path, headers=dict(headers))
        answer = connection.getresponse()
        answer.read()
        return answer.status
    finally:
        connection.close()


def test_a_bucket_that_was_taken_over_without_credentials_is_everybodys(
    gateway: Gateway, swift: SwiftDoor, tmp_path: Path
) -> None:
    """Whoever sends none is its owner, and has what its ACL grants `anonymous`; guards on public ACLs do not count."""
    client = gateway.client()
    names = ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")
    guards = dict.fromkeys(names, True)
    for name in ("plain", "guarded"):
        client.create_bucket(Bucket=f"lost-{name}")
        for key in ("k", "d1", "d2", "d3"):
            client.put_object(Bucket=f"lost-{name}", Key=key, Body=b"x")
        client.put_bucket_acl(Bucket=f"lost-{name}", ACL="public-read-write")
        assert unsigned(gateway, "POST", f"/swift/v1/lost-{name}", {SETS_ACL: "somebody"}) == 204
    assert (unsigned(gateway, "PUT", "/lost-plain/new"), unsigned(gateway, "GET", "/lost-plain/new")) == (200, 200)
    auditor = gateway.client(("AKLOGINS2", "sk-reads"))
    auditor.put_public_access_block(Bucket="lost-guarded", PublicAccessBlockConfiguration=guards)
    dossier = surveyed(gateway, tmp_path / "ws", "lost-*")
    rules: dict[str, Rules] = {one.name: rules_of(one, dossier) for one in dossier.buckets}
    assert {one.name: one.owner.value for one in dossier.buckets if one.owner.value == "anonymous"} == {
        "lost-plain": "anonymous", "lost-guarded": "anonymous"
    }  # fmt: skip
    visitor = Caller("", "arn:aws:iam:::user/plover", "plover", aliases=("plover",))
    wrong, passing = [], Counter[str]()
    for name, ruling in rules.items():
        for action in ASKED:
            if action.name in ("s3:DeleteBucket", "s3:DeleteBucketPolicy") or action.verb == "delete":
                continue
            for caller, pair in ((ANONYMOUS, None), (visitor, ("AKplover", "sk-plover"))):
                shut = ask(gateway, ("AKplover", "sk-plover"), "login-shut", action) != 403
                through = ask(gateway, pair, name, action) != 403
                said = decide(ruling, request_of(action, caller)).allowed
                passing[f"{name} {'signed' if pair else 'unsigned'}"] += through and not shut
                if not shut and said is not through:
                    wrong.append(f"{name}: {action.name} by {caller.canonical or 'nobody'}: {through}, decided {said}")
    print(dict(passing), *wrong, sep="\n")
    assert not wrong, (len(wrong), "\n".join(wrong[:60]))
    assert min(passing["lost-plain unsigned"], passing["lost-guarded unsigned"]) > 20
    told = json.loads(lantern("exposure", "--json", cwd=tmp_path / "ws").out)["buckets"]
    verdicts = {row["bucket"]: row["exposure"]["anyone"] for row in told}
    levels = {bucket: {verb: one["verdict"] for verb, one in verbs.items()} for bucket, verbs in verdicts.items()}
    assert set(levels["lost-plain"].values()) == {"open"}
    assert levels["lost-guarded"].pop("read") == "closed"
    assert {verb for verb, level in levels["lost-guarded"].items() if level != "open"} == {"write"}
    (tmp_path / "ws/baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {exposure.list: closed}}]\n")
    assert "administrator links it to the user" in lantern("remedy", "real/lost-plain", cwd=tmp_path / "ws").out
    gateway.admin("bucket", "link", f"--uid={gateway.swift[0].partition(':')[0]}", "--bucket=lost-plain")
    assert {unsigned(gateway, "GET", path) for path in ("/lost-plain", "/lost-plain?acl")} == {403}


def test_the_buckets_of_a_suspended_user_stay_open_but_for_the_objects_in_them(
    gateway: Gateway, swift: SwiftDoor, tmp_path: Path
) -> None:
    gateway.admin(
        "user", "create", "--uid=shelved", "--display-name=S", "--access-key=AKshelved", "--secret=sk-shelved"
    )
    client, bucket = gateway.client(("AKshelved", "sk-shelved")), "fen-shelved"
    client.create_bucket(Bucket=bucket)
    _policy("Allow", "*", "*")(client, swift, gateway, bucket, "")
    asked = [one for one in ASKED if one.name not in ("s3:DeleteBucket", "s3:DeleteBucketPolicy")]

    def let_in() -> set[str]:
        for key in ("k", "d1", "d2", "d3"):
            with contextlib.suppress(ClientError):
                client.put_object(Bucket=bucket, Key=key, Body=b"x")
        return {one.name for one in asked if ask(gateway, None, bucket, one) != 403}

    before = let_in()
    client.put_object(Bucket=bucket, Key="k", Body=b"x")
    gateway.admin("user", "suspend", "--uid=shelved")
    dossier = surveyed(gateway, tmp_path / "ws", bucket)
    [shelved] = dossier.buckets
    assert (shelved.enabled.value, shelved.enabled.note) == (False, "its owner is suspended")
    rules, after = rules_of(shelved, dossier), let_in()
    said = {name for name in before if decide(rules, request_of(ACTIONS[name], ANONYMOUS)).allowed}
    assert said == after & before
    assert {"s3:ListBucket", "s3:PutObject"} < after and len(before - after) > 10
    told = json.loads(lantern("exposure", "--json", cwd=tmp_path / "ws").out)["buckets"][0]["exposure"]["anyone"]
    assert {verb for verb, one in told.items() if one["verdict"] == "closed"} == {"read"}


def test_who_changed_what_is_in_the_gateways_own_log_by_whichever_door(
    gateway: Gateway, swift: SwiftDoor, tmp_path: Path
) -> None:
    client, owner = gateway.client(), gateway.swift[0].partition(":")[0]
    for name in ("policy", "swift", "taken", "gone"):
        client.create_bucket(Bucket=f"blame-{name}")
    client.put_bucket_acl(Bucket="blame-taken", ACL="public-read-write")
    time.sleep(1)  # a survey begins with its second, and so does what is held against it
    surveyed(gateway, tmp_path / "ws", "blame-*")
    FORMS["policy-user"](client, swift, gateway, "blame-policy", owner)
    assert swift.send("POST", "/blame-swift", gateway.swift, {SETS_ACL: ".r:*"})[0] == 204
    assert unsigned(gateway, "POST", "/swift/v1/blame-taken", {SETS_ACL: "somebody"}) == 204
    client.delete_bucket(Bucket="blame-gone")
    time.sleep(1)  # surveys are named by the second
    folder = tmp_path / "ws"
    assert lantern("survey", "--only", "real/blame-*", "--objects", "all", cwd=folder).code == 0
    log = gateway.folder / "log" / "client.rgw.log"
    done = lantern("changes", "--events", str(log), "--json", cwd=folder)
    assert done.code == 0, done.err
    told = json.loads(done.out)
    by = {
        (row["name"], row["fact"]): (row["causes"][0]["actor"], row["causes"][0]["action"])
        for row in told["changes"]
        if row["causes"]
    }
    assert by["blame-policy", "policy"] == (owner, "PutBucketPolicy")
    assert by["blame-swift", "exposure.anyone.read"] == (owner, "SetContainer")
    assert by["blame-taken", "exposure.anyone.read-settings"] == ("anonymous", "SetContainer")
    assert by["blame-gone", ""] == (owner, "DeleteBucket")
