"""The users of a real gateway: what their own permissions let them do, and what an auditor among them can read."""

from __future__ import annotations

import contextlib
import hmac
import http.client
import json
import time
from datetime import UTC, datetime
from itertools import product
from pathlib import Path
from typing import Any

import msgspec
import pytest
from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from botocore.exceptions import ClientError

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier, decode
from rusty_lantern.core.value_sets import NAMES
from rusty_lantern.stores.admin.documents import User
from rusty_lantern.stores.admin.reader import link_keys
from tests.conftest import lantern
from tests.gateway import Gateway, standard_client
from tests.real_store import seed, workspace_for
from tests.swift_server import SwiftDoor
from tests.test_gateway_permissions import documented

TENANT = "heath"
ACTIONS = ["s3:GetObject", "s3:ListBucket", "s3:GetBucketVersioning", "s3:PutObject"]
NOT_KNOWN_THERE = {"s3:GetAccountPublicAccessBlock", "s3:GetBucketOwnershipControls", "s3:GetEncryptionConfiguration"}
"""Actions that docs/permissions.md says a gateway of release 16 does not know."""
ON_OBJECTS = [
    "s3:GetObject", "s3:GetObjectVersion", "s3:GetObjectRetention", "s3:GetObjectLegalHold", "s3:GetObjectAcl",
    "s3:GetObjectVersionAcl",
]  # fmt: skip
"""What it asks for besides to look at objects and their ACLs."""


def statement(effect: str, actions: Any, resource: str, element: str = "Resource") -> dict[str, Any]:
    return {"Effect": effect, "Action": actions, element: resource}


OWN: dict[str, list[dict[str, Any]]] = {
    "none": [],
    "all": [statement("Allow", ACTIONS, "*")],
    "every": [statement("Allow", ACTIONS, "arn:aws:s3:::*")],
    "one": [statement("Allow", ACTIONS, "arn:aws:s3:::rush-plain"),
            statement("Allow", ACTIONS, "arn:aws:s3:::rush-plain/*")],
    "prefixed": [statement("Allow", ACTIONS, "arn:aws:s3:::rush-*")],
    "account": [statement("Allow", ACTIONS, "arn:aws:s3::*:rush-plain*")],
    "but-one": [statement("Allow", ACTIONS, "arn:aws:s3:::rush-plain*", "NotResource")],
    "listing": [statement("Allow", "s3:ListBucket", "*"), statement("Deny", "s3:List*", "arn:aws:s3:::rush-acl")],
    "refused": [statement("Deny", "s3:*", "*")],
    "refused-reading": [statement("Allow", ACTIONS, "*"), statement("Deny", "s3:GetObject", "arn:aws:s3:::*/*")],
}  # fmt: skip
"""A user of no tenant and one of a tenant for each: its own permissions, in one document a statement."""
BUCKETS = ("rush-plain", "rush-named", "rush-sealed", "rush-acl", f"{TENANT}:rush-plain")
ASKED = {"list": "GET {}", "read": "GET {}/k", "read-settings": "GET {}?versioning", "write": "PUT {}/w"}
"""Verb → a request of it; those of `ACTIONS`, and no other of the verb, is what the permissions above allow."""


def policy(bucket: str, effect: str, who: Any, actions: Any) -> str:
    resources = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    named = {"Effect": effect, "Principal": who, "Action": actions, "Resource": resources}
    return json.dumps({"Version": "2012-10-17", "Statement": [named]})


def put_own_permissions(gateway: Gateway, user: str, statements: list[dict[str, Any]], by: str = "reeve") -> None:
    """Attach them, a document each, as an administrator of permissions does it."""
    client = standard_client(gateway.address, f"AK{by}", f"sk-{by}", service="iam")
    for number, one in enumerate(statements):
        text = json.dumps({"Version": "2012-10-17", "Statement": [one]})
        client.put_user_policy(UserName=user, PolicyName=f"p{number}", PolicyDocument=text)


def create_user(gateway: Gateway, user: str, *more: str) -> None:
    """The key of `TENANT$NAME` or NAME is made of its name."""
    tenant, _, name = user.rpartition("$")
    told = [f"--uid={name}", f"--display-name={name}", f"--access-key=AK{user}", f"--secret=sk-{user}", *more]
    gateway.admin("user", "create", *told, *([f"--tenant={tenant}"] if tenant else []))


