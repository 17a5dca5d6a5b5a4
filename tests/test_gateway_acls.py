"""What each permission of an ACL lets its holder do at the real gateway: every action, one request after the other."""

from __future__ import annotations

import json
import subprocess
from collections import Counter
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import pytest
from botocore.exceptions import ClientError

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.condition_keys import SEVERAL
from rusty_lantern.core.access.policy.container_acl import SETS_ACL, SETS_END
from rusty_lantern.core.access.rules.bucket_rules import Rules, rules_of
from rusty_lantern.core.model.dossier import decode
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.gateway_actions import ASKED, ask, request_of
from tests.real_store import workspace_for
from tests.swift_server import SwiftDoor

VISITOR = Caller("", "arn:aws:iam:::user/visitor", "visitor")
PAIR, LOGIN = ("AKVISITOR", "sk-visitor-000"), ("visitor:swift", "sk-swift-visitor")
GROUPS = "http://acs.amazonaws.com/groups/global/"


class Form(NamedTuple):
    """One way to open a bucket, or an object in it."""

    name: str
    to: str = ""
    permission: str = ""
    on_object: bool = False
    headers: Mapping[str, str] = {}
    account: str = "{}"
    denied: bool = False
    guard: str = ""


def forms() -> Iterator[Form]:
    """Every permission, by name and to groups, and container ACLs; some under a Deny of everything, or a guard."""
    permissions = ("READ", "WRITE", "READ_ACP", "WRITE_ACP", "FULL_CONTROL")
    for permission in permissions:
        for to in ("visitor", f"{GROUPS}AllUsers", f"{GROUPS}AuthenticatedUsers"):
            yield Form(f"{permission} to {to}", to, permission)
        yield Form(f"{permission} to visitor on the object", "visitor", permission, on_object=True)
        yield Form(f"{permission} to all on the object", f"{GROUPS}AllUsers", permission, on_object=True)
    for side in ("Read", "Write"):
        for name in ("visitor", "anonymous", "somebody", ".r:*", ".r:good.example"):
            if side == "Read" or name[0] != ".":
                yield Form(f"{side}: {name}", headers={f"X-Container-{side}": name})
    for denied, guard in ((True, ""), (False, "IgnorePublicAcls"), (False, "RestrictPublicBuckets")):
        words = f"{'denied' * denied}{guard}"
        yield Form(f"WRITE to all, {words}", f"{GROUPS}AllUsers", "WRITE", denied=denied, guard=guard)
        yield Form(f"WRITE to visitor, {words}", "visitor", "WRITE", denied=denied, guard=guard)
        yield Form(f"all on the object, {words}", f"{GROUPS}AllUsers", "WRITE", True, denied=denied, guard=guard)
        for name in ("visitor", "anonymous"):
            yield Form(f"Write: {name}, {words}", headers={"X-Container-Write": name}, denied=denied, guard=guard)
        yield Form(f"Read: .r:*, {words}", headers={"X-Container-Read": ".r:*"}, denied=denied, guard=guard)


FORMS = list(forms())


@dataclass(frozen=True)
class Estate:
    """The gateway, with a bucket of each form for its S3 door, and another one of each for POSTs at its Swift door."""

    gateway: Gateway
    swift: SwiftDoor
    rules: Mapping[str, Rules]

    def ask(self, bucket: str, action: Action, *, signed: bool) -> int:
        """The gateway's answer to the visitor, or to nobody."""
        return ask(self.gateway, PAIR if signed else None, bucket, action)


