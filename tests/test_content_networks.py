"""What a content delivery network may do is unknown of the public: to whom it hands that on, no store shows.

And what is certain of a verdict that is unknown."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.verdict_words import BEYOND_TRUSTED, worded_verdicts
from rusty_lantern.core.answer import Answer, Partly
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from tests.conftest import lantern
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import workspace_for
from tests.test_access_points import BUCKET, NONE, OWN, allow, deny, document, on, point, store_of, verdicts

NETWORK = {"Service": "cloudfront.amazonaws.com"}
IDENTITY = {"AWS": "arn:aws:iam::cloudfront:user/CloudFront Origin Access Identity E1"}
MINE: dict[str, Any] = {"StringEquals": {"aws:SourceArn": f"arn:aws:cloudfront::{OWN}:distribution/E1"}}
OFFICE: dict[str, Any] = {"IpAddress": {"aws:SourceIp": "203.0.113.0/28"}}


def lets_in(who: Any = "*", action: str = "s3:GetObject", **condition: Any) -> dict[str, Any]:
    return allow(BUCKET, who, action, **condition)


@pytest.mark.parametrize(
    ("statements", "read", "any_list"),
    [
        ([lets_in(NETWORK, **MINE)], "unknown", "closed"),
        ([lets_in(NETWORK, "s3:*", **MINE)], "unknown", "unknown"),
        ([lets_in({"Service": "cloudfront.amazonaws.com.cn"}, **MINE)], "unknown", "closed"),
        ([lets_in({"Service": "amplify.amazonaws.com"})], "unknown", "closed"),
        ([lets_in(IDENTITY)], "unknown", "closed"),
        ([lets_in({"Service": "logging.s3.amazonaws.com"}, "s3:PutObject")], "closed", "closed"),
        ([lets_in({"Service": "notcloudfront.amazonaws.com"}, **MINE)], "closed", "closed"),
        ([lets_in({"AWS": f"arn:aws:iam::{OWN}:role/cloudfront"})], "closed", "closed"),
        ([{**lets_in(NETWORK), "Effect": "Deny"}], "closed", "closed"),
        ([lets_in(NETWORK, **MINE), lets_in()], "open", "closed"),
        ([lets_in(NETWORK, **MINE), lets_in(**OFFICE)], "unknown", "closed"),
        ([lets_in(NETWORK, **MINE), deny(Bool={"aws:PrincipalIsAWSService": "true"})], "closed", "closed"),
        ([lets_in(NETWORK, **MINE), deny(Bool={"aws:PrincipalIsAWSService": "false"})], "unknown", "closed"),
        ([lets_in(NETWORK, **MINE), deny(Bool={"aws:SecureTransport": "false"})], "unknown", "closed"),
        ([lets_in(NETWORK, **MINE), deny(StringNotEquals={"aws:SourceVpce": "vpce-1"})], "closed", "closed"),
        ([lets_in(NETWORK, **MINE), {**lets_in(NETWORK), "Effect": "Deny"}], "closed", "closed"),
        ([lets_in(IDENTITY), {**lets_in(IDENTITY), "Effect": "Deny"}], "closed", "closed"),
    ],
)
def test_what_a_network_may_do_is_unknown_of_the_public(
    statements: list[dict[str, Any]], read: str, any_list: str
) -> None:
    decided = verdicts(document(*statements), NONE)
    assert (decided["anyone", "read"].level, decided["any-account", "list"].level) == (read, any_list)
    if read == "unknown":
        assert "content delivery network" in decided["anyone", "read"].doubts[-1]


def test_no_guard_on_public_policies_keeps_a_network_out() -> None:
    """As it is published: that guard keeps what a policy allows for services, and so what it allows to everybody."""
    shut: Answer[Guards] = Answer("known", Guards(restrict_policies=True))
    decided = verdicts(document(lets_in(NETWORK, **MINE), lets_in(action="s3:ListBucket")), NONE, shut)
    assert {verb: decided["anyone", verb].level for verb in ("read", "list", "write")} == {
        "read": "unknown", "list": "unknown", "write": "closed",
    }  # fmt: skip


def test_a_network_that_an_access_point_lets_in_is_one_too() -> None:
    handed_over = document(lets_in(action="*", StringEquals={"s3:DataAccessPointAccount": OWN}))
    pier, mole = point("pier", on("pier", who=NETWORK)), point("mole", on("mole", who={"AWS": OWN}))
    assert verdicts(handed_over, Answer("known", [pier, mole]))["anyone", "read"].level == "unknown"
    assert verdicts(handed_over, Answer("known", [mole]))["anyone", "read"].level == "closed"


@pytest.fixture(scope="module")
def mock() -> Iterator[str]:
    with empty_mock_server() as address:
        yield address


def test_it_is_unknown_in_an_audit_until_it_is_waived(mock: str, tmp_path: Path) -> None:
    """Of policies that the standard client set; the look-alike lets in a service that hands on nothing."""
    s3 = standard_client(mock, "mock-key", "mock-secret")
    logging = lets_in({"Service": "logging.s3.amazonaws.com"}, "s3:PutObject", StringEquals={"aws:SourceAccount": OWN})
    for name, statement in (("atlas", lets_in(NETWORK, **MINE)), ("logs", logging)):
        s3.create_bucket(Bucket=name)
        s3.put_bucket_policy(Bucket=name, Policy=document(statement).replace(":::maps", f":::{name}"))
    folder = tmp_path / "ws"
    workspace_for(folder, mock, ("mock-key", "mock-secret"))
    (folder / "baseline.yaml").write_text("title: t\nsheets:\n  - sheet: all\n    require: {exposure.read: closed}\n")
    assert lantern("survey", cwd=folder).code == 0
    audited = json.loads(lantern("audit", "--json", cwd=folder).out)
    (row,) = audited["unknown"]
    assert (row["bucket"], row["fact"], audited["drift"]) == ("atlas", "exposure.read", [])
    assert "to whom it hands that on was not read" in row["reason"]
    seen = lantern("audit", cwd=folder).out
    assert "see to whom that network hands it on" in " ".join(seen.split())
    (folder / "waivers.yaml").write_text(
        "waivers:\n  - {of: real/atlas, fact: exposure.read, observed: unknown, because: the atlas is a public page, "
        "by: trustees, since: 2026-11-02, until: 2099-01-01}\n"
    )
    ran = lantern("audit", "--json", cwd=folder)
    assert ran.code == 0, ran.err
    after = json.loads(ran.out)
    assert (after["unknown"], [row["bucket"] for row in after["waived"]]) == ([], ["atlas"])


@pytest.mark.parametrize(
    ("statement", "certain"),
    [
        (lets_in(action="s3:ListBucket", **OFFICE), "restricted"),
        (lets_in(action="s3:PutObject"), None),
        (lets_in(NETWORK, "s3:ListBucket"), "restricted"),  # any authenticated account may send one
    ],
)
def test_what_is_restricted_for_certain_is_said_to_be_at_least_that(
    statement: dict[str, Any], certain: str | None
) -> None:
    """Where an ACL was denied, a bucket may be more open than its policy has it, and is no less so."""
    bucket, dossier = with_a_denied_acl(statement)
    fact = store_subjects([dossier], None, dossier.taken)[0].buckets[bucket.name].fact("exposure.list")
    assert fact.state == "failed"
    assert (fact.certain if isinstance(fact, Partly) else None) == certain


def with_a_denied_acl(statement: dict[str, Any]) -> tuple[Bucket, Dossier]:
    bucket, dossier = store_of(document(statement), NONE)
    bucket = msgspec.structs.replace(bucket, acl=Answer("denied", None, "AccessDenied"), ownership=NONE)
    return bucket, msgspec.structs.replace(dossier, buckets=[bucket])


def test_what_trusted_networks_alone_reach_is_not_certain_beyond_them() -> None:
    bucket, dossier = with_a_denied_acl(lets_in(action="s3:ListBucket", **OFFICE))
    around = EvaluationContext(dossier.taken, account=OWN, trusted_networks=("203.0.113.0/28",))
    worded = worded_verdicts(exposures(rules_of(bucket, dossier), around))
    assert (worded["list"].level, worded["list"].least) == ("unknown", "restricted")
    assert (worded[BEYOND_TRUSTED].level, worded[BEYOND_TRUSTED].least) == ("unknown", "closed")
