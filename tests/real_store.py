"""Buckets put into a real store with a standard client, and the settings that a survey must read back."""

from __future__ import annotations

import contextlib
import json
import urllib.error
import urllib.request
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from botocore.exceptions import ClientError

from rusty_lantern.archive.workspace import make
from tests.conftest import lantern


@dataclass
class Seeded:
    """What was put there: bucket → fact → expected value; `None` stands for absent."""

    facts: dict[str, dict[str, Any]] = field(default_factory=dict)

    def expect(self, bucket: str, **facts: Any) -> None:
        self.facts.setdefault(bucket, {}).update({k.replace("__", ".").replace("_", "-"): v for k, v in facts.items()})


def grants_any_page(address: str) -> bool:
    """Whether a store lets in the pages of an origin that nobody named: by its own answer, to whoever asks."""
    request = urllib.request.Request(address, headers={"Origin": "https://nobody.invalid"})
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return "Access-Control-Allow-Origin" in answer.headers
    except urllib.error.HTTPError as refused:
        return "Access-Control-Allow-Origin" in refused.headers


def policy(bucket: str, *statements: dict[str, Any]) -> str:
    filled = [{"Effect": "Allow", "Principal": "*", "Resource": [f"arn:aws:s3:::{bucket}/*"], **s} for s in statements]
    return json.dumps({"Version": "2012-10-17", "Statement": filled})


def seed(client: Any, prefix: str = "reed") -> Seeded:
    """Make a dozen varied buckets."""
    seeded = Seeded()

    def bucket(name: str, *, lock: bool = False) -> str:
        whole = f"{prefix}-{name}"
        client.create_bucket(Bucket=whole, ObjectLockEnabledForBucket=lock)
        return whole

    plain = bucket("plain")
    seeded.expect(plain, versioning="never", lock__enabled="off", objects=0, policy="none", exposure__read="closed")

    versioned = bucket("versioned")
    client.put_bucket_versioning(Bucket=versioned, VersioningConfiguration={"Status": "Enabled"})
    seeded.expect(versioned, versioning="on")

    paused = bucket("paused")
    for state in ("Enabled", "Suspended"):
        client.put_bucket_versioning(Bucket=paused, VersioningConfiguration={"Status": state})
    seeded.expect(paused, versioning="suspended")

    for mode, period, seconds in (
        ("GOVERNANCE", {"Days": 30}, 30 * 86400),
        ("COMPLIANCE", {"Years": 7}, 7 * 365 * 86400),
    ):
        sealed = bucket(f"sealed-{mode.lower()}", lock=True)
        rule = {"DefaultRetention": {"Mode": mode, **period}}
        client.put_object_lock_configuration(
            Bucket=sealed, ObjectLockConfiguration={"ObjectLockEnabled": "Enabled", "Rule": rule}
        )
        seeded.expect(
            sealed, lock__enabled="on", lock__mode=mode.lower(), lock__default_retention=seconds, versioning="on"
        )

    tagged = bucket("tagged")
    tags = {"steward": "hydrology", "note": "<b>&amp; =1+1", "class": "permit"}
    client.put_bucket_tagging(
        Bucket=tagged, Tagging={"TagSet": [{"Key": key, "Value": value} for key, value in tags.items()]}
    )
    seeded.expect(tagged, tags__steward="hydrology", tags__note="<b>&amp; =1+1", tags__class="permit")

    public = bucket("public")
    client.put_bucket_policy(Bucket=public, Policy=policy(public, {"Action": "s3:GetObject"}))
    seeded.expect(public, policy="present", exposure__read="open", exposure__list="closed", exposure__write="closed")

    listed = bucket("listed")
    client.put_bucket_acl(Bucket=listed, ACL="public-read")
    seeded.expect(listed, exposure__list="open", exposure__read="closed", exposure__write="closed")

    writable = bucket("writable")
    everyone = 'uri="http://acs.amazonaws.com/groups/global/AllUsers"'
    client.put_bucket_acl(Bucket=writable, GrantRead=everyone, GrantWrite=everyone)
    seeded.expect(writable, exposure__list="open", exposure__write="open", exposure__delete="open")

    signed_in = bucket("signed-in")
    client.put_bucket_acl(Bucket=signed_in, ACL="authenticated-read")
    seeded.expect(signed_in, exposure__any_account__list="open", exposure__anyone__list="closed")

    fenced = bucket("fenced")
    condition = {"IpAddress": {"aws:SourceIp": "198.51.100.0/24"}}
    client.put_bucket_policy(Bucket=fenced, Policy=policy(fenced, {"Action": "s3:GetObject", "Condition": condition}))
    seeded.expect(fenced, exposure__read="restricted")

    guarded = bucket("guarded")
    client.put_public_access_block(
        Bucket=guarded, PublicAccessBlockConfiguration={"BlockPublicAcls": True, "IgnorePublicAcls": True}
    )
    guards = {"ignore_acls": "on", "refuse_new_acls": "on", "restrict_policies": "off"}
    seeded.expect(guarded, **{f"public_access_guards__{name}": value for name, value in guards.items()})

    full = bucket("full")
    for number in range(7):
        client.put_object(Bucket=full, Key=f"a b/ü+{number}", Body=b"x" * (number + 1))
    seeded.expect(full, objects=7, bytes=28)
    client.create_multipart_upload(Bucket=full, Key="unfinished")
    seeded.expect(full, uploads__unfinished=1, versions__old=0, versions__markers=0)

    layered = bucket("layered")
    client.put_bucket_versioning(Bucket=layered, VersioningConfiguration={"Status": "Enabled"})
    for body in (b"one", b"three", b"four"):
        client.put_object(Bucket=layered, Key="k", Body=body)
    client.put_object(Bucket=layered, Key="gone", Body=b"12")
    client.delete_object(Bucket=layered, Key="gone")
    seeded.expect(layered, objects=1, versions__old=3, versions__old_bytes=10, versions__markers=1)

    tidy = bucket("tidy")
    rules = [
        {
            "ID": "old",
            "Status": "Enabled",
            "Filter": {"Prefix": ""},
            "NoncurrentVersionExpiration": {"NoncurrentDays": 30},
        },
        {"ID": "new", "Status": "Enabled", "Filter": {"Prefix": "tmp/"}, "Expiration": {"Days": 7}},
        {"ID": "off", "Status": "Disabled", "Filter": {"Prefix": "x/"}, "Expiration": {"Days": 1}},
    ]
    client.put_bucket_lifecycle_configuration(Bucket=tidy, LifecycleConfiguration={"Rules": rules})
    origins = {"AllowedOrigins": ["*"], "AllowedMethods": ["GET"]}
    client.put_bucket_cors(Bucket=tidy, CORSConfiguration={"CORSRules": [origins]})
    seeded.expect(tidy, lifecycle__expires=7 * 86400, lifecycle__expires_old=30 * 86400, cross_origin="any")
    pages = "any" if grants_any_page(client.meta.endpoint_url) else "none"
    seeded.expect(plain, cross_origin=pages, lifecycle__expires=None, logging="off")

    with contextlib.suppress(ClientError):  # not every store can
        client.put_bucket_encryption(
            Bucket=full,
            ServerSideEncryptionConfiguration={
                "Rules": [{"ApplyServerSideEncryptionByDefault": {"SSEAlgorithm": "AES256"}}]
            },
        )
        seeded.expect(full, encryption__at_rest="provider-managed")
    return seeded


