"""Users of the real gateway whose operations it limits (`op_mask`): each request, at each door, as predicted."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.rules.refusals import operations_of
from rusty_lantern.core.model.dossier import decode
from tests.conftest import lantern
from tests.gateway import Gateway, send_to
from tests.swift_server import SwiftDoor
from tests.test_gateway_users import create_auditor, create_user, permissions, surveyed, workspace

LIMITS = {"lawn-all": "read, write, delete", "lawn-read": "read", "lawn-write": "write", "lawn-delete": "delete",
          "lawn-none": "<none>"}  # fmt: skip
"""A user of each."""
NO_SUCH_REQUEST = {
    "s3:PutReplicationConfiguration",
    "s3:PutBucketLogging",
    "s3:PutBucketWebsite",
    "s3:GetBucketWebsite",
    "s3:DeleteBucketWebsite",
}
"""What release 16.2 answers with 405, whoever asks."""
BY_DELETE = {"tagging": "PutBucketTagging", "cors": "PutBucketCORS", "lifecycle": "PutLifecycleConfiguration",
             "publicAccessBlock": "PutBucketPublicAccessBlock",
             "notification": "PutBucketNotification", "policy": "DeleteBucketPolicy"}  # fmt: skip
"""Settings that are deleted, and the action that it is."""


def key_of(user: str) -> tuple[str, str]:
    return f"AK{user}", f"sk-{user}"


def limit(gateway: Gateway, user: str, operations: str) -> None:
    gateway.admin("user", "modify", f"--uid={user}", f"--op-mask={operations.replace(' ', '')}")


@pytest.fixture(scope="module")
def users(gateway: Gateway) -> Gateway:
    for user in LIMITS:
        create_user(gateway, user)
    return gateway


@pytest.mark.parametrize("operation", ["read", "write", "delete"])
def test_the_gateway_asks_for_an_operation_before_any_rule_as_the_table_says(users: Gateway, operation: str) -> None:
    """In a bucket of the user's own."""
    user, bucket = "lawn-all", f"lawn-{operation}"
    client = users.client(key_of(user))
    client.create_bucket(Bucket=bucket)
    for key in ("k", "d1", "d2"):
        client.put_object(Bucket=bucket, Key=key, Body=b"1")
    begun = client.create_multipart_upload(Bucket=bucket, Key="k")["UploadId"]
    keys = {"s3:PutObject": "new", "s3:DeleteObject": "d1", "s3:DeleteObjectVersion": "d1",
            "s3:BypassGovernanceRetention": "d2"}  # fmt: skip
    asked = [
        (one, one.method, f"/{bucket}" + (f"/{keys.get(one.name, 'k')}" if one.target == "object" else ""),
         one.query.replace("uploadId=a", f"uploadId={begun}"))
        for one in ACTIONS.values() if one.method and one.name not in NO_SUCH_REQUEST
    ]  # fmt: skip
    asked += [(ACTIONS[f"s3:{action}"], "DELETE", f"/{bucket}", query) for query, action in BY_DELETE.items()]
    limit(users, user, operation)
    try:
        passed: dict[str, bool] = {}
        for action, method, path, query in sorted(asked, key=lambda one: one[1] == "DELETE"):
            let_in = send_to(users.address, key_of(user), method, path, query)[0] not in (403, 405)
            passed[action.name] = passed.get(action.name, False) or let_in
    finally:
        limit(users, user, LIMITS[user])
    assert passed == {name: operation in operations_of(ACTIONS[name]) for name in passed}
    assert len(passed) > 80


