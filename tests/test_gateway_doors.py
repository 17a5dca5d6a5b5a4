"""One gateway, two doors: random mixes of Swift ACLs, S3 ACLs, policies and public-access guards, through every door.

The installed program reads both doors; requests come without credentials and from a second user, through both, with
several Referers. No verdict is `closed` where anything passes, and every witness passes at some door.
"""

from __future__ import annotations

import json
import random
from collections import Counter
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST, always_carried
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.model.bucket import VersionSource
from rusty_lantern.core.model.dossier import Dossier, decode
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.swift_server import SwiftDoor
from tests.test_admin_door import workspace
from tests.test_gateway_decisions import DECK, send

BUCKETS = 64
READ_FORMS = (
    ".r:*", ".r:*", ".r:*", ".rlistings", ".r:good.example", ".r:.good.example", ".r:-bad.example", ".r:unknown",
    ".r:-*", ".r:-*",
    "*", "*:*", "deck", "deck:*", "keeper", "anonymous", "nobody", ".r:http://good.example", ".r:good.example:8080",
    ".referrer:*", "DECK", ".r:un*",
)  # fmt: skip
WRITE_FORMS = ("*", "*:*", "deck", "anonymous", "nobody")
ODD: tuple[dict[str, Any], ...] = (
    {"NotAction": "s3:GetBucketLocation"},
    {"Condition": {"StringNotEquals": {"aws:PrincipalType": "Anonymous"}}},
    {"Condition": {"Null": {"aws:username": "false"}}},
    {"Condition": {"StringNotLike": {"aws:UserAgent": "browser*"}}},
    {"Principal": {"AWS": ["arn:aws:iam:::root"]}},
)
"""What this software reads in its own way."""
REFERERS = ("", "http://good.example/", "https://www.good.example/p", "http://bad.example/", "http://unknown/")
ACCOUNT_ACLS = (
    '{"read-write":["", ".r:good.example", "*"]}',
    '{"read-only":[".r:*"]}',
    '{"read-only":["deck"],"admin":["anonymous"]}',
)


@dataclass(frozen=True)
class Sent:
    """One request through one door, and whether it passed."""

    bucket: str
    verb: str
    door: str
    referer: str
    passed: bool


@dataclass(frozen=True)
class Doors:
    """A user's buckets behind both doors."""

    gateway: Gateway
    swift: SwiftDoor
    user: tuple[str, str]
    names: list[str]
    how: dict[str, dict[str, Any]]

    def ask(
        self, bucket: str, verb: str, door: str, referer: str = "", headers: Mapping[str, str] | None = None
    ) -> Sent:
        headers = headers if headers is not None else {"Referer": referer} if referer else {}
        method, path = {"read": ("GET", "/a.txt"), "list": ("GET", "/"), "write": ("PUT", "/new")}[verb]
        root = door == "s3"
        status, _, _ = self.swift.send(method, f"/{bucket}{path}", None, headers, root=root)
        assert status in (200, 201, 204, 301, 401, 403), (bucket, verb, door, status)
        return Sent(bucket, verb, door, referer, status in (200, 201, 204))


