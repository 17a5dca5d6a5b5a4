"""Versions laid out in every combination on the real gateway; each deletion is predicted, then tried."""

from __future__ import annotations

import itertools
import json
import time
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from botocore.exceptions import ClientError

from rusty_lantern.core.model.dossier import decode
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.object_rules.gateway_calendar import LAST_MOMENT
from rusty_lantern.core.object_rules.retention import protection
from rusty_lantern.core.value_types import YEAR
from rusty_lantern.objects.duckdb_engine import table_path
from rusty_lantern.objects.tables import read_versions
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.real_store import workspace_for
from tests.swift_server import SwiftDoor

DEFAULTS = (None, ("GOVERNANCE", 1), ("COMPLIANCE", 1))
PERIODS = (None, "GOVERNANCE", "COMPLIANCE", "short GOVERNANCE", "short COMPLIANCE")
HOLDS = (None, "ON", "OFF")


def lay_out(client: Any, bucket: str, default: tuple[str, int] | None) -> None:
    """Put every combination of period, hold and what comes after into a bucket with this default retention."""
    client.create_bucket(Bucket=bucket, ObjectLockEnabledForBucket=True)
    if default:
        rule = {"DefaultRetention": {"Mode": default[0], "Days": default[1]}}
        client.put_object_lock_configuration(
            Bucket=bucket, ObjectLockConfiguration={"ObjectLockEnabled": "Enabled", "Rule": rule}
        )
    for period, hold, after in itertools.product(PERIODS, HOLDS, ("", "overwritten", "marked")):
        key = f"{period or 'inherited'} {hold or '-'} {after or 'left'}".replace(" ", "/")
        extra: dict[str, Any] = {}
        if period:
            lasts = timedelta(seconds=3) if period.startswith("short") else timedelta(hours=2)
            extra = {"ObjectLockMode": period.split()[-1], "ObjectLockRetainUntilDate": datetime.now(UTC) + lasts}
        if hold:
            extra["ObjectLockLegalHoldStatus"] = hold
        client.put_object(Bucket=bucket, Key=key, Body=b"x", ContentType="text/plain", **extra)
        if after == "overwritten":
            client.put_object(Bucket=bucket, Key=key, Body=b"yy", Metadata={"station": "n"})
        if after == "marked":
            client.delete_object(Bucket=bucket, Key=key)


def deleted(client: Any, bucket: str, version: ObjectVersion, *, bypass: bool) -> bool:
    try:
        client.delete_object(
            Bucket=bucket, Key=version.key, VersionId=version.version, BypassGovernanceRetention=bypass
        )
    except ClientError as error:
        assert error.response["Error"]["Code"] == "AccessDenied"
        return False
    return True


def hold_deletions(client: Any, folder: Path, store: str, buckets: Iterable[str]) -> None:
    """Every version that was surveyed is deleted, without and with a bypass, by whom `protection` says."""
    survey, moment, wrong = next((folder / "surveys").glob("*Z")), datetime.now(UTC), []
    expected = {"delete-permission": (True, True), "bypass-retention": (False, True), "nobody": (False, False)}
    predicted: dict[str, int] = dict.fromkeys(expected, 0)
    for bucket in buckets:
        for version in list(read_versions(table_path(survey, store, bucket))):
            who = protection(version, moment).deletable_by
            predicted[who] += 1
            plainly = deleted(client, bucket, version, bypass=False)
            with_bypass = plainly or deleted(client, bucket, version, bypass=True)
            if (plainly, with_bypass) != expected[who]:
                wrong.append((bucket, version.key, version.mode, version.until, version.hold, plainly, with_bypass))
    assert wrong == []
    assert min(predicted.values()) >= 30, predicted


def test_every_deletion_on_the_gateway_goes_as_predicted(gateway: Gateway, tmp_path: Path) -> None:
    client = gateway.client()
    buckets = {f"sealed-{n}": default for n, default in enumerate(DEFAULTS)}
    for bucket, default in buckets.items():
        lay_out(client, bucket, default)
    time.sleep(4)  # the short periods end
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    ran = lantern("survey", "--objects", "all", "--only", "real/sealed-*", cwd=folder)
    assert ran.code == 0, ran.out + ran.err
    hold_deletions(client, folder, "real", buckets)


