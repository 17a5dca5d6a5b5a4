"""Remedies applied to the real gateway: it takes the documents, and what drifted does not drift any more."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path

import pytest
from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from botocore.httpsession import URLLib3Session

from tests.conftest import lantern
from tests.gateway import Gateway, empty_mock_server, send_to, standard_client, takes_policy

BASELINE = """title: t
sheets:
  - sheet: all
    require:
      exposure.list: closed
      exposure.read: closed
      exposure.write: closed
      exposure.delete: closed
      versioning: on
      tags.steward: finance
      public-access-guards.refuse-new-acls: on
      public-access-guards.restrict-policies: on
  - {sheet: locked, of: {name: "locked*"}, require: {lock.mode: compliance, lock.default-retention: at least 30 days}}
"""
SUB_RESOURCES = {
    "ACL": "acl", "policy": "policy", "versioning": "versioning", "tags": "tagging", "object lock": "object-lock",
    "public-access guards": "publicAccessBlock", "ownership": "ownershipControls", "encryption": "encryption",
}  # fmt: skip
OPEN = {
    "Version": "2012-10-17",
    "Statement": [
        {"Effect": "Allow", "Principal": "*", "Action": ["s3:GetObject", "s3:DeleteObject"],
         "Resource": "arn:aws:s3:::by-policy/*"},
        {"Effect": "Allow", "Principal": "*", "Action": "s3:ListBucket", "Resource": "arn:aws:s3:::by-policy",
         "Condition": {"StringLike": {"s3:prefix": "public/*"}}},
        {"Effect": "Allow", "Principal": {"AWS": "arn:aws:iam:::user/deck"}, "Action": "s3:PutObject",
         "Resource": "arn:aws:s3:::by-policy/*"},
    ],
}  # fmt: skip


def apply(address: str, key: tuple[str, str], place: Path) -> Counter[str]:
    """Put each document of the remedies where it belongs; how many of each setting."""
    applied: Counter[str] = Counter()
    for row in json.loads(lantern("remedy", "--json", cwd=place).out)["remedies"]:
        for document in row["documents"]:
            url = f"{address}/{row['name']}?{SUB_RESOURCES[document['setting']]}"
            request = AWSRequest("PUT" if document["text"] else "DELETE", url, data=document["text"].encode())
            S3SigV4Auth(Credentials(*key), "s3", "us-east-1").add_auth(request)
            answer = URLLib3Session().send(request.prepare())
            assert answer.status_code in (200, 204), (document, answer.text)
            applied[document["setting"]] += 1
    return applied


@pytest.fixture
def place(gateway: Gateway, tmp_path: Path) -> Path:
    """A workspace for the gateway with buckets that drift in every way that a document mends."""
    client = gateway.client()
    for name in ("by-acl", "by-policy", "by-both"):
        client.create_bucket(Bucket=name)
        client.put_object(Bucket=name, Key="public/a", Body=b"a")
    client.create_bucket(Bucket="locked", ObjectLockEnabledForBucket=True)
    retention = {"Mode": "GOVERNANCE", "Days": 7}
    client.put_object_lock_configuration(
        Bucket="locked",
        ObjectLockConfiguration={"ObjectLockEnabled": "Enabled", "Rule": {"DefaultRetention": retention}},
    )
    client.put_bucket_tagging(Bucket="by-acl", Tagging={"TagSet": [{"Key": "class", "Value": "a <b> & c"}]})
    client.put_bucket_acl(Bucket="by-acl", ACL="public-read-write")
    client.put_bucket_acl(Bucket="by-both", ACL="authenticated-read")
    for name in ("by-policy", "by-both"):
        client.put_bucket_policy(Bucket=name, Policy=json.dumps(OPEN).replace("by-policy", name))
    (tmp_path / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n    objects: all\n"
        f"    doors:\n      swift: {{at: '{gateway.address}/swift/v1', credential: {{environment: DOOR}}}}\n"
    )
    (tmp_path / "baseline.yaml").write_text(BASELINE)
    return tmp_path


def test_the_gateway_takes_the_documents_and_the_drift_is_gone(gateway: Gateway, place: Path) -> None:
    access, secret = gateway.keeper
    user, key = gateway.swift
    keys = {"HARBOUR_ACCESS_KEY_ID": access, "HARBOUR_SECRET_ACCESS_KEY": secret, "DOOR_USER": user, "DOOR_KEY": key}

    def drift(moment: str) -> Counter[tuple[str, str]]:
        ran = lantern("survey", "--as-of", moment, cwd=place, **keys)
        assert ran.code in (0, 3), ran.err
        audit = json.loads(lantern("audit", "--json", cwd=place).out)
        mine = ("by-acl", "by-policy", "by-both", "locked")
        return Counter((row["name"], row["fact"]) for row in audit["drift"] if row["name"] in mine)

    before = drift("2026-11-02T06:00:00Z")
    assert {
        ("by-acl", "exposure.write"),
        ("by-policy", "exposure.delete"),
        ("by-both", "exposure.read"),
    } <= before.keys()
    told = json.loads(lantern("remedy", "harbour/by-policy", "--json", cwd=place).out)["remedies"]
    assert not [words for row in told for words in row["proof"] if "keeper" in words], "the owner reads as before"
    applied = apply(gateway.address, (access, secret), place)
    assert gateway.client().get_object(Bucket="by-policy", Key="public/a")["Body"].read() == b"a"
    assert applied == {"ACL": 2, "policy": 4, "versioning": 3, "tags": 4, "object lock": 1, "public-access guards": 4}
    # no document of a bucket's closes the gateway's way around its locks
    assert drift("2026-11-02T07:00:00Z") == Counter({("locked", "lock.way-around"): 1})
    tags = gateway.client().get_bucket_tagging(Bucket="by-acl")["TagSet"]
    assert {tag["Key"]: tag["Value"] for tag in tags} == {"class": "a <b> & c", "steward": "finance"}
    left = json.loads(gateway.client().get_bucket_policy(Bucket="by-policy")["Policy"])["Statement"]
    kept = ("Allow", "s3:PutObject")  # what is not public stays; the Deny is of bulk deletion
    assert [(one["Effect"], one["Action"]) for one in left] == [kept, ("Deny", "s3:DeleteBucket")]


def test_what_the_gateway_refuses_and_what_its_objects_keep_open_is_told(gateway: Gateway, tmp_path: Path) -> None:
    client, name = gateway.client(), "guarded"
    client.create_bucket(Bucket=name)
    client.put_object(Bucket=name, Key="k", Body=b"k", ACL="public-read")
    client.put_bucket_policy(Bucket=name, Policy=json.dumps(OPEN).replace("by-policy", name))
    guards = {"BlockPublicPolicy": True, "BlockPublicAcls": False, "IgnorePublicAcls": False}
    client.put_public_access_block(
        Bucket=name, PublicAccessBlockConfiguration=guards | {"RestrictPublicBuckets": False}
    )
    (tmp_path / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  harbour:\n    reads: s3\n    at: {gateway.address}\n"
        "    plain-http: allowed\n    credential: {environment: HARBOUR}\n    objects: all\n"
    )
    required = {"exposure.read": "closed", "object-acls.enabled": "off"}
    (tmp_path / "baseline.yaml").write_text(json.dumps({"sheets": [{"sheet": "all", "require": required}]}))
    access, secret = gateway.keeper
    keys = {"HARBOUR_ACCESS_KEY_ID": access, "HARBOUR_SECRET_ACCESS_KEY": secret}
    ran = lantern("survey", "--only", f"harbour/{name}", cwd=tmp_path, **keys)
    assert ran.code in (0, 3), ran.err
    told = json.loads(lantern("remedy", "--json", cwd=tmp_path).out)["remedies"]
    words = {tuple(row["facts"]): row["words"] for row in told if not row["documents"]}
    assert words == {
        ("exposure.read",): "remove the public from objects' own ACLs: read to anyone on k",
        ("object-acls.enabled",): "this store has no setting for it (ownership): keep what needs it in a store that "
        "has it, or waive the requirement here",
    }
    policy, proof = next((row["documents"][0]["text"], row["proof"]) for row in told if row["documents"])
    assert "exposure.read stays open by objects' own ACLs" in proof
    refused = [words for words in proof if "a gateway then refuses nearly every policy with an Allow" in words]
    assert len(refused) == 1 and not takes_policy(client, name, policy)
    (tmp_path / "new.json").write_text(policy)
    tried = lantern("try", "--bucket", f"harbour/{name}", "--policy", "new.json", cwd=tmp_path)
    assert "the store may refuse this policy" in tried.out
    client.put_public_access_block(
        Bucket=name, PublicAccessBlockConfiguration=dict.fromkeys([*guards, "RestrictPublicBuckets"], False)
    )
    assert takes_policy(client, name, policy)
    assert send_to(gateway.address, None, "GET", f"/{name}/k")[0] == 200, "the object's own ACL still opens it"


REQUIRED = {
    "exposure.list": "closed", "object-acls.enabled": "off", "public-access-guards.ignore-acls": "on",
    "versioning": "on",
}  # fmt: skip


def test_another_server_takes_the_documents_that_the_gateway_does_not_know(tmp_path: Path) -> None:
    key = ("mock-key", "mock-secret")
    with empty_mock_server() as address:
        client = standard_client(address, *key)
        client.create_bucket(Bucket="plain", ObjectOwnership="ObjectWriter")
        client.put_bucket_acl(Bucket="plain", ACL="public-read")
        (tmp_path / "baseline.yaml").write_text(json.dumps({"sheets": [{"sheet": "all", "require": REQUIRED}]}))
        (tmp_path / "estate.yaml").write_text(
            f"estate: x\nstores:\n  real:\n    reads: s3\n    at: {address}\n    plain-http: allowed\n"
            "    credential: {environment: MOCK}\n"
        )

        def drift(moment: str) -> set[str]:
            keys = {"MOCK_ACCESS_KEY_ID": key[0], "MOCK_SECRET_ACCESS_KEY": key[1]}
            assert lantern("survey", "--as-of", moment, cwd=tmp_path, **keys).code in (0, 3)
            return {row["fact"] for row in json.loads(lantern("audit", "--json", cwd=tmp_path).out)["drift"]}

        assert drift("2026-11-02T06:00:00Z") == REQUIRED.keys()
        applied = apply(address, key, tmp_path)
        assert applied == {"ACL": 1, "ownership": 1, "public-access guards": 1, "versioning": 1}
        assert drift("2026-11-02T07:00:00Z") == set()
