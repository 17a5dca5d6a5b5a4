"""Containers that a Swift server's own daemon keeps in step: who writes to one writes to the other."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.policy.container_acl import NOT_SHOWN
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, ContainerAcl, CopySource, ReplicationRule
from rusty_lantern.stores.swift.sources import with_copy_sources
from tests.conftest import lantern
from tests.swift_server import DECK as OWNING
from tests.swift_server import OWNER as WRITING
from tests.swift_server import SwiftDoor, synchronize
from tests.test_swift_decisions import estate, surveyed
from tests.test_swift_versions import decided

KEY, OTHER = {"X-Container-Sync-Key": "sk-step-000"}, {"X-Container-Sync-Key": "sk-step-001"}
WRITER = WRITING[0]
TARGETS = {"in-step": KEY, "of-another-key": OTHER, "of-no-key": {}}
"""Container that another one names → the key that it has; the other one has `KEY`."""
CHAIN = ("first", "second", "third")
"""Each is synchronized to the next."""


@pytest.fixture(scope="module")
def account(swift_server: str) -> SwiftDoor:
    """An account with targets of each sort, each with a container that is synchronized to it, to which another user
    writes."""
    door = SwiftDoor(f"{swift_server}/v1/AUTH_deck")
    for target, headers in TARGETS.items():
        assert door.send("PUT", f"/{target}", OWNING, headers)[0] == 201
        there = {"X-Container-Sync-To": f"//realm/here/AUTH_deck/{target}", "X-Container-Write": WRITER}
        assert door.send("PUT", f"/to-{target}", OWNING, KEY | there)[0] == 201
    for name, then in zip(CHAIN, (*CHAIN[1:], ""), strict=True):
        there = {"X-Container-Sync-To": f"//realm/here/AUTH_deck/{then}"} if then else {}
        acl = {"X-Container-Write": WRITER} if name == CHAIN[0] else {}
        assert door.send("PUT", f"/{name}", OWNING, KEY | there | acl)[0] == 201
    return door


def holds(account: SwiftDoor, container: str) -> list[str]:
    """What is in a container once the daemon has looked."""
    synchronize(account.at.partition("/v1/")[0])
    return account.send("GET", f"/{container}", OWNING)[2].decode().split()


def test_who_writes_to_a_container_may_write_where_it_is_synchronized_to(account: SwiftDoor, tmp_path: Path) -> None:
    for target in TARGETS:
        assert account.send("PUT", f"/{target}/mine", WRITING, body=b"x")[0] == 403
        assert account.send("PUT", f"/to-{target}/mine", WRITING, body=b"x")[0] == 201
    assert {target: holds(account, target) for target in TARGETS} == {
        "in-step": ["mine"], "of-another-key": [], "of-no-key": [],
    }  # fmt: skip
    assert account.send("DELETE", "/to-in-step/mine", WRITING)[0] == 204
    assert holds(account, "in-step") == []
    folder = estate(tmp_path, account.at)
    dossier, _ = surveyed(folder, OWNING)
    buckets = {bucket.name: bucket for bucket in dossier.buckets}
    for target, headers in TARGETS.items():
        for verb in ("write", "delete"):
            assert decided(buckets[target], dossier, verb) is (None if headers else False), (target, verb)
            assert decided(buckets[target], dossier, verb, "watch:reader") is False, (target, verb)
    shown = json.loads(lantern("show", "lagoon/in-step", "--json", cwd=folder).out)["facts"]
    notes = {fact["fact"]: fact["note"] for fact in shown}
    assert NOT_SHOWN in notes["principals.write"]


def test_what_a_container_took_is_sent_on(account: SwiftDoor, tmp_path: Path) -> None:
    assert account.send("PUT", "/third/mine", WRITING, body=b"x")[0] == 403
    assert account.send("PUT", "/first/mine", WRITING, body=b"x")[0] == 201
    holds(account, "second")
    assert holds(account, "third") == ["mine"]
    folder = estate(tmp_path, account.at)
    dossier, _ = surveyed(folder, OWNING)
    third = next(bucket for bucket in dossier.buckets if bucket.name == "third")
    assert decided(third, dossier, "write") is None
    assert decided(third, dossier, "write", "watch:reader") is False
    assert third.container_acl.value is not None
    assert [(one.name, one.through) for one in third.container_acl.value.copies_of] == [
        ("second", ""), ("first", "second")
    ]  # fmt: skip


def bucket(name: str, acl: Answer[Any], to: str = "", key: bool | None = None) -> Bucket:
    rules: Answer[Any] = Answer("known", [ReplicationRule(to)]) if to else Answer("absent")
    return Bucket(name=name, container_acl=acl, replication=rules,
                  synchronization_key=Answer("known", True) if key else Answer("absent"))  # fmt: skip


def sources(buckets: list[Bucket], name: str) -> ContainerAcl | None:
    return {one.name: one.container_acl.value for one in with_copy_sources(buckets, "AUTH_deck")}[name]


def test_a_container_is_told_from_those_of_other_accounts_and_stores() -> None:
    acl: Answer[Any] = Answer("known", ContainerAcl(write="keeper:admin"))
    target = bucket("reeds", Answer("absent"), key=True)
    for to, meant in (
        ("//realm/here/AUTH_deck/reeds", True), ("https://store.example/v1/AUTH_deck/reeds/", True),
        ("//realm/here/AUTH_other/reeds", False), ("//realm/here/AUTH_deck/rushes", False), ("nonsense", False),
    ):  # fmt: skip
        found = sources([target, bucket("marsh", acl, to)], "reeds")
        assert (found.copies_of if found else []) == ([CopySource("marsh", "keeper:admin")] if meant else []), to


def test_where_a_container_was_not_read_it_may_be_synchronized_to_any_that_has_a_key() -> None:
    lost: Answer[Any] = Answer("denied", None, "answered 403")
    unread = Bucket(name="unread", container_acl=lost, replication=lost, synchronization_key=lost)
    reeds = bucket("reeds", Answer("absent"), key=True)
    for others, why in (
        ([], ""),
        (["marsh"], "marsh was not read"),
        (["fen", "marsh"], "fen was not read, nor 1 more"),
    ):
        keyed = sources([*(msgspec.structs.replace(unread, name=name) for name in others), reeds], "reeds")
        assert (keyed.copies_unread if keyed else "") == why
    itself = msgspec.structs.replace(unread, name="reeds", container_acl=Answer("absent"))
    assert sources([itself], "reeds") is None
    assert sources([unread, bucket("reeds", Answer("absent"))], "reeds") is None
