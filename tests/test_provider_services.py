"""What a policy lets in by way of a service of the provider, for whichever account that acts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.provider_services import unbound_services
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.core.model.guards import Guards
from tests.conftest import Ran, lantern
from tests.test_access_points import BUCKET, NONE, OTHER, OWN, allow, document, store_of, verdicts

TRAIL = {"Service": "trail.example.com"}
TO_OWN = {"StringNotEquals": {"aws:SourceAccount": OWN}}


def store(action: str = "s3:PutObject", who: Any = None, **condition: Any) -> dict[str, Any]:
    return allow(BUCKET, who or TRAIL, action, **condition)


@pytest.mark.parametrize(
    ("statements", "expected"),
    [
        ([store()], "restricted"),
        ([store(StringEquals={"aws:SourceAccount": OWN})], "closed"),
        ([store(StringEquals={"aws:SourceAccount": [OWN, OTHER]})], "closed"),
        ([store(StringEquals={"aws:SourceOrgID": "o-trust"})], "closed"),
        ([store(ArnLike={"aws:SourceArn": f"arn:aws:trail:*:{OWN}:trail/*"})], "closed"),
        ([store(ArnLike={"aws:SourceArn": "arn:aws:s3:::source"})], "closed"),
        ([store(ArnLike={"aws:SourceArn": "arn:aws:trail:*:*:trail/*"})], "restricted"),
        ([store(StringLike={"aws:SourceAccount": "*"})], "restricted"),
        ([store(StringEqualsIfExists={"aws:SourceAccount": OWN})], "restricted"),
        ([store(StringNotEquals={"aws:SourceAccount": OTHER})], "restricted"),
        ([store(StringEquals={"s3:x-amz-acl": "bucket-owner-full-control"})], "restricted"),
        ([store(), {**store(), "Effect": "Deny", "Principal": "*", "Condition": TO_OWN}], "closed"),
        ([store(), {**store(), "Effect": "Deny", "Principal": "*", "Condition": {"ArnNotLike": {
            "aws:SourceArn": f"arn:aws:*:*:{OWN}:*"}}}], "closed"),
        ([store(), {**store(), "Effect": "Deny", "Principal": "*", "Condition": {"Bool": {
            "aws:PrincipalIsAWSService": "false"}}}], "restricted"),
        ([store(), {**store(), "Effect": "Deny", "Principal": "*", "Condition": {"Bool": {
            "aws:PrincipalIsAWSService": "true"}}}], "closed"),
        ([store(who={"Service": "logging.s3.amazonaws.com"})], "closed"),  # for buckets of its own account alone
        ([store(), store(who="*")], "open"),
        ([store(action="s3:GetObject")], "closed"),
    ],
)  # fmt: skip
def test_a_service_that_is_not_bound_to_an_account_acts_for_any(
    statements: list[dict[str, Any]], expected: str
) -> None:
    """Of writing; whoever sends no credentials has no account that a service acts for."""
    found = verdicts(document(*statements), NONE)
    assert found["any-account", "write"].level == expected
    assert found["anyone", "write"].level == ("open" if expected == "open" else "closed")
    if expected == "restricted":
        verdict = found["any-account", "write"]
        assert verdict.restriction is not None and verdict.witness is not None
        assert 'only through the service "trail.example.com"' in verdict.restriction.words
        assert verdict.witness.circumstances["through the service"] == "trail.example.com"
        assert "through the service trail.example.com" in verdict.because


def test_the_guard_on_public_policies_lets_services_through() -> None:
    """As it is published: it keeps a public policy for services, and for the account's own."""
    found = verdicts(document(store(who="*"), store()), NONE, Answer("known", Guards(restrict_policies=True)))
    assert {audience: found[audience, "write"].level for audience in ("anyone", "any-account")} == {
        "anyone": "closed", "any-account": "restricted",
    }  # fmt: skip


def test_each_service_of_a_statement_is_named() -> None:
    several = store(who={"Service": ["b.example.com", "logging.s3.amazonaws.com", "a.example.com"], "AWS": OTHER})
    (said,) = parse_policy(document(several)).statements
    assert unbound_services(said) == ("b.example.com", "a.example.com")


@pytest.mark.parametrize(
    ("statements", "outside"),
    [
        ([store()], "write"),
        ([store(StringEquals={"aws:SourceAccount": OWN})], ""),
        ([store(ArnLike={"aws:SourceArn": f"arn:aws:trail:*:{OWN}:trail/*"})], ""),
        ([store(StringEquals={"aws:SourceAccount": [OWN, OTHER]})], "write"),
        ([store(ArnLike={"aws:SourceArn": "arn:aws:s3:::source"})], "write"),  # whose bucket that is, nobody says
        ([store(StringEquals={"aws:SourceOrgID": "o-trust"})], "write"),
        ([store(StringEquals={"aws:SourceAccount": OWN}), store(action="s3:GetObject")], "read write"),
        ([store(who={"Service": "logging.s3.amazonaws.com"})], ""),
    ],
)
def test_a_service_that_acts_for_the_accounts_own_alone_is_not_outside(
    statements: list[dict[str, Any]], outside: str
) -> None:
    bucket, dossier = store_of(document(*statements), NONE)
    view = store_subjects([dossier], None, dossier.taken)[0].buckets[bucket.name]
    assert view.fact("access.outside").value == outside


def surveyed(folder: Path, dossier: Dossier) -> None:
    """A workspace of one dossier, which requires that the public writes to no bucket."""
    folder.mkdir()
    (folder / "s.json").write_bytes(encode(dossier))
    (folder / "estate.yaml").write_text("estate: trust\nstores:\n  s:\n    reads: dossier\n    at: s.json\n")
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n  - sheet: all\n    require: {exposure.write: closed, exposure.read: closed}\n"
    )
    ran: Ran = lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=folder)
    assert ran.code == 0, ran.err


def test_the_remedy_binds_the_service_to_the_accounts_own(tmp_path: Path) -> None:
    policy = document(store(StringEquals={"s3:x-amz-acl": "private"}), store(action="s3:GetObject", who="*"))
    surveyed(tmp_path / "ws", store_of(policy, NONE)[1])
    audited = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)
    assert {(row["fact"], row["observed"]) for row in audited["drift"]} == {
        ("exposure.write", "restricted"), ("exposure.read", "open"),
    }  # fmt: skip
    remedies = json.loads(lantern("remedy", "maps", "--json", cwd=tmp_path / "ws").out)["remedies"]
    (remedy,) = remedies
    (written,) = [one["text"] for one in remedy["documents"]]
    bound = json.loads(written)["Statement"][0]["Condition"]["StringEquals"]
    assert bound == {"s3:x-amz-acl": "private", "aws:SourceAccount": [OWN]}
    (tmp_path / "policy.json").write_text(written)
    after = verdicts(written, NONE)
    assert {after[audience, verb].level for audience in ("anyone", "any-account") for verb in ("read", "write")} == {
        "closed"
    }