def drawn(dice: random.Random, client: Any, swift: SwiftDoor, user: tuple[str, str], bucket: str) -> dict[str, Any]:
    """Make a bucket and set its access through random doors; what was set, for a message."""
    client.create_bucket(Bucket=bucket)
    client.put_object(Bucket=bucket, Key="a.txt", Body=b"x")
    how: dict[str, Any] = {}
    if dice.random() < 0.25:
        how["s3 acl"] = dice.choice(["public-read", "authenticated-read", "private"])
        client.put_bucket_acl(Bucket=bucket, ACL=how["s3 acl"])
    if dice.random() < 0.7:
        read = ",".join(dice.sample(READ_FORMS, dice.choice([0, 1, 1, 2, 3])))
        write = ",".join(dice.sample(WRITE_FORMS, dice.choice([0, 0, 1, 2])))
        how |= {"read": read, "write": write}
        headers = {"X-Container-Read": read, "X-Container-Write": write}
        assert swift.send("POST", f"/{bucket}", user, headers)[0] == 204
    if dice.random() < 0.35:
        statement = {
            "Effect": dice.choice(["Allow", "Allow", "Deny"]),
            "Principal": dice.choice(["*", {"AWS": ["arn:aws:iam:::user/deck"]}]),
            "Action": dice.sample(["s3:GetObject", "s3:ListBucket", "s3:PutObject"], dice.randint(1, 2)),
            "Resource": [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"],
        }
        if dice.random() < 0.4:
            statement |= dice.choice(ODD)
            if "NotAction" in statement:
                del statement["Action"]
        how["policy"] = statement
        document = json.dumps({"Version": "2012-10-17", "Statement": [statement]})
        client.put_bucket_policy(Bucket=bucket, Policy=document)
    if dice.random() < 0.3:
        names = ("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets")
        how["guards"] = {name: dice.random() < 0.7 for name in names}
        client.put_public_access_block(Bucket=bucket, PublicAccessBlockConfiguration=how["guards"])
    return how


@pytest.fixture(scope="module")
def doors(gateway: Gateway) -> Doors:
    """Buckets of a user of the gateway, whose access is set through random doors."""
    swift, user = SwiftDoor(f"{gateway.address}/swift/v1"), gateway.swift
    dice = random.Random(20261126)
    client = gateway.client()
    names = [f"doors-{number:02d}" for number in range(BUCKETS)]
    how = {name: drawn(dice, client, swift, user, name) for name in names}
    return Doors(gateway, swift, user, names, how)


def estate(doors: Doors, folder: Path, *, named: bool = True) -> Path:
    """A workspace that reads the gateway; `named`: its Swift door too."""
    folder.mkdir(exist_ok=True)
    swift = f"    doors:\n      swift: {{at: {doors.swift.at}, credential: {{environment: DOOR}}}}\n"
    (folder / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {doors.gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n    objects: {'*': all}\n"
        f"{swift if named else ''}"
    )
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed, objects.public: none}\n"
    )
    return folder


def surveyed(doors: Doors, folder: Path, *words: str) -> tuple[Dossier, dict[str, Any]]:
    secrets = {
        "HARBOUR_ACCESS_KEY_ID": doors.gateway.keeper[0], "HARBOUR_SECRET_ACCESS_KEY": doors.gateway.keeper[1],
        "DOOR_USER": doors.user[0], "DOOR_KEY": doors.user[1],
    }  # fmt: skip
    done = lantern("survey", *words, cwd=folder, **secrets)
    assert done.code == 0, done.err + done.out
    latest = max((folder / "surveys").glob("2*"))
    told = lantern("exposure", "--json", cwd=folder)
    rows = {row["bucket"]: row for row in json.loads(told.out)["buckets"]}
    return decode((latest / "stores/harbour.json").read_bytes(), "harbour.json"), rows


@pytest.mark.parametrize("account_acl", ACCOUNT_ACLS)
def test_no_verdict_is_closed_where_anything_passes_at_either_door(
    doors: Doors, deck: tuple[str, str], tmp_path: Path, account_acl: str
) -> None:
    assert doors.swift.send("POST", "", doors.user, {"X-Account-Access-Control": account_acl})[0] == 204
    cases = [
        (name, verb, door, referer)
        for name in doors.names
        for verb in ("read", "list", "write")
        for door in ("s3", "swift")
        for referer in (REFERERS if verb != "write" else REFERERS[:1])
    ]
    dossier, rows = surveyed(doors, estate(doors, tmp_path))
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda case: doors.ask(*case), cases))
    outcome: Counter[str] = Counter()
    false_closed, refused = [], []
    for name in doors.names:
        for verb in ("list", "read", "write"):
            verdict = rows[name]["exposure"]["anyone"][verb]
            passed = [s for s in answers if (s.bucket, s.verb) == (name, verb) and s.passed]
            level = verdict["verdict"]
            outcome[f"{level} {'passed' if passed else 'refused'}"] += 1
            if level == "closed" and passed:
                false_closed.append((passed[0], doors.how[name]))
            if level in ("open", "restricted"):
                headers = verdict["witness"].get("headers", {})
                if not any(doors.ask(name, verb, door, headers=headers).passed for door in ("s3", "swift")):
                    refused.append((name, verb, verdict["because"], doors.how[name]))
    print(f"account ACL {account_acl}: {dict(outcome)}")
    assert dossier.software.value is not None
    assert dossier.software.value.dialect == "gateway-16"
    shut_out = [case for case in second_account(doors, dossier, deck) if case[-1]]
    for name in doors.names:
        doors.gateway.client().delete_object(Bucket=name, Key="new")
    definite = sum(count for words, count in outcome.items() if not words.startswith("unknown"))
    reasons = Counter(
        why for row in rows.values() for v in row["exposure"]["anyone"].values() for why in v["unknown_because"]
    )
    # a Deny to everybody shuts the owner out of its objects' ACLs too: these are most of the unknown ones
    assert definite >= 0.92 * outcome.total(), (outcome, reasons)
    assert not false_closed, (len(false_closed), false_closed[:8])
    assert not refused, (len(refused), refused[:8])
    assert not shut_out, (len(shut_out), shut_out[:8])


