"""Containers whose earlier versions a Swift server keeps in another one: who reaches that one through them."""

from __future__ import annotations

import json
from itertools import product
from pathlib import Path

import msgspec
import pytest

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.container_acl import GatewayGuards, statements_of
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import Bucket, ContainerAcl, VersionSource
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.simulator.demo.harbour import MOMENT
from rusty_lantern.stores.swift.headers import versions_kept_in
from rusty_lantern.stores.swift.sources import with_version_sources
from tests.conftest import lantern
from tests.swift_server import DECK as OWNING
from tests.swift_server import OWNER as WRITING
from tests.swift_server import SwiftDoor
from tests.test_swift_decisions import estate, surveyed

WRITER = WRITING[0]
MODES = {"back": "X-Versions-Location", "history": "X-History-Location"}
READS, WRITES = {"none": "", "named": WRITER, "all": ".r:*"}, {"none": "", "named": WRITER}
PAIRS = ["-".join(parts) for parts in product(MODES, READS, WRITES)]
VERBS = {"write": "s3:PutObject", "delete": "s3:DeleteObject", "read": "s3:GetObject", "list": "s3:ListBucket"}


@pytest.fixture(scope="module")
def account(swift_server: str) -> SwiftDoor:
    """An account with pairs of containers: `cur-…`, whose versions go to `arch-…`, which has no ACL of its own."""
    door = SwiftDoor(f"{swift_server}/v1/AUTH_deck")
    door.make(OWNING, "seen", X_Container_Read=".rlistings")  # shows that the credential is shown ACLs
    for pair in PAIRS:
        mode, read, write = pair.split("-")
        door.make(OWNING, f"arch-{pair}", ())
        headers = {MODES[mode]: f"arch-{pair}", "X-Container-Read": READS[read], "X-Container-Write": WRITES[write]}
        assert door.send("PUT", f"/cur-{pair}", OWNING, headers)[0] == 201
    return door


def archived(account: SwiftDoor, pair: str) -> list[str]:
    """The names of the versions that are kept."""
    return account.send("GET", f"/arch-{pair}", OWNING)[2].decode().split()


def stored(account: SwiftDoor, pair: str, *bodies: str) -> None:
    """Store an object again and again, as the owner."""
    for body in bodies:
        assert account.send("PUT", f"/cur-{pair}/o", OWNING, body=body.encode())[0] == 201


def brings_about(account: SwiftDoor, pair: str, verb: str) -> bool:
    """Whether the writer can have the server do this to what is kept, by whatever requests there are."""
    if verb == "list":
        return account.send("GET", f"/arch-{pair}", WRITING)[0] == 200
    stored(account, pair, "earlier", "now")
    before = archived(account, pair)
    if verb == "write":
        account.send("PUT", f"/cur-{pair}/o", WRITING, body=b"mine")
        return len(archived(account, pair)) > len(before)
    account.send("DELETE", f"/cur-{pair}/o", WRITING)
    if verb == "delete":
        return len(archived(account, pair)) < len(before)
    return account.send("GET", f"/cur-{pair}/o", WRITING)[2] == b"earlier"


def decided(bucket: Bucket, dossier: Dossier, verb: str, user: str = WRITER) -> bool | None:
    key = "" if verb == "list" else "001o/1795919383.61411"
    context = always_carried(anonymous=False) | {"aws:sourceip": ("127.0.0.1",)}
    return decide(rules_of(bucket, dossier), Request(VERBS[verb], key, Caller(canonical=user), context)).allowed