def create_auditor(gateway: Gateway, user: str, by: str) -> None:
    """A user that reads every bucket and changes none, as docs/permissions.md asks for one; `by` gives permissions."""
    create_user(gateway, by, "--caps=user-policy=*")
    create_user(gateway, user, "--caps=users=read;buckets=read;metadata=read")
    actions = [action for action in documented() if action not in NOT_KNOWN_THERE]
    login = (f"--subuser={user}:swift", "--access=read", "--key-type=swift", "--secret=sk-swift-000")
    gateway.admin("subuser", "create", f"--uid={user}", *login)  # first: it takes away what was attached before
    put_own_permissions(gateway, user, [statement("Allow", actions + ON_OBJECTS, "*")], by)


@pytest.fixture(scope="module")
def people(gateway: Gateway) -> Gateway:
    """The gateway with an auditor, and a user for each of `OWN`."""
    create_auditor(gateway, "verger", "reeve")
    for user in (f"{tenant}{name}" for name in OWN for tenant in ("", f"{TENANT}$")):
        create_user(gateway, user)
        put_own_permissions(gateway, user, OWN[user.rpartition("$")[2]])
    return gateway


def workspace(gateway: Gateway, folder: Path, auditor: str = "verger") -> Path:
    login = (f"{auditor}:swift", "sk-swift-000")
    made = workspace_for(folder, gateway.address, (f"AK{auditor}", f"sk-{auditor}"), login)
    estate = made / "estate.yaml"
    estate.write_text(
        estate.read_text() + f"      admin: {{at: '{gateway.address}/admin', credential: {{file: key.ini}}}}\n"
    )
    return made


def surveyed(folder: Path, pattern: str, *words: str) -> Dossier:
    ran = lantern("survey", "--only", f"real/{pattern}", *words, cwd=folder)
    assert ran.code == 0, ran.err
    (saved,) = folder.glob("surveys/*/stores/real.json")
    return decode(saved.read_bytes(), saved.name)


def permissions(folder: Path) -> dict[tuple[str, str, str], str]:
    """User, bucket and verb → the level that `lantern access` tells."""
    rows = json.loads(lantern("access", "--json", cwd=folder).out)["identities"]
    return {
        (row["identity"], bucket, verb): level
        for row in rows for bucket in row["buckets"] for verb, level in row["verbs"].items()
    }  # fmt: skip


def sent(gateway: Gateway, user: str, line: str, body: bytes = b"") -> tuple[int, bytes]:
    """What the gateway answers to a user."""
    method, path = line.split(" ", 1)
    request = AWSRequest(method, f"{gateway.address}{path}", data=body)
    S3SigV4Auth(Credentials(f"AK{user}", f"sk-{user}"), "s3", "us-east-1").add_auth(request)
    connection = http.client.HTTPConnection(gateway.address.removeprefix("http://"), timeout=60)
    connection.request(method, path, body=body or None, headers=dict(request.headers))
    answer = connection.getresponse()
    shown = answer.read()
    connection.close()
    return answer.status, shown


def asked(gateway: Gateway, user: str, line: str) -> bool:
    """Whether the gateway lets a user do it."""
    status, _ = sent(gateway, user, line)
    assert status in (200, 204, 403), (status, line)
    return status != 403


def told(bucket: Bucket) -> dict[str, tuple[str, Any]]:
    """What is known of a bucket, but for what the administration door alone tells, and when it was asked."""
    fields = {name: getattr(bucket, name) for name in bucket.__struct_fields__ if name != "name"}
    apart = {
        "tier",
        "quota",
        "differs_by_door",
        "owner_acl",
        "enabled",
        "counters",
        "created",
        "temporary_url_key",
        "synchronization_key",
    }
    return {name: (one.state, one.value) for name, one in fields.items() if name not in apart}


def test_an_auditor_with_the_permissions_of_the_docs_reads_what_each_owner_can_read(
    people: Gateway, tmp_path: Path
) -> None:
    """Of buckets that are none of its own, which only the administration door lists to it."""
    made = seed(people.client(), "marl")
    own = surveyed(workspace_for(tmp_path / "own", people.address, people.keeper, people.swift), "marl-*")
    audit = surveyed(workspace(people, tmp_path / "audit"), "marl-*")
    assert [bucket.name for bucket in audit.buckets] == sorted(made.facts)
    for mine, others in zip(own.buckets, audit.buckets, strict=True):
        seen = told(others)
        assert seen.pop("notifications") == ("denied", None), "those the gateway shows to owners alone"
        assert {name: one for name, one in told(mine).items() if name in seen} == seen, mine.name
        assert others.differs_by_door.value == [], others.name
        assert mine.created.settled and others.created.settled


