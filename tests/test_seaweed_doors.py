"""What a real SeaweedFS server's filer lets in, by what it asks a token for; and who deletes what is locked, at each
door."""

from __future__ import annotations

import asyncio
import json
import time
import urllib.error
import urllib.request
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from rusty_lantern.core.config.estate import Credential, DoorEntry, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.object_rules.retention import protection
from rusty_lantern.objects.duckdb_engine import table_path
from rusty_lantern.objects.tables import read_versions
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.filer import let_in_words, read_filer
from rusty_lantern.stores.reader import Visit
from tests.conftest import answering, lantern
from tests.own_keys import denies_uploads
from tests.real_store import workspace_for
from tests.seaweed_server import KEEPER, USERS, Seaweed, running_seaweed
from tests.test_gateway_retention import DEFAULTS, hold_deletions, lay_out
from tests.test_real_stores import surveyed as read_back
from tests.test_seaweed import RESOURCE, make, stored, surveyed, written
from tests.varied import build, differences

KEYS = {"QUAY_ACCESS_KEY_ID": KEEPER[0], "QUAY_SECRET_ACCESS_KEY": KEEPER[1]}
FILERS: dict[str, tuple[str, ...]] = {"asks for nothing": (), "asks for reads": (".read",), "asks for changes": ("",)}
"""How a filer may be set up → for which of its keys it asks for a token."""
BUCKET = "behind-a-filer"


def at_filer(server: Seaweed, method: str, path: str) -> int:
    """The status of one request without credentials."""
    asking = urllib.request.Request(f"{server.filer}/buckets/{path}", method=method, data=b"x" * (method == "PUT"))
    try:
        with urllib.request.urlopen(asking, timeout=60) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code


def lay_behind(server: Seaweed) -> None:
    """A bucket with a lock that its policy shuts, and a version under compliance in it."""
    server.client().create_bucket(Bucket=BUCKET, ObjectLockEnabledForBucket=True)
    until = datetime.now(UTC) + timedelta(hours=2)
    locked: dict[str, Any] = {"ObjectLockMode": "COMPLIANCE", "ObjectLockRetainUntilDate": until}
    for key in ("a", "b"):
        server.client().put_object(Bucket=BUCKET, Key=key, Body=b"x", **locked)
    shut = {
        "Effect": "Deny",
        "Principal": {"AWS": RESOURCE},
        "Action": "s3:*",
        "Resource": [f"arn:aws:s3:::{BUCKET}/*"],
    }
    assert stored(server, BUCKET, written(shut))
    assert server.send(None, "GET", f"/{BUCKET}/a") == 403


def told_of(folder: Path, command: str) -> dict[str, Any]:
    return dict(json.loads(lantern(command, f"quay/{BUCKET}", "--json", cwd=folder).out))


def way_around(folder: Path) -> dict[str, Any]:
    return next(fact for fact in told_of(folder, "show")["facts"] if fact["fact"] == "lock.way-around")