def test_who_writes_to_a_container_reaches_where_its_versions_are_kept(account: SwiftDoor, tmp_path: Path) -> None:
    folder = estate(tmp_path, account.at)
    dossier, rows = surveyed(folder, OWNING)
    told = {row["bucket"]: row for row in json.loads(lantern("access", "--json", cwd=folder).out)["access"]}
    buckets = {bucket.name: bucket for bucket in dossier.buckets}
    for name, kept in ((f"arch-{PAIRS[0]}", f"cur-{PAIRS[0]}"), (f"cur-{PAIRS[0]}", None)):
        shown = json.loads(lantern("show", name, "--json", cwd=folder).out)["facts"]
        assert {fact["fact"]: fact["value"] for fact in shown}["keeps-versions-of"] == kept
    answers = {(pair, verb): brings_about(account, pair, verb) for pair in PAIRS for verb in VERBS}
    assert {verb for (_, verb), passed in answers.items() if passed} == {"write", "delete", "read"}
    for (pair, verb), passed in answers.items():
        name = f"arch-{pair}"
        assert decided(buckets[name], dossier, verb) is passed, (pair, verb)
        assert (verb in told.get(name, {"verbs": {}})["verbs"]) is passed, (pair, verb)
        assert not decided(buckets[name], dossier, verb, "watch:reader"), (pair, verb)
        assert {one["verdict"] for one in rows[name]["exposure"]["anyone"].values()} == {"closed"}


@pytest.mark.parametrize("verb", ["delete", "read"])
def test_the_request_that_is_shown_does_it(account: SwiftDoor, tmp_path: Path, verb: str) -> None:
    pair = "back-named-named"
    folder = estate(tmp_path, account.at)
    surveyed(folder, OWNING)
    stored(account, pair, "earlier", "now")
    kept = archived(account, pair)[-1]
    words = ("why", f"lagoon/arch-{pair}", "--as", WRITER, "--verb", verb, "--key", kept, "--json")
    told = json.loads(lantern(*words, cwd=folder).out)
    assert told["allowed"] is True
    assert f"of cur-{pair}, whose earlier versions are kept here" in told["by"]
    sent = [told["request"].get("circumstances", {}).get("first"), told["request"]["request"]]
    replies = [account.send(*line.split(" ", 1), user=WRITING) for line in sent if line]  # type: ignore[misc]
    assert [status // 100 for status, _, _ in replies] == [2] * len(replies)
    assert kept not in archived(account, pair)
    assert verb == "delete" or replies[-1][2] == b"earlier"


def test_a_container_that_was_not_read_may_keep_its_versions_anywhere(account: SwiftDoor, tmp_path: Path) -> None:
    dossier, _ = surveyed(estate(tmp_path, account.at), OWNING)
    denied: Answer[ContainerAcl] = Answer("denied", None, "it answered 403")
    kept_in = {bucket.name: None for bucket in dossier.buckets if bucket.name != "seen"}
    plain = [
        bucket if bucket.name != "seen" else Bucket(name="seen", container_acl=denied) for bucket in dossier.buckets
    ]
    doubtful = with_version_sources([b for b in plain if b.name.startswith(("seen", "cur-"))], kept_in)
    apart = msgspec.structs.replace(dossier, buckets=doubtful)
    for bucket in (one for one in doubtful if one.name != "seen"):
        exposed = exposures(rules_of(bucket, apart), EvaluationContext(MOMENT, ""))
        levels = {verb: exposed["any-account", verb].level for verb in ("write", "delete", "list")}
        assert levels == {"write": "unknown", "delete": "unknown", "list": "closed"}
        assert any("seen was not read" in doubt for doubt in exposed["any-account", "delete"].doubts)


def test_a_container_that_is_gone_keeps_nothing() -> None:
    gone: Answer[ContainerAcl] = Answer("failed", None, "it is gone", Evidence("HEAD /c", "404"))
    there: Answer[ContainerAcl] = Answer("absent")
    read = [Bucket(name="gone", container_acl=gone), Bucket(name="there", container_acl=there)]
    assert with_version_sources(read, {"there": None})[1].container_acl == there


def test_long_acls_make_as_many_rules_as_they_have_entries() -> None:
    names = ",".join(f"deck:u{number}" for number in range(300))
    hosts = ",".join(f".r:h{number}.example" for number in range(100))
    source = VersionSource("cur", f"{names},{hosts}", names, takes_back=True)
    acl = ContainerAcl(versions_of=[source])
    assert len(statements_of(acl, None, "tempauth", GatewayGuards(None, None))) == 300 + 100 + 1


def test_where_versions_are_kept_is_read_as_the_server_writes_it() -> None:
    assert versions_kept_in({"x-versions-location": "old%20logs"}) == ("old logs", True)
    assert versions_kept_in({"x-history-location": "arch/"}) == ("arch", False)
    assert versions_kept_in({"x-versions-enabled": "true"}) is None