def test_a_tenants_own_bucket_is_not_taken_for_one_of_the_same_name_without_a_tenant(
    people: Gateway, tmp_path: Path
) -> None:
    user = f"{TENANT}$warden"
    create_user(people, user, "--caps=users=read;buckets=read;metadata=read")
    theirs, ours = people.client((f"AK{user}", f"sk-{user}")), people.client()
    for client, tag in ((theirs, "tenant"), (ours, "none")):
        client.create_bucket(Bucket="twin")
        client.put_bucket_tagging(Bucket="twin", Tagging={"TagSet": [{"Key": "of", "Value": tag}]})
    folder = workspace_for(tmp_path / "ws", people.address, (f"AK{user}", f"sk-{user}"))
    estate = folder / "estate.yaml"
    door = f"    doors:\n      admin: {{at: '{people.address}/admin', credential: {{file: key.ini}}}}\n"
    estate.write_text(estate.read_text() + door)
    found = {bucket.name: bucket for bucket in surveyed(folder, "*twin").buckets}
    assert found.keys() == {"twin", f"{TENANT}:twin"}
    assert found[f"{TENANT}:twin"].tags.value == {"of": "tenant"}
    assert found[f"{TENANT}:twin"].owner.value == user
    assert (found["twin"].tags.state, found["twin"].owner.value) == ("denied", f"keeper-{__name__.rpartition('_')[2]}")


def test_what_users_can_do_by_their_own_permissions_is_what_the_gateway_lets_them_do(
    people: Gateway, tmp_path: Path
) -> None:
    owner = f"{TENANT}$owner"
    create_user(people, owner)
    keeper = people.client()
    for bucket in BUCKETS:
        tenant, _, name = bucket.rpartition(":")
        client = people.client((f"AK{owner}", f"sk-{owner}")) if tenant else keeper
        client.create_bucket(Bucket=name)
        client.put_object(Bucket=name, Key="k", Body=b"1")
    every = {"AWS": ["arn:aws:iam:::user/none", f"arn:aws:iam::{TENANT}:user/none", "arn:aws:iam:::user/refused"]}
    keeper.put_bucket_policy(Bucket="rush-named", Policy=policy("rush-named", "Allow", every, ACTIONS))
    keeper.put_bucket_policy(Bucket="rush-sealed", Policy=policy("rush-sealed", "Deny", "*", "s3:*"))
    me = keeper.get_bucket_acl(Bucket="rush-acl")["Owner"]["ID"]
    grants = [(me, "FULL_CONTROL"), ("none", "READ"), (f"{TENANT}$none", "WRITE"), ("listing", "READ")]
    users = [f"{tenant}{name}" for name in OWN for tenant in ("", f"{TENANT}$")]
    named = [{"Grantee": {"Type": "CanonicalUser", "ID": who}, "Permission": what} for who, what in grants]
    keeper.put_bucket_acl(Bucket="rush-acl", AccessControlPolicy={"Owner": {"ID": me}, "Grants": named})
    folder = workspace(people, tmp_path / "ws")
    surveyed(folder, "*rush-*")
    said = permissions(folder)
    wrong, seen = [], set()
    let_in: dict[tuple[str, str], set[str]] = {(bucket, verb): set() for bucket in BUCKETS for verb in ASKED}
    for user in (*users, owner):
        for bucket in BUCKETS:
            path = "/" + (bucket if ":" in bucket else f":{bucket}").replace(":", "%3A")
            for verb, line in ASKED.items():
                passed, level = asked(people, user, line.format(path)), said.get((user, bucket, verb), "closed")
                seen.add((verb, level, passed))
                let_in[bucket, verb] |= {user} if passed else set()
                doubtful = level == "unknown" and verb in ("read", "read-settings")  # an object's own ACL may say more
                if not doubtful and (level != "closed") is not passed:
                    wrong.append((user, bucket, verb, level, passed))
    assert wrong == []
    assert {(verb, "open", True) for verb in ASKED} | {("list", "closed", False), ("write", "closed", False)} <= seen
    unsure = [key for key, level in said.items() if level == "unknown" and key[2] in ("list", "write")]
    assert not [key for key in unsure if key[0] in users]
    for bucket in BUCKETS:
        shown = json.loads(lantern("show", f"real/{bucket}", "--json", cwd=folder).out)["facts"]
        facts = {one["fact"]: one for one in shown if one["fact"].startswith("principals.")}
        for verb in ("list", "write"):
            found = facts[f"principals.{verb}"]
            assert found["state"] == "known", (bucket, verb, found["note"])
            assert NAMES.members(found["value"]) & {*users, owner} == let_in[bucket, verb], (bucket, verb)