def test_what_a_limited_user_can_do_is_what_the_gateway_lets_it_do(users: Gateway, tmp_path: Path) -> None:
    """By a bucket's policy, by an ACL, and in a bucket of its own; with a further login, and as an administrator of the
    gateway, who is removed again: other modules share it."""
    create_auditor(users, "lawn-auditor", "lawn-reeve")
    limit(users, "lawn-auditor", "read")  # a survey needs no more
    keeper = users.client()
    limited = {**LIMITS, "lawn-steward": "read"}
    create_user(users, "lawn-steward", "--admin")
    names = {"AWS": [f"arn:aws:iam:::user/{user}" for user in limited]}
    keeper.create_bucket(Bucket="lawn-shared")
    keeper.put_object(Bucket="lawn-shared", Key="k", Body=b"1")
    statement = {"Effect": "Allow", "Principal": names, "Action": "s3:*",
                 "Resource": ["arn:aws:s3:::lawn-shared", "arn:aws:s3:::lawn-shared/*"]}  # fmt: skip
    document = json.dumps({"Version": "2012-10-17", "Statement": [statement]})
    keeper.put_bucket_policy(Bucket="lawn-shared", Policy=document)
    keeper.create_bucket(Bucket="lawn-named")
    keeper.put_object(Bucket="lawn-named", Key="k", Body=b"1")
    me = keeper.get_bucket_acl(Bucket="lawn-named")["Owner"]["ID"]
    grants = [{"Grantee": {"Type": "CanonicalUser", "ID": who}, "Permission": "FULL_CONTROL"} for who in (me, *limited)]
    keeper.put_bucket_acl(Bucket="lawn-named", AccessControlPolicy={"Owner": {"ID": me}, "Grants": grants})
    buckets = ["lawn-shared", "lawn-named"]
    for user, operations in limited.items():
        client, own = users.client(key_of(user)), f"{user}-own"
        client.create_bucket(Bucket=own)
        client.put_object(Bucket=own, Key="k", Body=b"1")
        buckets.append(own)
        limit(users, user, operations)
    for user in LIMITS:
        users.admin("subuser", "create", f"--uid={user}", f"--subuser={user}:night", "--access=full")
        login = (
            f"--subuser={user}:night",
            "--key-type=s3",
            f"--access-key=AK{user}:night",
            f"--secret=sk-{user}:night",
        )
        users.admin("key", "create", f"--uid={user}", *login)
    folder = workspace(users, tmp_path / "ws", "lawn-auditor")
    surveyed(folder, "lawn-*")
    said, wrong, levels = permissions(folder), [], set()
    requests = {"list": "GET {}", "read": "GET {}/k", "write": "PUT {}/w", "read-settings": "GET {}?acl",
                "delete": "DELETE {}/w"}  # fmt: skip
    for user in [*limited, *(f"{user}:night" for user in LIMITS)]:
        for bucket in buckets:
            for verb, line in requests.items():
                method, path = line.format(f"/{bucket}").split(" ")
                target, _, query = path.partition("?")
                let_in = send_to(users.address, key_of(user), method, target, query)[0] != 403
                level = said.get((user, bucket, verb), "closed")
                levels.add((verb, level))
                if level != "unknown" and (level != "closed") is not let_in:
                    wrong.append((user, bucket, verb, level, let_in))
    assert wrong == []
    assert {(verb, level) for verb in requests for level in ("open", "closed")} <= levels
    (saved,) = folder.glob("surveys/*/stores/real.json")
    kept = {one.name: one.operations for one in decode(saved.read_bytes(), saved.name).identities.value or ()}
    assert kept["lawn-all"].state == "absent"
    assert [kept[name].value for name in ("lawn-read:night", "lawn-none")] == [["read"], []]
    reader = lantern("why", "real/lawn-shared", "--as", "lawn-read", "--verb", "write", cwd=folder)
    assert "the store limits its operations (read)" in reader.out, reader.out
    users.admin("user", "rm", "--uid=lawn-steward", "--purge-data")


AT_THE_SWIFT_DOOR = [
    ("read", "GET", "/{}", {}), ("read", "GET", "/{}/a.txt", {}), ("write", "PUT", "/{}/b.txt", {}),
    ("write", "POST", "/{}/a.txt", {"X-Object-Meta-Of": "lawn"}),
    ("write", "POST", "/{}", {"X-Container-Read": "deck"}),
    ("write", "COPY", "/{}/a.txt", {"Destination": "{}/c.txt"}),
    ("delete", "DELETE", "/{}/b.txt", {}), ("delete", "POST", "?bulk-delete", {"Content-Type": "text/plain"}),
]  # fmt: skip


@pytest.mark.parametrize("operation", ["read", "write", "delete"])
def test_the_swift_door_limits_the_same(users: Gateway, operation: str) -> None:
    user, login = f"lawn-swift-{operation}", (f"lawn-swift-{operation}:day", "sk-swift-000")
    create_user(users, user)
    words = (f"--subuser={login[0]}", "--access=full", "--key-type=swift", f"--secret={login[1]}")
    users.admin("subuser", "create", f"--uid={user}", *words)
    door, container = SwiftDoor(f"{users.address}/swift/v1"), f"lawn-tub-{operation}"
    door.make(login, container, ("a.txt", "b.txt"))
    limit(users, user, operation)
    passed = []
    for _, method, path, headers in AT_THE_SWIFT_DOOR:
        sent = {name: value.format(container) for name, value in headers.items()}
        body = f"{container}/none\n".encode() if "bulk-delete" in path else b""
        passed.append(door.send(method, path.format(container), login, sent, body)[0] not in (401, 403))
    assert passed == [one == operation for one, *_ in AT_THE_SWIFT_DOOR]
