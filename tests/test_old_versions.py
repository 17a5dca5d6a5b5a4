"""Old versions that a survey could not list: what is said of every version is unknown then, whatever the current ones
are like."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec
import pytest
from botocore.exceptions import ClientError

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket, Versioning
from rusty_lantern.core.model.bucket_contents import Table, Versions
from tests.conftest import lantern
from tests.gateway import Gateway
from tests.raw_store import Asked, Told, plain, raw_store
from tests.real_store import workspace_for
from tests.test_hostile_stores import BAD, workspace

BASELINE = (
    "title: t\nsheets: [{sheet: s, require: {objects.content-type: present, objects.retention: present, "
    "objects.current-version: protected, object-acls.public: none}}]\n"
)
CURRENT, EVERY = "objects.content-type", ("objects.current-version", "objects.retention")
DENIED = Told(b"<Error><Code>AccessDenied</Code></Error>", 403)
NOT_OFFERED = Told(b"<Error><Code>NotImplemented</Code></Error>", 501)
LISTING = Told(b'<?xml version="1.0"?><ListBucketResult><IsTruncated>false</IsTruncated></ListBucketResult>')
ON, NEVER = (Told(f"<VersioningConfiguration>{state}</VersioningConfiguration>".encode())
             for state in ("<Status>Enabled</Status>", ""))  # fmt: skip


STEPS = ("allow s3:ListBucketVersions to the surveying credential", "have the store list them")
"""What settles it: where it is denied, and otherwise."""


def statuses(folder: Path) -> dict[str, str]:
    """Fact → its status."""
    audited = json.loads(lantern("audit", "--json", "--all", cwd=folder).out)
    told = {row["fact"]: status for status in ("drift", "unknown") for row in audited[status]}
    for row in audited["overview"]["unknown"]:
        assert "old versions" not in row["reason"] or row["settled_by"].startswith(STEPS), row
    return {fact: told.get(fact, "ok") for fact in (CURRENT, *EVERY)}


@pytest.mark.parametrize(("versioning", "versions", "known"), [
    (ON, None, True),
    (ON, DENIED, False),
    (ON, NOT_OFFERED, False),
    (ON, LISTING, False),  # something in between drops the question
    (ON, Told(b"", 500), False),
    (DENIED, DENIED, False),
    (DENIED, LISTING, False),
    (NEVER, DENIED, True),  # there are none
    (NOT_OFFERED, LISTING, True),  # the store keeps none
    (NOT_OFFERED, DENIED, False),
])  # fmt: skip
def test_what_every_version_is_like_is_known_where_all_were_listed(
    versioning: Told, versions: Told | None, known: bool, tmp_path: Path
) -> None:
    async def answer(asked: Asked) -> Told:
        if asked.question == "versions" and versions is not None:
            return versions
        return versioning if asked.question == "versioning" else plain(asked, [BAD])

    with raw_store(answer) as at:
        folder = workspace(tmp_path / "ws", at)
        (folder / "baseline.yaml").write_text(BASELINE)
        assert lantern("survey", "--objects", "all", cwd=folder).code in (0, 3)
    told = statuses(folder)
    assert told[CURRENT] == "ok", "the current objects were seen all the same"
    assert {told[fact] for fact in EVERY} == {"ok" if known else "unknown"}
    objects = json.loads(lantern("objects", "--json", cwd=folder).out)["tables"][0]
    row = json.loads(lantern("retention", "--json", cwd=folder).out)["buckets"][0]
    assert (bool(objects["left_out"]), bool(row["left_out"])) == (not known, not known)
    assert row["sentence"].startswith("Of the current objects alone, since old versions were not listed") is not known
    assert lantern("report", "--evidence", "proof", cwd=folder).code == 0
    page = (folder / "proof" / "index.html").read_text()
    assert (f"without old versions of {BAD}" in page) is not known
    encrypted = json.loads(lantern("encryption", "--json", cwd=folder).out)["buckets"][0]
    assert ("others" in encrypted["unknown"]) is not known
    held = json.loads(lantern("usage", "--json", cwd=folder).out)["total"]
    assert held["missing"].get("locked_bytes", 0) == int(not known), "what is beneath may be locked too"
    view = lantern("objects", cwd=folder).out
    assert (f"{int(known)} of them in every version" in view, "current objects alone were seen" in view) == (
        True,
        not known,
    )


def test_an_unlisted_version_is_not_deleted_while_under_retention(tmp_path: Path) -> None:
    """Two surveys, the later one without old versions: what became of them is unknown, not lost."""
    refused: list[str] = []

    async def answer(asked: Asked) -> Told:
        return DENIED if asked.question in refused else plain(asked, [BAD])

    with raw_store(answer) as at:
        folder = workspace(tmp_path / "ws", at)
        for more in ([], ["versions"]):
            refused += more
            assert lantern("survey", "--objects", "all", cwd=folder).code in (0, 3)
    changes = json.loads(lantern("changes", "--json", cwd=folder).out)
    assert (changes["weakened"], list(changes["not_compared"])) == ([], [f"s/{BAD}"])
    assert "whether protection became weaker is unknown" in " ".join(lantern("changes", cwd=folder).out.split())


@pytest.mark.parametrize("state", ["denied", "hidden", "failed"])
def test_denied_versions_leave_no_table_whole(state: str) -> None:
    table = Answer("known", Table(rows=1, versions=1, looked="all"))
    on, listed = Answer("known", Versioning("on")), Answer("known", Versions(0, 0, 0))
    whole = Bucket(name="b", versioning=on, versions=listed, table=table)
    assert whole.left_out == ""
    lost: Answer[Versions] = Answer(state, None, "x")  # type: ignore[arg-type]
    assert "x" in msgspec.structs.replace(whole, versions=lost).left_out
    assert msgspec.structs.replace(whole, versions=lost, table=Answer("failed")).left_out == "", "there is no table"


def test_a_real_gateway_that_lists_no_versions_to_this_credential(gateway: Gateway, tmp_path: Path) -> None:
    """Beneath a protected version is one that is not; the credential may list objects, and no versions."""
    name = "old-versions-apart"
    keeper = gateway.client()
    keeper.create_bucket(Bucket=name, ObjectLockEnabledForBucket=True)
    until = datetime.now(UTC) + timedelta(hours=1)
    keeper.put_object(Bucket=name, Key="a", Body=b"x", ContentType="text/plain")
    keeper.put_object(
        Bucket=name, Key="a", Body=b"y", ContentType="text/plain",
        ObjectLockMode="GOVERNANCE", ObjectLockRetainUntilDate=until,
    )  # fmt: skip
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper)
    (folder / "baseline.yaml").write_text(BASELINE)
    refused = {
        "Effect": "Deny",
        "Principal": "*",
        "Action": "s3:ListBucketVersions",
        "Resource": f"arn:aws:s3:::{name}",
    }
    told = []
    try:
        for statements in ([], [refused]):
            if statements:
                document = {"Version": "2012-10-17", "Statement": statements}
                keeper.put_bucket_policy(Bucket=name, Policy=json.dumps(document))
                with pytest.raises(ClientError, match="AccessDenied"):
                    keeper.list_object_versions(Bucket=name)
            assert lantern("survey", "--objects", "all", "--only", f"real/{name}", cwd=folder).code in (0, 3)
            told.append(statuses(folder))
            shutil.rmtree(folder / "surveys")
    finally:
        keeper.delete_bucket_policy(Bucket=name)
    assert [one["objects.retention"] for one in told] == ["drift", "unknown"], "an old version has none"
    assert [one[CURRENT] for one in told] == ["ok", "ok"]


@pytest.mark.parametrize(("old", "whole"), [(0, True), (5, False)])
def test_a_count_from_elsewhere_lists_no_version(old: int, whole: bool) -> None:
    """A dossier beside the store may know how many there are; the table has none of them all the same."""
    table = Answer("known", Table(rows=1, versions=1, looked="all", current_alone=True))
    counted = Answer("known", Versions(old, 0, 0))
    bucket = Bucket(name="b", versioning=Answer("known", Versioning("on")), versions=counted, table=table)
    assert (bucket.left_out == "") is whole