def test_whom_objects_own_acls_let_in_by_name_is_known_once_they_were_all_read(people: Gateway, tmp_path: Path) -> None:
    keeper, bucket = people.client(), "reed-bed"
    keeper.create_bucket(Bucket=bucket)
    writers = ("none", f"{TENANT}$none")
    names = ["arn:aws:iam:::user/none", f"arn:aws:iam::{TENANT}:user/none"]
    keeper.put_bucket_policy(Bucket=bucket, Policy=policy(bucket, "Allow", {"AWS": names}, "s3:PutObject"))
    keeper.put_object(Bucket=bucket, Key="k", Body=b"1")
    me = keeper.get_object_acl(Bucket=bucket, Key="k")["Owner"]["ID"]
    for number, (who, what) in enumerate(
        [("listing", "READ"), (f"{TENANT}$listing", "FULL_CONTROL"), ("one", "READ_ACP"), ("refused", "FULL_CONTROL")]
    ):
        keeper.put_object(Bucket=bucket, Key=f"k{number}", Body=b"1")
        named = [{"Grantee": {"Type": "CanonicalUser", "ID": one}, "Permission": given}
                 for one, given in ((me, "FULL_CONTROL"), (who, what))]  # fmt: skip
        grants = {"Owner": {"ID": me}, "Grants": named}
        keeper.put_object_acl(Bucket=bucket, Key=f"k{number}", AccessControlPolicy=grants)
    for writer in writers:
        assert asked(people, writer, f"PUT /%3A{bucket}/{writer.replace('$', '-')}")
    keys = [entry["Key"] for entry in keeper.list_objects_v2(Bucket=bucket)["Contents"]]
    folder = workspace(people, tmp_path / "ws")
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")
    surveyed(folder, bucket, "--objects", "all")
    said = permissions(folder)
    wrong, passing = [], set()
    for user in (f"{tenant}{name}" for name in OWN for tenant in ("", f"{TENANT}$")):
        path = f"/%3A{bucket}"
        requests = {
            "list": [f"GET {path}"],
            "read": [f"GET {path}/{key}" for key in keys],
            "read-settings": [
                f"GET {path}?versioning",
                *(f"GET {path}/{key}?{what}" for key in keys for what in ("acl", "tagging")),
            ],
        }
        for verb, lines in requests.items():
            passed = any(asked(people, user, line) for line in lines)
            level = said.get((user, bucket, verb), "closed")
            passing |= {(user, verb)} if passed else set()
            if level != ("open" if passed else "closed"):
                wrong.append((user, verb, level, passed))
    assert wrong == []
    assert {("listing", "read"), (f"{TENANT}$listing", "read"), ("none", "read"), ("one", "read-settings")} <= passing
    assert ("refused", "read") not in passing


@pytest.mark.parametrize("caps,doubt", [("users=read;buckets=read", "denied"), ("buckets=read;metadata=read", "")])
def test_own_permissions_that_the_door_does_not_tell_are_unknown(
    people: Gateway, tmp_path: Path, caps: str, doubt: str
) -> None:
    name = f"blind-{doubt or 'wholly'}"
    create_user(people, name, f"--caps={caps}")
    folder = workspace_for(tmp_path / "ws", people.address, (f"AK{name}", f"sk-{name}"))
    estate = folder / "estate.yaml"
    door = f"    doors:\n      admin: {{at: '{people.address}/admin', credential: {{file: key.ini}}}}\n"
    estate.write_text(estate.read_text() + door)
    found = surveyed(folder, "marl-*")
    if not doubt:
        assert found.identities.state == "denied"
        return
    assert {one.policies.state for one in found.identities.value or () if ":" not in one.name} == {"denied"}
    rows = json.loads(lantern("access", "--json", cwd=folder).out)["identities"]
    mine = [row for row in rows if row["identity"] == "verger"]
    assert mine and all(set(row["verbs"].values()) == {"unknown"} for row in mine)


def test_an_auditors_estimate_and_reach_count_the_buckets_of_others(people: Gateway, tmp_path: Path) -> None:
    people.client().create_bucket(Bucket="dell")
    folder = workspace(people, tmp_path / "ws")
    people.client((f"AK{TENANT}$none", f"sk-{TENANT}$none")).create_bucket(Bucket="dell")
    for pattern, buckets, questions in (("dell", 1, 24), (f"{TENANT}:dell", 1, 3)):
        told = lantern("survey", "--dry-run", "--only", f"real/{pattern}", cwd=folder)
        assert (told.code, f"{buckets} buckets, at least {questions} questions" in told.out) == (0, True), told.out
    reached = json.loads(lantern("reach", "--json", cwd=folder).out)["stores"][0]
    assert (reached["credential"], reached["buckets"] > 0, reached["sampled"] > 0) == ("accepted", True, True)