def test_a_default_that_ends_past_the_gateways_calendar_keeps_what_the_gateway_keeps(
    gateway: Gateway, tmp_path: Path
) -> None:
    """A century of compliance, as it is written; what is stored under it can be deleted at once."""
    client = gateway.client()
    years = {"century-60": 60, "century-78": 78, "century-100": 100, "century-137": 137, "century-200": 200}
    ends: dict[str, datetime] = {}
    for bucket, count in years.items():
        client.create_bucket(Bucket=bucket, ObjectLockEnabledForBucket=True)
        rule = {"DefaultRetention": {"Mode": "COMPLIANCE", "Years": count}}
        lock = {"ObjectLockEnabled": "Enabled", "Rule": rule}
        client.put_object_lock_configuration(Bucket=bucket, ObjectLockConfiguration=lock)
        if count in (60, 100, 137):
            version = client.put_object(Bucket=bucket, Key="a", Body=b"x")["VersionId"]
            ends[bucket] = client.head_object(Bucket=bucket, Key="a")["ObjectLockRetainUntilDate"]
            kept = ObjectVersion(key="a", version=version)
            assert deleted(client, bucket, kept, bypass=False) is (ends[bucket] < datetime.now(UTC))
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    required = "{lock.mode: compliance, lock.default-retention: at least 36500 days}"
    (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: all\n  require: {required}\n")
    assert lantern("survey", "--only", "real/century-*", cwd=folder).code == 0
    saved = next((folder / "surveys").glob("*Z")) / "stores" / "real.json"
    dossier = decode(saved.read_bytes(), saved.name)
    defaults = {bucket.name: bucket.lock.value.retention for bucket in dossier.buckets if bucket.lock.value}
    for bucket, count in years.items():
        ended = dossier.taken + timedelta(seconds=defaults[bucket])
        if bucket not in ends:
            assert ended < LAST_MOMENT and (defaults[bucket] == count * YEAR) is (count < 79), bucket
        elif ends[bucket] < dossier.taken:
            assert defaults[bucket] == 0, bucket
        else:
            assert abs(ended - ends[bucket]) < timedelta(minutes=5), bucket
    assert lantern("audit", "--all", cwd=folder).out.count("lock.default-retention") >= len(years)
    assert "begins anew" in lantern("show", "century-100", "--json", cwd=folder).out
    remedy = lantern("remedy", "century-60", cwd=folder).out
    assert "none that ends later" in " ".join(remedy.split()) and "<Years>100" not in remedy


def test_a_post_at_the_swift_door_deletes_what_is_locked_and_no_door_but_that_shows_it(
    gateway: Gateway, tmp_path: Path
) -> None:
    client, swift = gateway.client(), SwiftDoor(f"{gateway.address}/swift/v1")
    client.create_bucket(Bucket="around", ObjectLockEnabledForBucket=True)
    until = datetime.now(UTC) + timedelta(days=2)
    locks: dict[str, dict[str, Any]] = {
        "compliance": {"ObjectLockMode": "COMPLIANCE", "ObjectLockRetainUntilDate": until},
        "governance": {"ObjectLockMode": "GOVERNANCE", "ObjectLockRetainUntilDate": until},
        "hold": {"ObjectLockLegalHoldStatus": "ON"},
    }
    versions = {key: client.put_object(Bucket="around", Key=key, Body=b"x", **lock) for key, lock in locks.items()}
    deny = {"Effect": "Deny", "Principal": "*", "Action": "s3:Delete*", "Resource": "arn:aws:s3:::around/*"}
    client.put_bucket_policy(Bucket="around", Policy=json.dumps({"Version": "2012-10-17", "Statement": [deny]}))
    for key in locks:
        assert swift.send("POST", f"/around/{key}", gateway.swift, {"X-Delete-At": "4102444800"})[0] == 202
        assert "x-delete-at" not in client.head_object(Bucket="around", Key=key)["ResponseMetadata"]["HTTPHeaders"]
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    required = "{objects.deletable-by: nobody, objects.expires-in: absent, lock.mode: absent}"
    (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: all\n  require: {required}\n")
    assert lantern("survey", "--objects", "all", "--only", "real/around", cwd=folder).code == 0
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    assert {row["fact"]: row["severity"] for row in audit["drift"]}["lock.way-around"] == "critical"
    assert "objects.deletable-by" in [row["fact"] for row in audit["drift"]]
    assert "objects.expires-in" in [row["fact"] for row in audit["unknown"]]
    (row,) = json.loads(lantern("retention", "--json", cwd=folder).out)["buckets"]
    assert row["sentence"].startswith("3 of 3 versions are deletable now, locked ones too")
    assert {group["deletable_by"] for group in row["retention"]["groups"]} == {"delete-permission"}
    soon = {"X-Delete-At": str(int(time.time()) + 2)}
    assert {swift.send("POST", f"/around/{key}", gateway.swift, soon)[0] for key in locks} == {202}
    time.sleep(4)
    gateway.admin("objects", "expire")  # what the gateway does by itself every few minutes
    for key, version in versions.items():
        with pytest.raises(ClientError, match="404"):
            client.head_object(Bucket="around", Key=key, VersionId=version["VersionId"])


def test_metadata_tags_and_access_lists_are_those_the_client_put(gateway: Gateway, tmp_path: Path) -> None:
    client = gateway.client()
    client.create_bucket(Bucket="described")
    everyone = 'uri="http://acs.amazonaws.com/groups/global/AllUsers"'
    extra = {"Metadata": {"station": "north"}, "CacheControl": "no-store", "ContentType": "image/jpeg"}
    hostile = ["plain.jpg", "a b/ü+%.jpg", "=1+1.jpg", "\x01control\n.jpg", "<b>.jpg", "-/../x.jpg"]
    for key in hostile:
        client.put_object(Bucket="described", Key=key, Body=b"x" * 10, **extra)
    client.put_object_tagging(Bucket="described", Key="plain.jpg", Tagging={"TagSet": [{"Key": "class", "Value": "p"}]})
    client.put_object_acl(Bucket="described", Key="=1+1.jpg", GrantRead=everyone)
    parts = client.create_multipart_upload(Bucket="described", Key="parts.bin")["UploadId"]
    sent = client.upload_part(Bucket="described", Key="parts.bin", PartNumber=1, UploadId=parts, Body=b"p" * 100)
    whole = {"Parts": [{"ETag": sent["ETag"], "PartNumber": 1}]}
    client.complete_multipart_upload(Bucket="described", Key="parts.bin", UploadId=parts, MultipartUpload=whole)
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    (folder / "baseline.yaml").write_text(
        "title: t\nedition: 1\nsheets:\n  - sheet: s\n    require:\n      objects.tags.class: present\n"
        "      objects.public: none\n      objects.cache-control: no-store\n"
    )
    assert lantern("survey", "--objects", "all", "--only", "real/described", cwd=folder).code == 0
    path = table_path(next((folder / "surveys").glob("*Z")), "real", "described")
    found = {version.key: version for version in read_versions(path)}
    assert sorted(found) == sorted([*hostile, "parts.bin"])
    assert {(v.inspected, v.content_type, v.cache_control) for k, v in found.items() if k in hostile} == {
        ("yes", "image/jpeg", "no-store")
    }
    assert {str(v.metadata) for k, v in found.items() if k in hostile} == {"{'station': 'north'}"}
    assert found["plain.jpg"].tags == {"class": "p"}
    assert [key for key, version in found.items() if version.public == "read"] == ["=1+1.jpg"]
    assert found["parts.bin"].multipart and not found["plain.jpg"].multipart
    judged = json.loads(lantern("objects", "--json", cwd=folder).out)["requirements"]
    assert {row["fact"]: row["objects"]["failed"] for row in judged} == {
        "objects.tags.class": 6, "objects.public": 1, "objects.cache-control": 1,
    }  # fmt: skip


def test_what_a_rule_is_told_to_remove_the_gateway_removes(gateway: Gateway, tmp_path: Path) -> None:
    client = gateway.client()
    client.create_bucket(Bucket="fading")
    for number in range(9):
        client.put_object(Bucket="fading", Key=f"{'tmp' if number % 2 else 'kept'}/{number}", Body=b"x" * (number + 1))
    rule = {
        "ID": "t",
        "Status": "Enabled",
        "Filter": {"Prefix": "tmp/"},
        "Expiration": {"Date": datetime(2020, 1, 1, tzinfo=UTC)},
    }
    client.put_bucket_lifecycle_configuration(Bucket="fading", LifecycleConfiguration={"Rules": [rule]})
    begun = client.create_multipart_upload(Bucket="fading", Key="big")["UploadId"]
    for number, size in ((1, 5 * 1024 * 1024), (2, 77)):
        client.upload_part(Bucket="fading", Key="big", UploadId=begun, PartNumber=number, Body=b"p" * size)
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper, gateway.swift)
    assert lantern("survey", "--objects", "all", "--only", "real/fading", cwd=folder).code == 0
    row = json.loads(lantern("usage", "--by", "bucket", "--json", cwd=folder).out)["rows"][0]
    assert (row["bytes"], row["expiring_bytes"], row["missing"]) == (45, 20, {"quota_bytes": 1})
    assert row["unfinished_bytes"] == 5 * 1024 * 1024 + 77
    deadline = time.monotonic() + 120
    while len(client.list_objects_v2(Bucket="fading").get("Contents", [])) == 9 and time.monotonic() < deadline:
        gateway.admin("lc", "process", "--bucket", "fading")
        time.sleep(1)
    left = client.list_objects_v2(Bucket="fading")["Contents"]
    assert sum(one["Size"] for one in left) == row["bytes"] - row["expiring_bytes"]
    assert all(one["Key"].startswith("kept/") for one in left)