@pytest.mark.parametrize("how", FILERS)
def test_a_filer_opens_every_bucket_for_what_it_asks_no_token_for(how: str, tmp_path: Path) -> None:
    (tmp_path / "server").mkdir()
    with running_seaweed(tmp_path / "server", USERS, asks_for=FILERS[how]) as server:
        lay_behind(server)
        folder = tmp_path / "quay"
        said = surveyed(server, folder, [], "--probe", "--objects", "all")[BUCKET]
        required = ", ".join(f"exposure.{verb}: closed" for verb in ("list", "read", "write", "delete"))
        (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: all\n  require: {{{required}}}\n")
        reach = " ".join(lantern("reach", cwd=folder, **KEYS).out.split())
        reads, changes = ".read" not in FILERS[how], "" not in FILERS[how]
        opened = ({"list", "read", "read-settings"} if reads else set()) | (
            {"write", "delete", "change-settings", "bypass-retention"} if changes else set()
        )
        for audience in ("anyone", "any-account"):
            assert {verb for verb, one in said[audience].items() if one["verdict"] == "open"} == opened
            assert {one["verdict"] for one in said[audience].values()} <= {"open", "unknown"}
        assert ("it lets in whoever reaches it" in reach, "it takes changes from whoever" in reach) == (reads, changes)
        assert f"filer {server.filer} readable: it" in reach and "what its filer door opens" not in reach
        [shut] = [row for row in told_of(folder, "remedy")["remedies"] if "exposure." in str(row["facts"])]
        assert "have the server's filer ask for a token" in shut["words"] and not shut["documents"]
        assert [words.split(": ")[1] for words in shut["proof"]] == ["as required then"]
        shown = {verb: one["witness"]["request"].split() for verb, one in said["anyone"].items() if verb in opened}
        around = way_around(folder)
        assert around["state"] == ("known" if changes else "absent")
        summary = told_of(folder, "retention")["buckets"][0]["sentence"]
        assert ("2 of 2 versions are deletable now, locked ones too" in summary) is changes, summary
        facts = told_of(folder, "show")["facts"]
        tested = next(fact for fact in facts if fact["fact"] == "anonymous-test")
        assert tested["value"] == ("agrees" if reads else "ambiguous"), tested
        version = server.client().head_object(Bucket=BUCKET, Key="b")["VersionId"]
        if reads:
            assert shown["read"] == ["GET", f"/buckets/{BUCKET}/a.versions/v_(version)"]
            assert shown["list"] == ["GET", f"/buckets/{BUCKET}/"] and at_filer(server, "GET", f"{BUCKET}/") == 200
            for more in ("", "?metadata=true"):
                assert at_filer(server, "GET", f"{BUCKET}/b.versions/v_{version}{more}") == 200
            kept = [path.read_bytes() for path in (folder / "surveys").rglob("*") if path.is_file()]
            assert not any(b"FullPath" in one for one in kept)
        if changes:
            put, delete, drop = (shown[verb] for verb in ("write", "bypass-retention", "change-settings"))
            assert put == ["PUT", f"/buckets/{BUCKET}/a"] and at_filer(server, "PUT", f"{BUCKET}/new") == 201
            assert delete == shown["delete"] == ["DELETE", f"/buckets/{BUCKET}/a.versions?recursive=true"]
            assert at_filer(server, "DELETE", f"{BUCKET}/a.versions?recursive=true") == 204
            left = server.client().list_object_versions(Bucket=BUCKET).get("Versions", [])
            assert "a" not in {one["Key"] for one in left} and "b" in {one["Key"] for one in left}
            assert drop == ["DELETE", f"/buckets/{BUCKET}?recursive=true"]
            assert at_filer(server, "DELETE", f"{BUCKET}?recursive=true") == 204
            assert server.send(KEEPER, "GET", f"/{BUCKET}") == 404
        else:
            refused = [at_filer(server, "PUT", f"{BUCKET}/new"), at_filer(server, "DELETE", f"{BUCKET}/a.versions")]
            assert refused == [401, 401]


DEMANDS = {"encryption.required": "on", "encryption.customer-provided": "refused"}
"""What a policy demands of every upload, and the value where it does."""


def lay_demands(server: Seaweed) -> None:
    """A bucket whose policy refuses every upload that asks for no encryption."""
    server.client().create_bucket(Bucket=BUCKET)
    unasked = {"Null": {"s3:x-amz-server-side-encryption": "true"}}
    assert stored(server, BUCKET, denies_uploads(BUCKET, unasked))


def demands_of(server: Seaweed, folder: Path, *, filer: bool = True) -> dict[str, tuple[str, object]]:
    surveyed(server, folder, [], filer=filer)
    facts = told_of(folder, "show")["facts"]
    return {one["fact"]: (one["state"], one["value"]) for one in facts if one["fact"] in DEMANDS}


@pytest.mark.parametrize("how", FILERS)
def test_a_policy_demands_nothing_of_uploads_that_its_filer_takes(how: str, tmp_path: Path) -> None:
    """Whether one that shows what is stored takes changes by another way was not tried: that is unknown."""
    (tmp_path / "server").mkdir()
    with running_seaweed(tmp_path / "server", USERS, asks_for=FILERS[how]) as server:
        lay_demands(server)
        said = demands_of(server, tmp_path / "quay")
        takes = at_filer(server, "PUT", f"{BUCKET}/new") == 201
    asked = {"asks for nothing": ("known", "off"), "asks for reads": ("known", "off")}.get(how, ("failed", None))
    expected = {"encryption.required": asked, "encryption.customer-provided": ("known", "refused")}  # it takes no keys
    assert (said, takes) == (expected, how != "asks for changes")


def test_what_a_policy_demands_is_unknown_where_nobody_named_the_filer(tmp_path: Path) -> None:
    (tmp_path / "server").mkdir()
    with running_seaweed(tmp_path / "server", USERS) as server:
        lay_demands(server)
        assert server.send(KEEPER, "PUT", f"/{BUCKET}/k", "", {}, b"1") == 403
        named, unnamed = (demands_of(server, tmp_path / str(filer), filer=filer) for filer in (True, False))
    assert named == {name: ("known", value) for name, value in DEMANDS.items()}
    assert unnamed == named | {"encryption.required": ("failed", None)}


def test_a_filer_that_asks_for_both_tokens_lets_nobody_in_and_one_that_nobody_named_may(
    seaweed: Seaweed, tmp_path: Path
) -> None:
    lay_behind(seaweed)
    verdicts = {}
    for name in ("asking", "unnamed"):
        said = surveyed(seaweed, tmp_path / name, [], "--probe", filer=name == "asking")[BUCKET]
        verdicts[name] = {one["verdict"] for audience in ("anyone", "any-account") for one in said[audience].values()}
    assert verdicts == {"asking": {"closed"}, "unnamed": {"unknown"}}
    assert (at_filer(seaweed, "GET", f"{BUCKET}/"), at_filer(seaweed, "PUT", f"{BUCKET}/new")) == (401, 401)
    assert way_around(tmp_path / "asking")["state"] == "absent"
    unnamed = way_around(tmp_path / "unnamed")
    assert unnamed["state"] == "failed" and "does not name it" in unnamed["note"]
    shown = lantern("reach", cwd=tmp_path / "unnamed", **KEYS).out
    assert "filer: {at: http://127.0.0.1:8888}" in shown


def test_every_deletion_on_the_server_goes_as_predicted(seaweed: Seaweed, tmp_path: Path) -> None:
    client = seaweed.client()
    buckets = [f"sealed-{number}" for number in range(len(DEFAULTS))]
    for bucket, default in zip(buckets, DEFAULTS, strict=True):
        lay_out(client, bucket, default)
    time.sleep(4)  # the short periods end
    folder = tmp_path / "quay"
    surveyed(seaweed, folder, [], "--objects", "all", "--only", "quay/sealed-*")
    hold_deletions(client, folder, "quay", buckets)


def test_varied_buckets_read_as_they_were_set_up_and_as_the_standard_client_reads_them(
    seaweed: Seaweed, tmp_path: Path
) -> None:
    made = build(seaweed.client(), 36)
    folder = workspace_for(tmp_path / "ws", seaweed.address, KEEPER)
    assert lantern("survey", "--only", "real/fen-*", cwd=folder).code == 0
    assert differences(seaweed.client(), made, read_back(folder)) == ([], set())
    assert {setting for settings in made.values() for setting in settings} == {
        "acl", "cross_origin", "policy", "lifecycle", "lock", "tags", "versioning",
    }  # fmt: skip


def test_a_lock_that_the_server_takes_and_does_not_keep_counts_as_none(seaweed: Seaweed, tmp_path: Path) -> None:
    """Of what was stored before versioning was switched on, the server acknowledges a retention and forgets it."""
    client = seaweed.client()
    make(seaweed, "stored-before")
    client.put_bucket_versioning(Bucket="stored-before", VersioningConfiguration={"Status": "Enabled"})
    client.put_object_lock_configuration(
        Bucket="stored-before", ObjectLockConfiguration={"ObjectLockEnabled": "Enabled"}
    )
    until = datetime.now(UTC) + timedelta(hours=2)
    kept = {"Bucket": "stored-before", "Key": "k", "VersionId": "null"}
    client.put_object_retention(**kept, Retention={"Mode": "COMPLIANCE", "RetainUntilDate": until})
    folder = tmp_path / "quay"
    surveyed(seaweed, folder, [], "--objects", "all", "--only", "quay/stored-before")
    table = table_path(next((folder / "surveys").glob("*Z")), "quay", "stored-before")
    version = next(one for one in read_versions(table) if one.key == "k")
    assert version.mode == "" and protection(version, datetime.now(UTC)).deletable_by == "delete-permission"
    client.delete_object(**kept)
    assert "Versions" not in client.list_object_versions(Bucket="stored-before", Prefix="k")


@pytest.mark.parametrize("status, header, takes", [
    (405, True, True), (401, True, False), (401, False, None), (405, False, None), (404, True, None),
])  # fmt: skip
def test_what_a_filer_says_of_uploads_shows_whether_it_takes_changes_and_else_that_is_unknown(
    tmp_path: Path, status: int, header: bool, takes: bool | None
) -> None:
    async def filer(request: web.Request) -> web.Response:
        uploads = request.path == "/.tus/"
        assert not uploads or request.headers["Tus-Resumable"] == "1.0.0"
        headers = {"Tus-Resumable": "1.0.0"} if uploads and header else {}
        return web.Response(status=status if uploads else 401, headers=headers)

    with serve(answering(filer)) as address:
        nobody = Credential("none")
        visit = Visit(StoreConfig("quay", Place("x"), "s3", address, nobody), tmp_path, datetime.now(UTC))
        door = asyncio.run(read_filer(visit, DoorEntry("filer", address, nobody)))
    assert (door.read, door.lets_in, door.takes_changes) == (True, False, takes)
    assert ("not known" in let_in_words(door)) is (takes is None)