def test_whose_key_signs_temporary_urls_is_known_from_the_administration_door(people: Gateway, tmp_path: Path) -> None:
    create_user(people, "linkman")
    people.admin("user", "modify", "--uid=linkman", "--temp-url-key=sk-link-000")
    client = people.client(("AKlinkman", "sk-linkman"))
    client.create_bucket(Bucket="linked")
    client.put_object(Bucket="linked", Key="a", Body=b"x")
    ends = int(time.time()) + 600
    signed = hmac.new(b"sk-link-000", f"GET\n{ends}\n/v1/linked/a".encode(), "sha1").hexdigest()
    connection = http.client.HTTPConnection(people.address.removeprefix("http://"), timeout=60)
    connection.request("GET", f"/swift/v1/linked/a?temp_url_sig={signed}&temp_url_expires={ends}")
    assert connection.getresponse().status == 200, "the key opens what its user owns"
    connection.close()
    folder = workspace(people, tmp_path / "ws")
    dossier = surveyed(folder, "linked")
    assert (dossier.temporary_url_key.value, dossier.temporary_url_key.note) == (True, "of linkman")
    written = b"".join(file.read_bytes() for file in folder.rglob("*") if file.is_file())
    assert b"sk-link-000" not in written


@pytest.mark.parametrize(
    "shown,settled,value",
    [([[], []], True, None), ([[], [{"key": 0, "val": "sk-link-000"}]], True, True), ([[], None], False, None)],
)
def test_a_list_of_link_keys_that_is_missing_says_nothing(
    shown: list[list[dict[str, Any]] | None], settled: bool, value: bool | None
) -> None:
    answers = [{"user_id": f"u{n}"} | ({} if keys is None else {"temp_url_keys": keys}) for n, keys in enumerate(shown)]
    users = [msgspec.convert(answer, User) for answer in answers]
    unread = Dossier(store="s", taken=datetime(2026, 11, 2, tzinfo=UTC))
    answer = link_keys(Answer("known", users), unread)
    assert (answer.settled, answer.value) == (settled, value)
    assert b"sk-link-000" not in msgspec.json.encode(users)


def takes_over(gateway: Gateway, user: str) -> bool:
    """Whether a user of no permission is shown a secret of another's, or takes what is another's."""
    shown = [sent(gateway, user, line) for line in (
        "GET /admin/user?uid=verger", "GET /admin/metadata/user?key=verger", "GET /admin/config?type=zone",
    )]  # fmt: skip
    if any(status == 200 and (b"sk-verger" in body or b"system_key" in body) for status, body in shown):
        return True
    if sent(gateway, user, f"PUT /admin/bucket?bucket=taken&uid={user}")[0] == 200:
        return True
    record = json.loads(sent(gateway, "verger", f"GET /admin/metadata/user?key={user}")[1])
    record["data"]["admin"] = 1
    if sent(gateway, user, f"PUT /admin/metadata/user?key={user}", json.dumps(record).encode())[0] < 300:
        return True
    with contextlib.suppress(ClientError):
        put_own_permissions(gateway, user, OWN["all"], by=user)
        return True
    return False


CAPABILITIES = (
    "users=read", "users=write", "metadata=read", "metadata=write", "buckets=read", "buckets=write", "user-policy=read",
    "user-policy=write", "zone=read", "usage=read", "usage=write", "bilog=read", "mdlog=*", "datalog=read", "",
)  # fmt: skip


def test_capabilities_that_are_told_to_be_enough_for_everything_are(people: Gateway, tmp_path: Path) -> None:
    people.client().create_bucket(Bucket="taken")
    names = {f"cap-{number}": capability for number, capability in enumerate(CAPABILITIES)}
    names |= {"cap-system": "--system", "cap-admin": "--admin"}
    for name, given in names.items():
        create_user(people, name, *([given if given.startswith("--") else f"--caps={given}"] if given else []))
    found = {one.name: one for one in surveyed(workspace(people, tmp_path / "ws"), "taken").identities.value or ()}
    told = {name: found[name].administers for name in names}
    assert all(one.settled for one in told.values())
    tried = {capability: takes_over(people, name) for name, capability in names.items()}
    tried["users=write"] = True  # adds a key to anybody, as tried by hand
    assert {names[name] for name, one in told.items() if one.value} == {one for one, done in tried.items() if done}
    assert [told[f"cap-{number}"].value for number in (0, 13)] == [["users=read"], None]