BASELINE = """\
title: a real store
edition: 1
sheets:
  - sheet: every bucket
    require:
      exposure.read: closed
      exposure.write: {is: closed, severity: critical}
      versioning: on
"""


def held_to(folder: Path, address: str, sheet: str, trusted: str = "") -> dict[tuple[str, str], dict[str, Any]]:
    """Survey a mock server and its identity service, held to one sheet: name and status → what the audit says of it.
    `trusted`: the accounts that the team trusts, joined by commas."""
    entry = f"{{at: '{address}', plain-http: allowed, credential: {{file: key}}, identities: {{at: '{address}'}}}}"
    written = {
        "estate.yaml": (f"estate: x\ntrusted: {{accounts: [{trusted}]}}\nstores:\n  real: {entry}\n", 0o644),
        "baseline.yaml": (f"title: t\nsheets:\n  - {sheet}\n", 0o644),
        "key": ("[default]\naws_access_key_id = mock-key\naws_secret_access_key = mock-secret\n", 0o600),
    }
    make(folder, written)
    assert lantern("survey", cwd=folder).code in (0, 3)
    audited = json.loads(lantern("audit", "--json", cwd=folder).out)
    return {(row["name"], status): row for status in ("drift", "unknown") for row in audited[status]}


def workspace_for(folder: Path, address: str, key: tuple[str, str], swift: tuple[str, str] | None = None) -> Path:
    """A workspace for a real store. `swift`: the login at its Swift door, where it has one."""
    folder.mkdir(parents=True)
    doors = ""
    if swift is not None:
        doors = f"    doors:\n      swift: {{at: '{address}/swift/v1', credential: {{file: swift.ini}}}}\n"
        (folder / "swift.ini").write_text(f"[default]\nuser={swift[0]}\nkey={swift[1]}\n")
    (folder / "estate.yaml").write_text(
        f"estate: real\nstores:\n  real:\n    at: {address}\n    plain-http: allowed\n"
        f"    credential: {{file: key.ini}}\n    pace: {{per-second: 5000}}\n{doors}"
    )
    (folder / "baseline.yaml").write_text(BASELINE)
    (folder / "key.ini").write_text(f"[default]\naws_access_key_id={key[0]}\naws_secret_access_key={key[1]}\n")
    return folder
