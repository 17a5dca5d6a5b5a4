"""The administration door of a gateway: everything it tells, and none of the secrets that it shows in clear."""

from __future__ import annotations

import base64
import json
import struct
from pathlib import Path

import msgspec
import pytest
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import decode
from rusty_lantern.simulator.admin_server import GatewayUser
from rusty_lantern.simulator.demo.harbour import MOMENT
from rusty_lantern.simulator.demo.skerry import AUDITOR
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.admin.documents import (
    ACCOUNT_ACL,
    GUARDS,
    OWN_POLICIES,
    POLICY,
    AclAnswer,
    Attribute,
    Instance,
    InstanceData,
    User,
    own_policies,
)
from rusty_lantern.stores.admin.people import account_acl, people_of
from rusty_lantern.stores.admin.reader import held_acl, held_record
from tests.conftest import Whole, lantern

SECRETS = ("sk-keeper-000", "sk-tern-000", "sk-gull-000", "tk-account-000", "Y2stY29udGFpbmVy")
"""What stands in clear in the recorded answers: S3 secrets, Swift keys, keys of temporary URLs."""
USER = {
    "tenant": "", "user_id": "keeper", "display_name": "Keeper", "suspended": 0,
    "subusers": [{"id": "keeper:gull", "permissions": "read"}],
    "keys": [{"user": "keeper", "access_key": "AKKEEPER", "secret_key": SECRETS[0]},
             {"user": "keeper:tern", "access_key": "AKTERN", "secret_key": SECRETS[1]}],
    "swift_keys": [{"user": "keeper:gull", "secret_key": SECRETS[2]}],
    "caps": [], "admin": "false", "system": "false", "mfa_ids": ["T1"],
    "temp_url_keys": [{"key": 0, "val": SECRETS[3]}],
}  # fmt: skip
GRANT = {"type": {"type": 4}, "permission": {"flags": 16}, "id": "", "group": 0, "url_spec": "*"}
ANSWERS = {
    "/admin/bucket?stats=true": [{"bucket": "tides", "id": "1.1", "owner": "keeper", "tenant": "",
                                  "creation_time": "2026-01-05T00:00:00Z", "placement_rule": "default"}],
    "/admin/bucket?bucket=tides&policy=": {"acl": {"grant_map": [{"id": "", "grant": GRANT}]}},
    "/admin/metadata/bucket.instance?key=tides%3A1.1": {
        "data": {"bucket_info": {"flags": 0, "owner": "keeper"},
                 "attrs": [{"key": "user.rgw.x-amz-meta-temp-url-key", "val": SECRETS[4]}]}
    },
    "/admin/metadata/user?key=keeper": {"data": {"attrs": [], "keys": USER["keys"]}},
    "/admin/user?list=&max-entries=1000": {"keys": ["keeper"], "truncated": "false"},
    "/admin/user?uid=keeper": USER,
}  # fmt: skip


def recorded(asked: list[str]) -> web.Application:
    """A gateway that gives recorded answers at its administration door, and lists no bucket."""

    async def answer(request: web.Request) -> web.Response:
        asked.append(f"{request.method} {request.raw_path}")
        if request.path.startswith("/admin/"):
            found = ANSWERS.get(request.raw_path)
            return web.json_response(found) if found is not None else web.Response(status=404)
        if request.path == "/" and request.headers.get("authorization"):
            body = "<ListAllMyBucketsResult><Owner><ID>auditor</ID></Owner><Buckets/></ListAllMyBucketsResult>"
            return web.Response(text=body, content_type="application/xml")
        return web.Response(status=404)

    app = web.Application()
    app.router.add_route("*", r"/{tail:[\s\S]*}", answer)
    return app


def workspace(folder: Path, at: str) -> Path:
    (folder / "estate.yaml").write_text(
        f"estate: t\nstores:\n  harbour:\n    at: {at}\n    plain-http: allowed\n"
        "    credential: {environment: AUDIT}\n"
        f"    doors:\n      admin: {{at: '{at}/admin', credential: {{environment: AUDIT}}}}\n"
    )
    (folder / "baseline.yaml").write_text("title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed}\n")
    return folder


