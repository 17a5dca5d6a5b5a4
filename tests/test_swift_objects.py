"""Objects, versions and settings of a real Swift server: as the program reads them, and as the server tells them."""

from __future__ import annotations

import json
import time
from pathlib import Path

import pytest

from rusty_lantern.core.answer import Evidence
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.objects.duckdb_engine import table_path
from rusty_lantern.objects.tables import read_versions
from rusty_lantern.simulator.demo.harbour import MOMENT
from rusty_lantern.stores.http.some_page import SOME_PAGE
from rusty_lantern.stores.swift.headers import account_quotas, container_fields, with_account_quotas
from tests.conftest import lantern
from tests.swift_server import OWNER, ROOT, SwiftDoor
from tests.test_swift_decisions import estate, surveyed

AT = "/v1/AUTH_keeper"


@pytest.fixture(scope="module")
def door(swift_server: str) -> SwiftDoor:
    return SwiftDoor(f"{swift_server}{AT}")


def test_objects_and_versions_are_those_that_the_server_tells(door: SwiftDoor, tmp_path: Path) -> None:
    door.make(OWNER, "kept", ("a.txt", "b ü.txt"), X_Versions_Enabled="true", X_Container_Read=".rlistings")
    headers = {"X-Object-Meta-Station": "north", "Content-Type": "text/html"}
    for body in (b"xx", b"xxx"):
        assert door.send("PUT", "/kept/a.txt", OWNER, headers, body)[0] == 201
    assert door.send("DELETE", "/kept/b%20%C3%BC.txt", OWNER)[0] == 204
    folder = estate(tmp_path, door.at)
    file = folder / "estate.yaml"
    file.write_text(file.read_text() + "    objects: {kept: all}\n    only: [kept]\n")
    surveyed(folder)
    table = table_path(next((folder / "surveys").glob("2*Z")), "lagoon", "kept")
    rows = list(read_versions(table))
    told = json.loads(door.send("GET", "/kept?versions&format=json", OWNER)[2])
    assert {(row.key, row.version, row.current) for row in rows} == {
        (one["name"], one["version_id"], one["is_latest"]) for one in told
    }
    current = {row.key: row for row in rows if row.current}
    assert current["b ü.txt"].marker
    assert (current["a.txt"].size, current["a.txt"].content_type) == (3, "text/html")
    assert current["a.txt"].metadata == {"station": "north"}
    facts = {f["fact"]: f["value"] for f in json.loads(lantern("show", "kept", "--json", cwd=folder).out)["facts"]}
    assert (facts["versioning"], facts["objects"], facts["versions.markers"]) == ("on", 1, 1)
    assert facts["versions.old"] == len(told) - 2