def opened(client: Any, swift: SwiftDoor, gateway: Gateway, bucket: str, form: Form) -> None:
    """Make a bucket of a form."""
    client.create_bucket(Bucket=bucket)
    for key in ("k", "d1", "d2", "d3"):
        client.put_object(Bucket=bucket, Key=key, Body=b"x")
    owner = gateway.swift[0].partition(":")[0]
    if form.permission:
        whom = (
            {"URI": form.to, "Type": "Group"}
            if form.to.startswith("http")
            else {"ID": form.to, "Type": "CanonicalUser"}
        )
        grants = [{"Grantee": whom, "Permission": form.permission}]
        grants.append({"Grantee": {"ID": owner, "Type": "CanonicalUser"}, "Permission": "FULL_CONTROL"})
        acl = {"Grants": grants, "Owner": {"ID": owner}}
        if form.on_object:
            client.put_object_acl(Bucket=bucket, Key="k", AccessControlPolicy=acl)
        else:
            client.put_bucket_acl(Bucket=bucket, AccessControlPolicy=acl)
    if form.headers:
        assert swift.send("POST", f"/{bucket}", gateway.swift, form.headers)[0] == 204
    if form.denied:
        names = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
        deny = {"Effect": "Deny", "Principal": "*", "Action": ["s3:Put*", "s3:Delete*", "s3:Abort*"], "Resource": names}
        client.put_bucket_policy(Bucket=bucket, Policy=json.dumps({"Version": "2012-10-17", "Statement": [deny]}))
    if form.guard:
        guards = {name: name == form.guard for name in
                  ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")}  # fmt: skip
        client.put_public_access_block(Bucket=bucket, PublicAccessBlockConfiguration=guards)


@pytest.fixture(scope="module")
def estate(gateway: Gateway, tmp_path_factory: pytest.TempPathFactory) -> Estate:
    named = ("--uid=visitor", "--display-name=V", f"--access-key={PAIR[0]}", f"--secret={PAIR[1]}")
    gateway.admin("user", "create", *named)
    login = ("--subuser=visitor:swift", "--access=full", "--key-type=swift", f"--secret={LOGIN[1]}")
    gateway.admin("subuser", "create", "--uid=visitor", *login)
    client, swift = gateway.client(), SwiftDoor(f"{gateway.address}/swift/v1")
    wanted = [(f"acl-{door}-{n:02d}", form) for n, form in enumerate(FORMS) for door in ("s3", "post")]
    swift.token(gateway.swift)
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda one: opened(client, swift, gateway, *one), wanted))
    folder = workspace_for(tmp_path_factory.mktemp("acls") / "ws", gateway.address, gateway.keeper, gateway.swift)
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    done = lantern("survey", "--only", "real/acl-s3-*", "--objects", "all", cwd=folder)
    assert done.code == 0, done.err
    dossier = decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")
    return Estate(gateway, swift, {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets})


def test_every_permission_lets_through_what_its_table_says_and_nothing_else(estate: Estate) -> None:
    shut = next(n for n, form in enumerate(FORMS) if form.name == "Read: somebody")
    known = [a for a in ASKED if all(estate.ask(f"acl-s3-{shut:02d}", a, signed=s) == 403 for s in (True, False))]
    assert len(known) > 45, [a.name for a in known]
    cases = [(n, action, signed) for n in range(len(FORMS)) for action in known for signed in (True, False)]
    with ThreadPoolExecutor(6) as pool:
        statuses = list(pool.map(lambda case: estate.ask(f"acl-s3-{case[0]:02d}", case[1], signed=case[2]), cases))
    outcome, wrong = Counter[str](), []
    for (number, action, signed), status in zip(cases, statuses, strict=True):
        form = FORMS[number]
        said = by_s3(estate.rules[f"acl-s3-{number:02d}"], request_of(action, VISITOR if signed else ANONYMOUS))
        passed = status != 403
        outcome["passed" if passed else "refused"] += 1
        outcome["unknown"] += said is None
        if said is not passed:
            wrong.append(f"{form.name}: {action.name} by {'visitor' if signed else 'nobody'}: {status}, {said}")
    print(dict(outcome), *wrong, sep="\n")
    assert not wrong, (len(wrong), "\n".join(wrong[:60]))
    assert outcome["passed"] > 400, outcome


def by_s3(rules: Rules, request: Request) -> bool | None:
    """What is decided without what only a POST at the Swift door does."""
    statements = tuple(one for one in rules.policy.statements if not one.by_post)
    policy = msgspec.structs.replace(rules.policy, statements=statements)
    named = not request.caller.anonymous  # whom objects' own ACLs name is asked of one identity alone
    return decide(msgspec.structs.replace(rules, policy=policy, of_one_identity=named), request).allowed


def by_post(rules: Rules, request: Request) -> bool | None:
    """What is decided by what a POST at the Swift door does, and by what refuses."""
    statements = tuple(one for one in rules.policy.statements if one.by_post or one.effect == "Deny")
    policy = msgspec.structs.replace(rules.policy, statements=statements)
    bare = msgspec.structs.replace(rules, policy=policy, acl=(), object_acls=(), object_doubt="", named_object_acls=())
    return decide(bare, request).allowed