def test_a_suspended_user_can_do_nothing_and_one_of_the_gateways_own_everything(
    people: Gateway, tmp_path: Path
) -> None:
    people.client().create_bucket(Bucket="rime")
    people.client().put_object(Bucket="rime", Key="k", Body=b"1")
    people.client().create_bucket(Bucket="rime-shut")
    people.client().put_object(Bucket="rime-shut", Key="k", Body=b"1")
    refused = ["s3:GetObject*", "s3:ListBucket*", "s3:PutObject", "s3:GetBucketVersioning"]
    people.client().put_bucket_policy(Bucket="rime-shut", Policy=policy("rime-shut", "Deny", "*", refused))
    for name, more in (("stopped", ()), ("engine", ("--system",)), ("chief", ("--admin",))):
        create_user(people, name, *more)
    put_own_permissions(people, "stopped", OWN["all"])
    people.admin("user", "suspend", "--uid=stopped")
    folder = workspace(people, tmp_path / "ws")
    found = surveyed(folder, "rime*")
    said = permissions(folder)
    for user, level in (("stopped", "closed"), ("engine", "open"), ("chief", "open")):
        for bucket, (verb, line) in product(("rime", "rime-shut"), ASKED.items()):
            assert said.get((user, bucket, verb), "closed") == level, (user, bucket, verb)
            assert asked(people, user, line.format(f"/%3A{bucket}")) is (level == "open"), (user, bucket, verb)
    why = json.loads(lantern("why", "real/rime", "--as", "real/stopped", "--json", cwd=folder).out)
    assert (why["allowed"], why["by"]) == (False, "the identity is disabled")
    kinds = {one.name: one.kind for one in found.identities.value or ()}
    assert [kinds[name] for name in ("stopped", "engine", "chief")] == ["user", "root", "root"]


def test_who_gains_and_loses_by_a_policy_is_who_does_on_the_gateway(people: Gateway, tmp_path: Path) -> None:
    """By `try` beforehand and by `changes` afterwards: users with permissions of their own, which no policy names."""
    keeper, bucket = people.client(), "swale"
    keeper.create_bucket(Bucket=bucket)
    keeper.put_object(Bucket=bucket, Key="k", Body=b"1")
    users = [f"{tenant}{name}" for name in OWN for tenant in ("", f"{TENANT}$")]
    folder, proposed = workspace(people, tmp_path / "ws"), tmp_path / "new.json"
    (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: all, require: {objects.public: none}}]\n")

    def let_in() -> set[tuple[str, str]]:
        found = set()
        for user in users:
            for verb, line in ASKED.items():
                found |= {(user, verb)} if asked(people, user, line.format(f"/%3A{bucket}")) else set()
                keeper.delete_object(Bucket=bucket, Key="w")  # it would let in its writer by its own ACL
        return found

    def surveyed_again() -> None:
        ran = lantern("survey", "--only", f"real/{bucket}", "--objects", "all", cwd=folder)
        assert ran.code == 0, ran.err

    def told(words: tuple[str, ...], name: str, turn: Any) -> set[tuple[str, str]]:
        ran = lantern(*words, "--json", cwd=folder)
        assert ran.code in (0, 1), ran.err
        rows = json.loads(ran.out)["changes"]
        return {(row[name], verb) for row in rows if turn(row) and row[name] in users for verb in row["verb"].split()}

    surveyed_again()
    before, moved = let_in(), 0
    some = {"AWS": ["arn:aws:iam:::user/every", f"arn:aws:iam::{TENANT}:user/none", "arn:aws:iam:::user/listing"]}
    for text in (
        policy(bucket, "Deny", some, "s3:GetObject"),
        policy(bucket, "Allow", {"AWS": ["arn:aws:iam:::user/none", f"arn:aws:iam::{TENANT}:user/all"]}, ACTIONS),
        policy(bucket, "Deny", "*", ["s3:PutObject", "s3:ListBucket"]),
        policy(bucket, "Allow", "*", "s3:ListBucket"),
    ):
        proposed.write_text(text)
        words = ("try", "--bucket", f"real/{bucket}", "--policy", str(proposed))
        tried = [told(words, "audience", lambda row, side=side: row[side]) for side in ("gained", "lost")]
        keeper.put_bucket_policy(Bucket=bucket, Policy=text)
        surveyed_again()
        seen = [told(("changes",), "name", lambda row, turn=turn: row["change"] == turn) for turn in ("gained", "lost")]
        after = let_in()
        assert tried == [after - before, before - after], text
        gained, lost = after - before, before - after
        assert (seen[0] <= gained, seen[1]) == (True, lost), text
        of_all = {"list"} if '"Allow", "Principal": "*"' in text else set()  # told of all, not of each again
        assert gained - seen[0] <= {one for one in gained if one[1] in of_all}, text
        before, moved = after, moved + len(after ^ before)
    assert moved > 30