def test_expiry_and_links_are_those_that_the_server_tells(door: SwiftDoor, tmp_path: Path) -> None:
    """In a container without versions: with them, the server drops the expiry without a word."""
    ends = int(time.time()) + 86_400
    door.make(OWNER, "brief", ("a.txt",), X_Container_Read=".rlistings")
    assert door.send("PUT", "/brief/b.txt", OWNER, {"X-Delete-At": str(ends)}, b"x")[0] == 201
    assert door.send("PUT", "/brief/link", OWNER, {"X-Symlink-Target": "brief/a.txt"})[0] == 201
    folder = estate(tmp_path, door.at)
    file = folder / "estate.yaml"
    file.write_text(file.read_text() + "    objects: {brief: all}\n    only: [brief]\n")
    required = "{objects.expires-in: at least 2 days or absent, objects.points-to: absent}"
    (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: all\n  require: {required}\n")
    surveyed(folder)
    table = table_path(next((folder / "surveys").glob("2*Z")), "lagoon", "brief")
    rows = {row.key: row for row in read_versions(table)}
    moment = rows["b.txt"].expires
    assert moment is not None and int(moment.timestamp()) == ends
    assert (rows["a.txt"].expires, rows["a.txt"].points_to) == (None, "")
    assert rows["link"].points_to == "brief/a.txt"
    audited = lantern("audit", "--json", cwd=folder)
    assert audited.code == 1, audited.err
    drift = json.loads(audited.out)["drift"]
    assert {(d["fact"], tuple(d["objects"]["examples"])) for d in drift} == {
        ("objects.expires-in", ("b.txt",)), ("objects.points-to", ("link",)),
    }  # fmt: skip


@pytest.mark.parametrize(
    ("own", "granted", "told"),
    [("", "", None), ("", SOME_PAGE, ["*"]), ("https://a.example", "*", ["https://a.example", "*"]), ("*", "*", ["*"])],
)
def test_a_server_that_lets_in_every_page_says_so_to_some_page(own: str, granted: str, told: list[str] | None) -> None:
    # what servers with cors_allow_origin = *, with strict_cors_mode = false, and with neither answered (Swift 2.30)
    headers = {"x-container-meta-access-control-allow-origin": own, "access-control-allow-origin": granted}
    fields = container_fields(headers, Evidence("HEAD /c", "204", MOMENT), gateway=False)
    rules = fields["cross_origin"].value
    assert (rules[0].origins if rules else None) == told


@pytest.mark.parametrize("of_account", ["X-Account-Meta-Quota-Bytes", "X-Account-Quota-Bytes-Policy-second"])
def test_a_container_holds_no_more_than_its_quota_and_its_accounts(
    swift_server: str, of_account: str, tmp_path: Path
) -> None:
    """Set by whom the server lets set them, and held against what it stores. A release that does not know a kind of
    quota enforces nothing, and shows nothing."""
    door = SwiftDoor(f"{swift_server}{AT}")
    names, sizes = ("quota-own", "quota-shared"), (301, 300, 1_100, 700)
    door.make(OWNER, names[0], (), X_Container_Meta_Quota_Bytes="300", X_Storage_Policy="second")
    door.make(OWNER, names[1], (), X_Storage_Policy="second")
    sums = "x-account-storage-policy-second-bytes-used" if "Policy" in of_account else "x-account-bytes-used"
    in_force = int(door.send("HEAD", "", OWNER)[1].get(sums, 0)) + 1_000
    assert door.send("POST", "", ROOT, {of_account: str(in_force)})[0] == 204
    try:
        dossier, _ = surveyed(estate(tmp_path, door.at))
        facts = {view.name: view.facts() for view in views([dossier], None, dossier.taken)}
        stored = {
            size: [door.send("PUT", f"/{name}/{size}", OWNER, {}, b"x" * size)[0] for name in names] for size in sizes
        }
    finally:
        assert door.send("POST", "", ROOT, {of_account.replace("X-", "X-Remove-"): "x"})[0] == 204
        for path in [f"/{name}/{size}" for size in sizes for name in names] + [f"/{name}" for name in names]:
            door.send("DELETE", path, OWNER)
    assert facts[names[0]]["quota.bytes"].value == 300
    assert {size: own for size, (own, _) in stored.items()} == {301: 413, 300: 201, 1_100: 413, 700: 413}
    shown = facts[names[1]]["quota.bytes"].value
    assert (shown == in_force) is (stored[1_100][1] == 413), "it is said where it is enforced, and there alone"
    of_it = [bucket for bucket in dossier.buckets if "Policy" not in of_account or bucket.tier.value == "second"]
    listed = sum(b.usage.value.bytes + b.versions.value.old_bytes for b in of_it if b.usage.value and b.versions.value)
    assert facts[names[1]]["quota.left"].value == (in_force - listed if shown else None)


@pytest.mark.parametrize(
    ("headers", "enforced", "most"),
    [
        ({"quota-bytes": "1000"}, True, ("known", 1000)), ({"quota-bytes": "1000"}, False, ("failed", None)),
        ({}, False, ("absent", None)), ({"quota-bytes": "0"}, True, ("failed", None)),
    ],
)  # fmt: skip
def test_a_quota_that_the_server_does_not_enforce_is_so_much_metadata(
    headers: dict[str, str], enforced: bool, most: tuple[str, int | None]
) -> None:
    written = {f"x-container-meta-{name}": value for name, value in headers.items()}
    fields = container_fields(written, Evidence("HEAD /c", "204", MOMENT), gateway=False)
    quota = with_account_quotas(fields["quota"], "", [], (enforced, enforced))
    assert (quota.state, quota.value and quota.value.bytes) == most
    shared = account_quotas({"x-account-meta-quota-bytes": "7", "x-account-quota-bytes": "9"})
    assert [one.bytes for one in shared] == [9], "the newer form has precedence"
    joint = with_account_quotas(fields["quota"], "", shared, (True, enforced))
    assert joint.state == ("known" if enforced and headers.get("quota-bytes") != "0" else "failed")


def test_settings_of_a_container_are_those_that_were_put_there(door: SwiftDoor, tmp_path: Path) -> None:
    door.make(
        OWNER, "settings", (), X_Container_Read="deck", X_Container_Meta_Quota_Bytes="1000", X_Storage_Policy="second",
        X_Container_Meta_Web_Index="index.html", X_Container_Meta_Access_Control_Allow_Origin="*",
        X_Container_Meta_Temp_URL_Key="ck-000", X_Container_Meta_Steward="dock", X_Container_Sync_To="//realm/here/x/y",
        X_Container_Sync_Key="sync-000",
    )  # fmt: skip
    folder = estate(tmp_path, door.at)
    dossier, _ = surveyed(folder)
    shown = json.loads(lantern("show", "settings", "--json", cwd=folder).out)["facts"]
    facts = {fact["fact"]: fact["value"] for fact in shown}
    expected = {
        "container-acl.read": "deck", "container-acl.write": None, "quota.bytes": 1000, "tier": "second",
        "temporary-url-key": "on", "tags.steward": "dock", "cross-origin": "any", "versioning": "never",
        "website": "on", "replication": "on", "synchronization-key": "on",
    }  # fmt: skip
    assert {name: facts[name] for name in expected} == expected
    assert dossier.acl_reading == "tempauth"
    written = "".join(file.read_text(errors="replace") for file in folder.rglob("*") if file.is_file())
    assert "ck-000" not in written and "sync-000" not in written