def test_a_post_at_the_swift_door_takes_the_bucket_whatever_its_policy_denies(estate: Estate) -> None:
    """Whoever may write sets the bucket's ACL, and is its owner then; by a container's ACL, ends objects too."""
    outcome, wrong, lost = Counter[str](), [], 0
    client = estate.gateway.client()
    for number, form in enumerate(FORMS):
        bucket, rules = f"acl-post-{number:02d}", estate.rules[f"acl-s3-{number:02d}"]
        for signed in (True, False):
            user, who = (LOGIN, "visitor") if signed else (None, "nobody")
            ends = estate.swift.send("POST", f"/{bucket}/k", user, {SETS_END: "4102444800"})[0] == 202
            sets = estate.swift.send("POST", f"/{bucket}", user, {SETS_ACL: "somebody-else"})[0] == 204
            for action, passed in (("s3:DeleteObject", ends), ("s3:PutBucketAcl", sets)):
                said = by_post(rules, request_of(ACTIONS[action], VISITOR if signed else ANONYMOUS))
                outcome[f"{action} {'passed' if passed else 'refused'}"] += 1
                if said is not passed:
                    wrong.append(f"{form.name}: {action} by {who}: {passed}, {said}")
            if sets:
                with pytest.raises(ClientError, match="AccessDenied"):
                    client.get_bucket_acl(Bucket=bucket)
                lost += 1
                break  # it has another owner now
    print(dict(outcome), *wrong, sep="\n")
    assert not wrong, (len(wrong), "\n".join(wrong[:60]))
    assert outcome["s3:PutBucketAcl passed"] == lost > 10, outcome


BULK: dict[str, Any] = {
    "private": None,
    "guarded": "guards",
    "the requester pays": "pays",
    "no bucket deletion": ("Deny", "*", "s3:DeleteBucket", "b"),
    "no bucket deletion by name of objects": ("Deny", "*", "s3:DeleteBucket", "o"),
    "nothing": ("Deny", "*", "s3:*", "bo"),
    "nothing for the visitor": ("Deny", {"AWS": "arn:aws:iam:::user/visitor"}, "s3:*", "bo"),
    "no deletion of objects": ("Deny", "*", ["s3:DeleteObject", "s3:DeleteObjectVersion"], "bo"),
    "no deletion": ("Deny", "*", "s3:Delete*", "bo"),
    "no plain http": ("Deny", "*", "s3:Put*", "bo"),
}


def test_bulk_deletion_is_everybodys_where_no_deny_names_the_deletion_of_the_bucket(
    estate: Estate, tmp_path: Path
) -> None:
    gateway, swift, client = estate.gateway, estate.swift, estate.gateway.client()
    for number, form in enumerate(BULK.values()):
        bucket = f"bulk-{number}"
        client.create_bucket(Bucket=bucket)
        for key in ("visitor", "nobody"):
            client.put_object(Bucket=bucket, Key=key, Body=b"x")
        if form == "guards":
            every = ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")
            client.put_public_access_block(Bucket=bucket, PublicAccessBlockConfiguration=dict.fromkeys(every, True))
        elif form == "pays":
            client.put_bucket_request_payment(Bucket=bucket, RequestPaymentConfiguration={"Payer": "Requester"})
        elif form:
            effect, who, action, on = form
            names = {"b": f"arn:aws:s3:::{bucket}", "o": f"arn:aws:s3:::{bucket}/*"}
            statement = {"Effect": effect, "Principal": who, "Action": action, "Resource": [names[one] for one in on]}
            client.put_bucket_policy(
                Bucket=bucket, Policy=json.dumps({"Version": "2012-10-17", "Statement": statement})
            )
    admin = ("--uid=bulk-auditor", "--display-name=A", "--access-key=AKBULK", "--secret=sk-bulk",
             "--caps=users=read;buckets=read;metadata=read")  # fmt: skip
    gateway.admin("user", "create", *admin)
    folder = workspace(tmp_path / "ws", gateway, ("AKBULK", "sk-bulk"))
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    assert lantern("survey", "--only", "real/bulk-*", "--objects", "all", cwd=folder).code in (0, 3)
    dossier = decode(next((folder / "surveys").glob("2*/stores/real.json")).read_bytes(), "real.json")
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets}
    wrong, passing = [], Counter[bool]()
    for number, name in enumerate(BULK):
        for signed, who in ((True, "visitor"), (False, "nobody")):
            body = f"bulk-{number}/{who}\n".encode()
            swift.send("POST", "?bulk-delete", LOGIN if signed else None, {"Content-Type": "text/plain"}, body)
            request = request_of(ACTIONS["s3:DeleteObject"], VISITOR if signed else ANONYMOUS)
            request = msgspec.structs.replace(request, context={**request.context, SEVERAL: ("true",)})
            passed = not is_there(gateway, f"bulk-{number}", who)
            said = by_post(rules[f"bulk-{number}"], request)
            passing[passed] += 1
            if said is not passed:
                wrong.append(f"{name}, {who}: {passed}, {said}")
    assert not wrong, wrong
    assert min(passing.values()) >= 7, passing
    shown = {row["bucket"]: row["exposure"]["anyone"]["delete"] for row in
             json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]}  # fmt: skip
    assert (shown["bulk-0"]["verdict"], shown["bulk-3"]["verdict"]) == ("open", "closed")
    assert shown["bulk-0"]["witness"]["request"] == "POST /?bulk-delete"