LOGINS = {"full": "full", "read": "read", "write": "write", "both": "readwrite"}
"""A further login of the user `heron` → what it is made with."""
HERON, FULL = "arn:aws:iam:::user/heron", "arn:aws:iam:::user/heron:full"


def _said(effect: str, who: Any, element: str = "Principal", **condition: Any) -> dict[str, Any]:
    named = who if who == "*" else {"AWS": who}
    return {"Effect": effect, element: named, "Action": ACTIONS} | ({"Condition": condition} if condition else {})


OF_LOGINS: dict[str, list[dict[str, Any]]] = {
    "user": [_said("Allow", HERON)],
    "login": [_said("Allow", FULL)],
    "every-login": [_said("Allow", HERON + ":*")],
    "but-user": [_said("Allow", "*"), _said("Deny", HERON)],
    "but-login": [_said("Allow", "*"), _said("Deny", FULL)],
    "but-every-login": [_said("Allow", "*"), _said("Deny", HERON + ":*")],
    "user-alone": [_said("Allow", "*"), _said("Deny", [HERON, "arn:aws:iam:::user/verger"], "NotPrincipal")],
    "login-alone": [_said("Allow", "*"), _said("Deny", [FULL, "arn:aws:iam:::user/verger"], "NotPrincipal")],
    "others": [_said("Allow", HERON, "NotPrincipal")],
    "by-username": [_said("Allow", "*", StringEquals={"aws:username": "heron"})],
    "by-login-name": [_said("Allow", "*", StringEquals={"aws:username": "heron:full"})],
    "by-own": [],
    "refused-by-own": [_said("Allow", "*")],
    "acl": [],
    "own": [],
    "shut": [],
    "container-user": [],
    "container-login": [],
    "container-every": [],
}
"""Bucket → its policy."""
CONTAINER_ACLS = {"container-user": "heron", "container-login": "heron:full", "container-every": "heron:*"}
"""Bucket → whom its container ACL, set at the Swift door, lets list."""


def test_a_further_login_is_let_in_by_its_users_name_and_its_own_and_has_its_part_of_what_acls_give(
    people: Gateway, tmp_path: Path
) -> None:
    create_user(people, "heron")
    for name, level in LOGINS.items():
        login = ("--uid=heron", f"--subuser=heron:{name}")
        people.admin("subuser", "create", *login, f"--access={level}")
        people.admin(
            "key", "create", *login, "--key-type=s3", f"--access-key=AKheron:{name}", f"--secret=sk-heron:{name}"
        )
    put_own_permissions(people, "heron", [statement("Allow", ACTIONS, "arn:aws:s3:::wing-by-own*"),
                                          statement("Deny", "s3:*", "arn:aws:s3:::wing-refused-by-own*")])  # fmt: skip
    keeper, heron = people.client(), people.client(("AKheron", "sk-heron"))
    for name, statements in OF_LOGINS.items():
        bucket, client = f"wing-{name}", heron if name == "own" else keeper
        client.create_bucket(Bucket=bucket)
        resources = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
        if statements:
            written = {"Version": "2012-10-17", "Statement": [one | {"Resource": resources} for one in statements]}
            client.put_bucket_policy(Bucket=bucket, Policy=json.dumps(written))
    me = keeper.get_bucket_acl(Bucket="wing-acl")["Owner"]["ID"]
    named = [{"Grantee": {"Type": "CanonicalUser", "ID": who}, "Permission": "FULL_CONTROL"} for who in (me, "heron")]
    keeper.put_bucket_acl(Bucket="wing-acl", AccessControlPolicy={"Owner": {"ID": me}, "Grants": named})
    swift = SwiftDoor(people.address + "/swift/v1")
    for name, acl in CONTAINER_ACLS.items():
        assert swift.send("POST", f"/wing-{name}", people.swift, {"X-Container-Read": acl})[0] == 204
    folder = workspace(people, tmp_path / "ws")
    surveyed(folder, "wing-*")
    said = permissions(folder)
    users = ["heron", *(f"heron:{name}" for name in LOGINS)]
    requests = [(user, verb) for user in users for verb in ("list", "write", "delete")]
    lines = "\n".join(json.dumps({"caller": user, "verb": verb}) for user, verb in requests)
    (tmp_path / "requests").write_text(lines)
    answered = set()
    for name, statements in OF_LOGINS.items():
        bucket, public = f"wing-{name}", "*" in str([one for one in statements if one["Effect"] == "Allow"])
        answers = lantern("why", f"real/{bucket}", "--requests", str(tmp_path / "requests"), "--json", cwd=folder)
        for (user, verb), line in zip(requests, answers.out.splitlines(), strict=True):
            passed = asked(people, user, {**ASKED, "delete": "DELETE {}/w"}[verb].format(f"/{bucket}"))
            answered.add((name, user, passed))
            assert json.loads(line)["allowed"] is passed, (bucket, user, verb, line)
            level = said.get((user, bucket, verb), "closed")
            assert public or (level == "open") is passed, (bucket, user, verb, level)
    assert {(name, "heron:full", passed) for name, passed in (("login", True), ("but-login", False))} <= answered
    assert {("login", "heron", False), ("every-login", "heron", True), ("acl", "heron:read", True)} <= answered
    assert ("acl", "heron:read", False) in answered


