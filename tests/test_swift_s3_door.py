"""The S3 door of a real Swift: it shows owners alone where a container's ACL lets everybody in, and takes no policy."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import boto3
import pytest
from botocore.config import Config
from botocore.exceptions import ClientError

from tests.conftest import lantern
from tests.swift_server import OWNER, SwiftDoor

ACLS = {"closed": "", "read": ".r:*", "both": ".r:*,.rlistings", "deck": "deck", "referer": ".r:good.example"}


@pytest.fixture(scope="module")
def door(swift_server: str) -> SwiftDoor:
    """An account whose containers differ by their read ACL."""
    made = SwiftDoor(f"{swift_server}/v1/AUTH_keeper")
    for name, acl in ACLS.items():
        made.make(OWNER, f"s3door-{name}", X_Container_Read=acl)
    return made


def exposure(address: str, folder: Path, doors: str) -> dict[str, dict[str, Any]]:
    folder.mkdir()
    (folder / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {address}\n    plain-http: allowed\n"
        f"    credential: {{environment: HARBOUR}}\n{doors}"
    )
    secrets = {
        "HARBOUR_ACCESS_KEY_ID": OWNER[0], "HARBOUR_SECRET_ACCESS_KEY": OWNER[1],
        "DOOR_USER": OWNER[0], "DOOR_KEY": OWNER[1],
    }  # fmt: skip
    done = lantern("survey", "--only", "harbour/s3door-*", cwd=folder, **secrets)
    assert done.code == 0, done.err + done.out
    rows = json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]
    return {row["bucket"].removeprefix("s3door-"): row["exposure"]["anyone"] for row in rows}


def test_what_the_s3_door_shows_alone_leaves_nothing_closed(door: SwiftDoor, swift_server: str, tmp_path: Path) -> None:
    found = exposure(swift_server, tmp_path / "alone", "")
    assert set(found) == set(ACLS)
    assert {verdict["verdict"] for verdicts in found.values() for verdict in verdicts.values()} == {"unknown"}


def test_with_both_doors_the_verdicts_are_what_the_server_does(
    door: SwiftDoor, swift_server: str, tmp_path: Path
) -> None:
    named = f"    doors:\n      swift: {{at: {door.at}, credential: {{environment: DOOR}}}}\n"
    found = exposure(swift_server, tmp_path / "both", named)
    for name in ACLS:
        for verb, path in (("read", "/a.txt"), ("list", "/")):
            requests: list[dict[str, str]] = [{}, {"Referer": "http://good.example/"}]
            passed = [door.send("GET", f"/s3door-{name}{path}", headers=one)[0] in (200, 204) for one in requests]
            level = found[name][verb]["verdict"]
            if any(passed):
                assert level == "open", (name, verb, level)  # a Referer is the sender's own to choose
            else:  # that door gives objects ACLs of their own, which nobody read here
                assert level == ("unknown" if verb == "read" else "closed"), (name, verb, level)


def test_the_s3_door_takes_no_policy_so_no_dialect_of_policies_speaks_of_it(swift_server: str) -> None:
    client: Any = boto3.client(
        "s3", endpoint_url=swift_server, aws_access_key_id=OWNER[0], aws_secret_access_key=OWNER[1],
        region_name="us-east-1", config=Config(retries={"total_max_attempts": 1}, s3={"addressing_style": "path"}),
    )  # fmt: skip
    client.create_bucket(Bucket="s3door-policy")
    statement = {
        "Effect": "Allow",
        "Principal": "*",
        "Action": "s3:GetObject",
        "Resource": "arn:aws:s3:::s3door-policy/*",
    }
    document = json.dumps({"Version": "2012-10-17", "Statement": [statement]})
    with pytest.raises(ClientError, match="NotImplemented"):
        client.put_bucket_policy(Bucket="s3door-policy", Policy=document)