def is_there(gateway: Gateway, bucket: str, key: str) -> bool:
    """Whether the gateway's own list has the key, whatever policies say."""
    listed = subprocess.run(
        ["radosgw-admin", "-c", str(gateway.folder / "ceph.conf"), "bucket", "list", "--bucket", bucket],
        check=True, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    return key in [entry["name"] for entry in json.loads(listed.stdout)]


def workspace(folder: Path, gateway: Gateway, admin: tuple[str, str]) -> Path:
    """A workspace with all doors of the gateway: what a policy denies its owner is read at the administration door."""
    folder = workspace_for(folder, gateway.address, gateway.keeper, gateway.swift)
    (folder / "admin.ini").write_text(f"[default]\naws_access_key_id={admin[0]}\naws_secret_access_key={admin[1]}\n")
    text = (folder / "estate.yaml").read_text()
    door = f"      admin: {{at: '{gateway.address}/admin', credential: {{file: admin.ini}}}}\n"
    (folder / "estate.yaml").write_text(text + door)
    return folder


def test_whom_an_objects_own_acl_names_is_let_in_and_unknown_where_objects_were_not_looked_at(
    gateway: Gateway, tmp_path: Path
) -> None:
    """Nothing of the bucket names the second user, and no users are known."""
    client, name = gateway.client(), "acls-by-name"
    client.create_bucket(Bucket=name)
    for key in ("lent", "own"):
        client.put_object(Bucket=name, Key=key, Body=b"tide")
    owner = client.get_bucket_acl(Bucket=name)["Owner"]["ID"]
    client.put_object_acl(Bucket=name, Key="lent", GrantRead='id="deck"', GrantFullControl=f'id="{owner}"')
    deck = gateway.client(("AKDECK", "sk-deck-000"))
    passed = []
    for key in ("lent", "own"):
        try:
            passed.append(deck.get_object(Bucket=name, Key=key)["Body"].read() == b"tide")
        except ClientError:
            passed.append(False)
    assert passed == [True, False]
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    requires = "{access.outside: nothing, principals.read: 'none of [deck]', objects.public: none}"
    (folder / "baseline.yaml").write_text(f"sheets:\n- sheet: all\n  require: {requires}\n")

    def judged(*words: str) -> dict[str, str]:
        assert lantern("survey", "--only", f"real/{name}", *words, cwd=folder).code == 0
        told = json.loads(lantern("audit", "--json", cwd=folder).out)
        return {row["fact"]: status for status in ("drift", "unknown") for row in told[status]}

    before = judged()
    assert (before["access.outside"], before["principals.read"]) == ("unknown", "unknown")
    after = judged("--objects", "all")
    assert after["principals.read"] == "drift"
    rows = json.loads(lantern("access", f"real/{name}", "--json", cwd=folder).out)["access"]
    assert {row["identity"]: row["verbs"] for row in rows}["deck"]["read"] == "open"
    asked = {
        key: json.loads(
            lantern(
                "why", f"real/{name}", "--as", "deck", "--action", "s3:GetObject", "--key", key, "--json", cwd=folder
            ).out
        )["allowed"]
        for key in ("lent", "own")
    }
    assert asked["lent"] is True and asked["own"] is not True