def test_no_secret_of_the_administration_door_is_in_any_byte_that_is_written(tmp_path: Path) -> None:
    asked: list[str] = []
    secrets = {"AUDIT_ACCESS_KEY_ID": "AKAUDIT", "AUDIT_SECRET_ACCESS_KEY": "sk-audit-000", "LANTERN_TRACE": "1"}
    with serve(recorded(asked)) as at:
        folder = workspace(tmp_path, at)
        stopped = lantern("survey", "--log", "log.jsonl", "--deadline", "0.0001", cwd=folder, **secrets)
        ended = lantern("survey", "--log", "log.jsonl", cwd=folder, **secrets)
        told = [stopped, ended]
        told += [lantern(*words, cwd=folder) for words in (
            ("credentials", "--json"), ("show", "harbour/tides", "--evidence"), ("report", "--out", "report.html"),
            ("audit", "--json"), ("exposure", "--json"),
        )]  # fmt: skip
    assert ended.code == 0, ended.err
    assert {line for line in asked if not line.startswith(("GET ", "HEAD "))} == set()
    written = b"".join(file.read_bytes() for file in folder.rglob("*") if file.is_file())
    printed = "".join(ran.out + ran.err for ran in told).encode()
    assert [secret for secret in SECRETS if secret.encode() in written + printed] == []
    dossier = decode(next((folder / "surveys").glob("2*/stores/harbour.json")).read_bytes(), "x")
    assert [bucket.name for bucket in dossier.buckets] == ["tides"]
    assert {key.id for key in dossier.credentials.value or ()} == {"AKKEEPER", "AKTERN", "swift keeper:gull"}
    rows = json.loads(told[-1].out)["buckets"]
    assert rows[0]["exposure"]["any-account"]["read"]["verdict"] == "open"


def test_a_journal_of_the_administration_door_holds_no_secret(tmp_path: Path) -> None:
    import asyncio
    import zlib
    from datetime import UTC, datetime

    from rusty_lantern.archive.journal import Entry, Journal
    from rusty_lantern.core.config.estate import Credential, StoreConfig
    from rusty_lantern.core.errors import Place
    from rusty_lantern.stores.admin.reader import AdminDoor
    from rusty_lantern.stores.http.client import Client

    async def read(at: str) -> None:
        journal = Journal(tmp_path / "j.jsonl", lambda header: True)
        store = StoreConfig("harbour", Place("x"), "s3", f"{at}/admin", Credential("none"))
        async with Client(store, None, tmp_path, memory=journal) as client:
            door = AdminDoor(client, datetime.now(UTC))
            assert [user.name for user in await door.users()] == ["keeper"]
            await door.held((await door.buckets())[0])
        journal.close()

    with serve(recorded([])) as at:
        asyncio.run(read(at))
    import msgspec

    entries = [msgspec.json.decode(line, type=Entry) for line in (tmp_path / "j.jsonl").read_bytes().splitlines()]
    bodies = b"".join(zlib.decompress(base64.b64decode(entry.body)) for entry in entries)
    assert b"AKTERN" in bodies
    assert [secret for secret in SECRETS if secret.encode() in bodies] == []


def kept(written: bytes | str, key: str = OWN_POLICIES) -> Instance:
    """What the store keeps of a user, with one attribute; a text stands as it is, not in base64."""
    value = written if isinstance(written, str) else base64.b64encode(written).decode()
    return Instance(InstanceData([Attribute(key, value)]))


def laid_out(policies: dict[str, str]) -> bytes:
    """As release 16.2 lays out a user's own permissions."""
    texts = [text.encode() for pair in policies.items() for text in pair]
    return struct.pack("<I", len(policies)) + b"".join(struct.pack("<I", len(text)) + text for text in texts)


@given(st.dictionaries(st.text(max_size=9), st.text(max_size=40), max_size=4), st.binary(max_size=30), st.data())
def test_own_permissions_are_read_whole_or_not_at_all(
    policies: dict[str, str], more: bytes, data: st.DataObject
) -> None:
    whole = laid_out(policies)
    assert {one.name: one.text for one in own_policies(kept(whole))} == policies
    cut = whole[: data.draw(st.integers(0, len(whole) - 1))]
    for spoiled in (cut, whole + b"x" + more, b"\xff" * 4 + more):
        with pytest.raises(ValueError):
            own_policies(kept(spoiled))


NOTHING = kept(b"", "user.rgw.else")


@pytest.mark.parametrize("told,state,why", [
    (NOTHING, "known", ""),
    (kept(laid_out({"p": "{}"})), "known", ""),
    (kept("no base64!"), "failed", "not understood"),
    (kept(b"x", "user.rgw.managed-policy"), "failed", "shares with others"),
    (NOTHING, "failed", "account"),
])  # fmt: skip
def test_what_a_user_may_is_known_where_nothing_else_can_say_more(told: Instance, state: str, why: str) -> None:
    user = User("deck", account_id="a1" * (why == "account"))
    people = people_of(Answer("known", [user]), {"deck": Answer("known", told)})["identities"].value
    assert people is not None
    assert (people[0].policies.state, why in people[0].policies.note) == (state, True)