@pytest.fixture(scope="module")
def deck(doors: Doors) -> tuple[str, str]:
    """The second user's login at the Swift door."""
    secret = "sk-deck-swift-000"
    doors.gateway.admin("subuser", "create", "--uid=deck", "--subuser=deck:swift", "--access=full",
                        "--key-type=swift", f"--secret={secret}")  # fmt: skip
    return "deck:swift", secret


def second_account(doors: Doors, dossier: Dossier, deck: tuple[str, str]) -> list[tuple[Any, ...]]:
    """Requests of another user through both doors, from two addresses: with what passed, and whether the program says
    that it is refused."""
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets}
    found = []
    actions = {"read": ("s3:GetObject", "a.txt"), "list": ("s3:ListBucket", ""), "write": ("s3:PutObject", "put/1")}
    for name in doors.names:
        for number, (verb, (action, key)) in enumerate(actions.items()):
            source = f"127.0.0.{1 + number % 2}"
            context = always_carried(anonymous=False, arn=DECK.arn) | {
                "aws:principalarn": (DECK.arn,), "aws:sourceip": (source,), "aws:securetransport": ("false",),
                REFERER_HOST: ("",),
            }  # fmt: skip
            request = Request(action, key, DECK, context)
            method, path = {"read": ("GET", "/a.txt"), "list": ("GET", "/"), "write": ("PUT", "/new")}[verb]
            passed = send(doors.gateway, request, name) == 200
            passed |= doors.swift.send(method, f"/{name}{path}", deck, source=source)[0] in (200, 201, 204)
            found.append((name, verb, doors.how[name], passed and decide(rules[name], request).allowed is False))
    assert any(not shut for *_, shut in found)
    return found


def test_a_door_that_nobody_named_is_found_and_makes_exposure_unknown(doors: Doors, tmp_path: Path) -> None:
    dossier, rows = surveyed(doors, estate(doors, tmp_path, named=False))
    assert dossier.doors.value is not None
    assert [(door.name, door.at, door.read) for door in dossier.doors.value] == [("swift", doors.swift.at, False)]
    levels = {v["verdict"] for row in rows.values() for v in row["exposure"]["anyone"].values()}
    assert "closed" not in levels
    why = json.loads(lantern("audit", "--json", cwd=tmp_path).out)["overview"]["unknown"]
    unnamed = [one for one in why if "does not name that door" in one["reason"]]
    assert any("exposure.read" in one["fact_names"] for one in unnamed)
    assert all(one["settled_by"].startswith("name that door in estate.yaml (lantern reach") for one in unnamed)