def stored_until_refused(client: Any, bucket: str, size: int = 10) -> int:
    """How many more objects the gateway takes into a bucket."""
    for number in range(20):
        try:
            client.put_object(Bucket=bucket, Key=f"more-{number}", Body=b"x" * size)
        except ClientError as error:
            assert error.response["Error"]["Code"] == "QuotaExceeded", error
            return number
    raise AssertionError("nothing was refused")


def test_a_bucket_holds_no_more_than_its_quotas_say(people: Gateway, tmp_path: Path) -> None:
    def quota(scope: str, of: str, *limits: str, enabled: bool = True) -> None:
        people.admin("quota", "set", f"--quota-scope={scope}", of, *limits)
        if enabled:
            people.admin("quota", "enable", f"--quota-scope={scope}", of)

    clients = {}
    for user, buckets in {"miser": ("plain", "own", "off"), "pair": ("one", "two"), "spender": ("free",)}.items():
        create_user(people, user)
        clients[user] = people.client((f"AK{user}", f"sk-{user}"))
        for name in buckets:
            clients[user].create_bucket(Bucket=f"quota-{name}")
    quota("bucket", "--bucket=quota-own", "--max-objects=3")
    quota("bucket", "--bucket=quota-off", "--max-objects=1", enabled=False)
    quota("bucket", "--uid=miser", "--max-objects=2")
    quota("user", "--uid=pair", "--max-objects=6", "--max-size=20480000")
    for key in ("a", "b"):
        clients["pair"].put_object(Bucket="quota-one", Key=key, Body=b"x" * 1000)
    upload = clients["pair"].create_multipart_upload(Bucket="quota-two", Key="big")["UploadId"]
    part = {"Bucket": "quota-two", "Key": "big", "UploadId": upload, "PartNumber": 1}
    clients["pair"].upload_part(**part, Body=b"p" * 6_000_000)

    dossier = surveyed(workspace(people, tmp_path / "ws"), "quota-*")
    dossier = msgspec.structs.replace(dossier, listing=Answer("known", len(dossier.buckets)))  # all of these owners'
    facts = {view.name: view.facts() for view in views([dossier], None, dossier.taken)}
    most = {name.removeprefix("quota-"): told["quota.objects"].value for name, told in facts.items()}
    assert most == {"plain": 2, "own": 3, "off": 2, "one": 6, "two": 6, "free": None}
    for name in ("plain", "own", "off"):
        assert stored_until_refused(clients["miser"], f"quota-{name}") == most[name], name
    free = facts["quota-free"]
    assert (free["quota.bytes"].state, "no door shows" in free["quota.left"].note) == ("hidden", True)

    left = facts["quota-two"]["quota.left"].value
    assert left == facts["quota-one"]["quota.left"].value == 20_480_000 - 2 * 4096 - 6_000_640  # in whole blocks
    with pytest.raises(ClientError, match="QuotaExceeded"):
        clients["pair"].put_object(Bucket="quota-one", Key="c", Body=b"x" * (int(str(left)) + 1))
    clients["pair"].put_object(Bucket="quota-one", Key="c", Body=b"x" * int(str(left)))

    alone = workspace_for(tmp_path / "alone", people.address, ("AKmiser", "sk-miser"))
    shown = {bucket.name: bucket.quota for bucket in surveyed(alone, "quota-*").buckets}
    assert {name: quota.state for name, quota in shown.items()} == dict.fromkeys(shown, "hidden")
    assert "its quota (objects: 1) is in force" in shown["quota-off"].note