@pytest.mark.parametrize("mask,operations", [
    ("", None), ("read, write, delete", None), ("read", ["read"]), ("write, read", ["read", "write"]), ("<none>", []),
])  # fmt: skip
def test_what_a_gateway_lets_a_user_do_at_all_is_read(mask: str, operations: list[str] | None) -> None:
    people = people_of(Answer("known", [User("deck", op_mask=mask)]), {"deck": Answer("known", NOTHING)})
    [deck] = people["identities"].value or []
    assert deck.operations.settled and deck.operations.value == operations


def test_an_operation_that_is_not_known_leaves_open_what_a_user_can_do() -> None:
    people = people_of(Answer("known", [User("deck", op_mask="read, prune")]), {"deck": Answer("known", NOTHING)})
    [deck] = people["identities"].value or []
    assert (deck.operations.state, "(prune)" in deck.operations.note) == ("failed", True)


@pytest.mark.parametrize("key,written", [
    (POLICY, "no base64!"), (POLICY, b"\xff{}"), (GUARDS, "no base64!"), (GUARDS, b"\x01\x01"),
])  # fmt: skip
def test_a_setting_that_is_there_and_cannot_be_read_is_not_taken_for_none(key: str, written: bytes | str) -> None:
    read = held_record(kept(written, key), "b", MOMENT)
    states = {name: read[name].state for name in ("policy", "public_access_guards")}
    lost, other = ("policy", "public_access_guards") if key == POLICY else ("public_access_guards", "policy")
    assert (states[lost], states[other]) == ("failed", "absent")
    assert read[lost].note


@pytest.mark.parametrize(
    "written,state", [(b"\0", "absent"), ("no base64!", "failed"), (b"\xff", "failed"), (b"{", "failed")]
)
def test_an_account_acl_that_cannot_be_read_opens_and_shuts_nothing(written: bytes | str, state: str) -> None:
    assert account_acl(Answer("known", kept(written, ACCOUNT_ACL))).state == state


@pytest.mark.parametrize("group,state", [(1, "known"), (2, "known"), (0, "failed"), (7, "failed")])
def test_a_grant_to_a_group_that_is_not_known_leaves_the_acl_unread(group: int, state: str) -> None:
    body = {"type": {"type": 2}, "permission": {"flags": 1}, "id": "", "group": group, "url_spec": ""}
    answer = msgspec.convert({"acl": {"grant_map": [{"id": "", "grant": body}]}}, AclAnswer)
    assert held_acl(answer, "b", MOMENT)["acl"].state == state


DENIED = """title: t
sheets:
- sheet: s
  of: {name: grant-ledger}
  require: {exposure.list: closed, access.ledger-reader: "within [list, read]", access.tide-desk: nothing}
"""


@pytest.mark.parametrize("capability", ["users", "buckets", "metadata"])
def test_a_capability_that_the_auditor_lacks_makes_nothing_look_fine(
    whole: Whole, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capability: str
) -> None:
    door = whole.served.skerry.admin
    assert door is not None
    auditor = door.users[AUDITOR]
    caps = [one for one in auditor.answer["caps"] if one["type"] != capability]
    monkeypatch.setitem(door.users, AUDITOR, GatewayUser(auditor.answer | {"caps": caps}, auditor.policies))
    (tmp_path / "skerry.credential").write_bytes((whole.folder / "skerry.credential").read_bytes())
    (tmp_path / "skerry.credential").chmod(0o600)
    entry = (whole.folder / "estate.yaml").read_text().partition("  skerry:\n")[2].partition("  lagoon:\n")[0]
    (tmp_path / "estate.yaml").write_text(f"estate: t\nstores:\n  skerry:\n{entry}")
    (tmp_path / "baseline.yaml").write_text(DENIED)
    lantern("survey", "--objects", "none", cwd=tmp_path)
    audit = lantern("audit", "--json", cwd=tmp_path)
    told = json.loads(audit.out)
    why = lantern("why", "skerry/grant-ledger", "--as", "ledger-reader", "--json", cwd=tmp_path)
    if capability == "buckets":  # whatever it may read besides, there is no list of what to read
        assert (audit.code, "administration door" in told["unread_stores"]["skerry"]) == (3, True)
        assert (why.code, "was not read" in why.err) == (2, True)
        return
    facts = {row["fact"] for row in told["unknown"]}
    assert {"access.ledger-reader", "access.tide-desk"} <= facts
    assert "s3:GetBucketPolicy" not in lantern("audit", cwd=tmp_path).out
    assert json.loads(why.out)["allowed"] is None