def test_the_administration_door_alone_leaves_nothing_closed_that_passes(doors: Doors, tmp_path: Path) -> None:
    """A user with no rights on the buckets: what it tells is told, what it cannot is unknown."""
    caps = "users=read;buckets=read;metadata=read"
    named = ("--uid=auditor", "--display-name=A", "--access-key=AKAUDIT", "--secret=sk-audit-000")
    doors.gateway.admin("user", "create", *named)
    doors.gateway.admin("caps", "add", "--uid=auditor", f"--caps={caps}")
    folder = workspace(tmp_path, doors.gateway.address)
    secrets = {"AUDIT_ACCESS_KEY_ID": "AKAUDIT", "AUDIT_SECRET_ACCESS_KEY": "sk-audit-000"}
    assert doors.swift.send("POST", "", doors.user, {"X-Account-Access-Control": "{}"})[0] == 204
    ended = lantern("survey", "--only", "harbour/doors-*", cwd=folder, **secrets)
    assert ended.code == 0, ended.err
    rows = {row["bucket"]: row for row in json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]}
    assert set(rows) == set(doors.names)
    decided = 0
    for name in doors.names:
        for verb in ("list", "read", "write"):
            level = rows[name]["exposure"]["anyone"][verb]["verdict"]
            decided += level != "unknown"
            if level == "closed":
                assert not any(doors.ask(name, verb, door, "").passed for door in ("s3", "swift")), (name, verb)
    assert decided > 0


def test_both_doors_and_the_administration_door_agree_about_every_bucket(doors: Doors, tmp_path: Path) -> None:
    folder = estate(doors, tmp_path)
    file = folder / "estate.yaml"
    line = f"      admin: {{at: '{doors.gateway.address}/admin', credential: {{file: audit.ini}}}}\n"
    file.write_text(file.read_text() + line)
    (folder / "audit.ini").write_text("[default]\naws_access_key_id=AKAUDIT\naws_secret_access_key=sk-audit-000\n")
    dossier, _ = surveyed(doors, folder, "--only", "harbour/doors-*")
    checked = {bucket.name: bucket.differs_by_door for bucket in dossier.buckets}
    assert [(name, told.value) for name, told in checked.items() if told.value] == []
    assert sum(told.state == "known" for told in checked.values()) >= len(doors.names) - 4


def test_where_a_gateway_keeps_the_versions_of_a_bucket_nobody_is_shut_out_for_certain(
    doors: Doors, tmp_path: Path
) -> None:
    """The setting is off as the gateway comes. With it, whoever writes to the one bucket deletes from the other."""
    swift, user, names = doors.swift, doors.user, ("moved-cur", "moved-arch", "moved-apart")
    for name in names:
        assert swift.send("PUT", f"/{name}", user)[0] == 201
    doors.gateway.client().put_bucket_acl(Bucket="moved-cur", ACL="public-read-write")
    with doors.gateway.set_up_with("rgw swift versioning enabled = true"):
        assert swift.send("POST", "/moved-cur", user, {"X-Versions-Location": "moved-arch"})[0] == 204
        for body in (b"earlier", b"now"):
            assert swift.send("PUT", "/moved-cur/o", user, body=body)[0] == 201
        kept = swift.send("GET", "/moved-arch", user)[2].split()
        dossier, rows = surveyed(doors, estate(doors, tmp_path), "--only", "harbour/moved-*")
        assert not any(
            doors.ask("moved-arch", verb, door).passed for verb in ("read", "write") for door in ("s3", "swift")
        )
        assert swift.send("DELETE", "/moved-cur/o")[0] == 204, "by whoever sends no credentials"
        left = swift.send("GET", "/moved-arch", user)[2].split()
    assert (len(kept), left) == (1, [])
    written = {name: rows[name]["exposure"]["anyone"]["write"] for name in names}  # bulk deletion opens delete anyway
    assert {name: one["verdict"] for name, one in written.items()} == {
        "moved-cur": "open", "moved-arch": "unknown", "moved-apart": "closed",
    }  # fmt: skip
    assert "writing to moved-cur, whose earlier versions are kept here" in str(written["moved-arch"])
    acls = {bucket.name: bucket.container_acl.value for bucket in dossier.buckets}
    assert [acl.versions_of for acl in (acls["moved-arch"],) if acl] == [[VersionSource("moved-cur", "", "", True)]]
