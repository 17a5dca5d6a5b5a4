"""The edges of a decision: moments of any size, what callers choose, what requests without credentials carry."""

from __future__ import annotations

import base64
import json
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec, request_of
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.guards import Guard
from rusty_lantern.core.access.rules.named_identities import named_in
from rusty_lantern.core.access.solver.audience_view import public_policy
from rusty_lantern.core.access.solver.exposure import Verdict, as_match, exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.access_differences import differences
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import read_otherwise
from rusty_lantern.core.audit.proposed_bucket import alone, beside
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.config.estate import Attestation, Credential, StoreConfig
from rusty_lantern.core.errors import BadInput, Place
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Usage, Versions
from rusty_lantern.core.model.dialect import GATEWAY_16
from rusty_lantern.core.model.dossier import Dossier, Software
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from rusty_lantern.core.model.network import Network, network_fact
from rusty_lantern.reports.results.decisions import decision_results
from rusty_lantern.reports.results.proposal import try_result
from tests.policies import AROUND


def statement(effect: str = "Allow", **more: Any) -> dict[str, Any]:
    plain = {"Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::quay/*"}
    return {"Effect": effect, **plain, **more}


def document_of(*statements: dict[str, Any]) -> str:
    said = [{key: value for key, value in one.items() if value is not None} for one in statements]
    return json.dumps({"Version": "2012-10-17", "Statement": said})


def rules(*statements: dict[str, Any]) -> Rules:
    return Rules("quay", parse_policy(document_of(*statements)))


def read(*said: dict[str, Any], **more: Any) -> Bucket:
    """A bucket of which everything was read that bears on access, and nothing is set but its policy."""
    nothing: Answer[Any] = Answer("absent")
    policy = Answer("known", document_of(*said)) if said else nothing
    fields = {"acl": nothing, "rights": nothing, "network": nothing, "public_access_guards": nothing,
    "ownership": nothing,
              "requester_pays": nothing, "policy": policy}  # fmt: skip
    return Bucket(name="quay", **(fields | more))


def a_store(bucket: Bucket, *identities: Identity) -> Dossier:
    nothing: Answer[Any] = Answer("absent")
    return Dossier(
        store="store", taken=AROUND.moment, account=Answer("known", INSIDER), account_number=INSIDER,
        public_access_guards=nothing,
        network=nothing, groups=nothing, credentials=nothing, encryption_keys=nothing, links=nothing,
        listing=Answer("known", 1), buckets=[bucket], identities=Answer("known", list(identities)),
    )  # fmt: skip


def verdict(*statements: dict[str, Any], audience: Any = "anyone", verb: Any = "read") -> Verdict:
    return exposures(rules(*statements), AROUND)[audience, verb]


def allowed(view: BucketSubject, asking: RequestSpec) -> bool | None:
    return decision_results(view, [asking], lambda _: AROUND.moment)[0].allowed


@pytest.mark.parametrize(
    ("condition", "level"),
    [
        ({"NumericLessThan": {"aws:EpochTime": "1767225600000"}}, "open"),
        ({"NumericGreaterThan": {"aws:EpochTime": "1767225600000"}}, "restricted"),
        ({"NumericGreaterThan": {"aws:EpochTime": "9" * 30}}, "restricted"),
        ({"DateGreaterThan": {"aws:CurrentTime": "9999-12-31T23:59:59Z"}}, "restricted"),
        ({"DateLessThan": {"aws:CurrentTime": "9999-12-31T23:59:59Z"}}, "open"),
    ],
)
def test_a_moment_past_the_calendar_is_shown_as_such(condition: dict[str, Any], level: str) -> None:
    found = verdict(statement(Condition=condition))
    assert found.level == level, found.doubts
    if level == "restricted":
        assert found.restriction and found.restriction.words == "only at a moment past the calendar"


def test_a_retention_past_the_calendar_is_decided() -> None:
    until = {"DateGreaterThan": {"s3:object-lock-retain-until-date": "9999-12-31T23:59:59Z"}}
    found = verdict(statement(Action="s3:PutObject", Condition=until), verb="write")
    assert found.level == "open" and found.witness is not None


@pytest.mark.parametrize(
    ("allow", "verb"),
    [
        (statement(Action="s3:PutObject", Resource="arn:aws:s3:::quay/${s3:RequestObjectTag/team}/*"), "write"),
        (statement(Action="s3:ListBucket", Resource="arn:aws:s3:::quay",
                   Condition={"StringEquals": {"aws:UserAgent": "${s3:prefix}"}}), "list"),
    ],
)  # fmt: skip
def test_a_variable_that_the_caller_chooses_is_never_taken_for_one_that_nobody_has(allow: Any, verb: str) -> None:
    assert verdict(allow, verb=verb).level == "unknown"


CARRIED = [
    # the published table of principal keys: what a request without credentials carries
    (statement("Deny", Condition={"Null": {"aws:PrincipalAccount": "true"}}), "open"),
    (statement("Deny", Condition={"StringEquals": {"aws:PrincipalAccount": "anonymous"}}), "closed"),
    (statement("Deny", Condition={"StringNotEquals": {"aws:PrincipalAccount": "400100200300"}}), "closed"),
    (statement("Deny", Condition={"StringEquals": {"aws:PrincipalType": "Anonymous"}}), "closed"),
    (statement("Deny", Condition={"StringNotEquals": {"aws:PrincipalType": "Anonymous"}}), "open"),
    (statement("Deny", Condition={"StringEquals": {"aws:userid": "anonymous"}}), "closed"),
    (statement("Deny", Condition={"Null": {"aws:PrincipalArn": "true"}}), "closed"),
    (statement("Deny", Condition={"Bool": {"aws:PrincipalIsAWSService": "false"}}), "open"),
    (statement("Deny", Condition={"Bool": {"aws:ViaAWSService": "false"}}), "restricted"),  # only through a service
    (statement("Deny", Condition={"Bool": {"aws:SecureTransport": "false"}}), "open"),
]


@pytest.mark.parametrize(("deny", "level"), CARRIED)
def test_what_a_request_without_credentials_carries(deny: dict[str, Any], level: str) -> None:
    assert verdict(statement(), deny).level == level
    request = request_of(RequestSpec(action="s3:GetObject", key="a"), AROUND.moment)
    assert decide(rules(statement(), deny), request).allowed is (level == "open")


@pytest.mark.parametrize("variable", ["aws:PrincipalAccount", "aws:userid"])
def test_a_variable_with_a_fixed_value_for_the_public_is_that_value(variable: str) -> None:
    allow = statement(Resource="arn:aws:s3:::quay/${" + variable + "}/*")
    found = verdict(allow)
    assert found.level == "open" and found.witness and found.witness.key.startswith("anonymous/")


PARTNER = "777777777777"
READER = f"arn:aws:iam::{PARTNER}:role/reader"
INSIDER = "400100200300"


def levels(*said: dict[str, Any], audience: Any = "anyone", **more: Any) -> dict[str, str]:
    found = exposures(msgspec.structs.replace(rules(*said), **more), AROUND)
    return {verb: verdict.level for (who, verb), verdict in found.items() if who == audience}


# --- conditions that name callers are permissions of whom they leave


@pytest.mark.parametrize(
    ("condition", "named"),
    [
        ({"StringEquals": {"aws:PrincipalAccount": PARTNER}}, PARTNER),
        (
            {"ArnLike": {"aws:PrincipalArn": f"arn:aws:iam::{PARTNER}:role/reader"}},
            f"arn:aws:iam::{PARTNER}:role/reader",
        ),
        ({"StringLike": {"aws:PrincipalAccount": "7777*"}}, PARTNER),
    ],
)
def test_whom_conditions_leave_has_a_permission(condition: dict[str, Any], named: str) -> None:
    found = rules(statement(Condition=condition))
    if "*" not in str(condition):
        assert [who.name for who in named_in(found)] == [named]
    assert reach_of(read_principal(named), found, AROUND, Budget(10**6))["read"].level == "open"
    view = alone("store", read(statement(Condition=condition)), AROUND.moment, None)
    assert view.fact(f"access.{named}").value == "read"


def test_an_insider_that_conditions_name_can_read_by_every_command() -> None:
    condition = {"ArnEquals": {"aws:PrincipalArn": f"arn:aws:iam::{INSIDER}:user/ann"}}
    ann = Identity(name="ann", resource=f"arn:aws:iam::{INSIDER}:user/ann", policies=Answer("known", []))
    bob = Identity(name="bob", resource=f"arn:aws:iam::{INSIDER}:user/bob", policies=Answer("known", []))
    store_subject = store_subjects([a_store(read(statement(Condition=condition)), ann, bob)], None, AROUND.moment)[0]
    assert [permitted.reach.keys() for permitted in store_subject.across.of(ann)] == [{"read"}]
    assert store_subject.across.of(bob) == []
    view = store_subject.buckets["quay"]
    assert [allowed(view, RequestSpec(who)) for who in ("ann", "bob")] == [True, False]


# --- the guard on public policies asks by the published test


GUARDED: list[tuple[dict[str, Any], str]] = [
    ({"Condition": {"IpAddress": {"aws:SourceIp": ["11.0.0.0/8", "12.0.0.0/8"]}}}, "open"),
    ({"Condition": {"IpAddress": {"aws:SourceIp": ["11.0.0.0/7"]}}}, "closed"),
    ({"Condition": {"StringEquals": {"s3:ExistingObjectTag/sort": "open"}}}, "closed"),
    ({"Condition": {"StringLike": {"aws:SourceVpce": "vpce-*"}}}, "closed"),
    ({"Condition": {"StringEquals": {"aws:SourceVpce": "vpce-1"}}}, "restricted"),
    ({"Condition": {"StringEqualsIfExists": {"aws:SourceVpce": "vpce-1"}}}, "unknown"),
    ({}, "closed"),
]


@pytest.mark.parametrize(("allow", "level"), GUARDED)
def test_the_guard_on_public_policies_asks_by_the_published_test(allow: dict[str, Any], level: str) -> None:
    assert levels(statement(**allow), restrict_policies=Guard(True))["read"] == level


def test_where_a_deny_may_matter_it_is_not_certain_whether_a_policy_is_public() -> None:
    office = statement("Deny", Condition={"NotIpAddress": {"aws:SourceIp": "198.51.100.0/24"}})
    assert levels(statement(), office, restrict_policies=Guard(True))["read"] == "unknown"
    secure = statement("Deny", Condition={"Bool": {"aws:SecureTransport": "false"}})
    assert levels(statement(), secure, restrict_policies=Guard(True))["read"] == "closed"


# --- actions, requester pays


def test_every_published_action_is_in_one_table_and_the_rest_is_unknown() -> None:
    versions = statement(Action="s3:GetObjectVersionTorrent")
    assert levels(versions)["read"] == "open"
    assert set(levels(statement(Action="s3:GetObjectSideways")).values()) == {"unknown"}
    assert set(levels(statement(Action=["s3:CreateJob", "kms:Decrypt"])).values()) == {"closed"}
    assert levels(statement(), statement("Deny", Action="s3:GetObjectSideways"))["read"] == "open"


@pytest.mark.parametrize(
    ("pays", "anyone", "signed"),
    [(Answer("known", True), "closed", "open"), (Answer("absent"), "open", "open"),
     (Answer("denied"), "unknown", "open")],
)  # fmt: skip
def test_where_the_requester_pays_nobody_gets_in_without_credentials(pays: Any, anyone: str, signed: str) -> None:
    found = alone("store", read(statement(), requester_pays=pays), AROUND.moment, None).verdicts
    assert (found["anyone", "read"].level, found["any-account", "read"].level) == (anyone, signed)


@pytest.mark.parametrize(("pays", "told"), [(Answer("known", True), True), (Answer("absent"), False)])
def test_a_gateway_that_nobody_recognized_may_not_ask_who_pays(pays: Any, told: bool) -> None:
    bucket = read(statement(Action=["s3:PutObject", "s3:DeleteObject"]), requester_pays=pays)
    store = msgspec.structs.replace(a_store(bucket), software=Answer("known", Software("a server")))
    others = {one.dialect: one for one in read_otherwise(BucketSubject(bucket, store, AROUND.moment))}
    assert list(others) == ["gateway-16"] * told
    for one in others.values():
        assert one.changes == {"anyone.write": ("closed", "open"), "anyone.delete": ("closed", "open")}
        assert "where the requester pays" in " ".join(one.because)


@pytest.mark.parametrize(
    ("software", "anyone"),
    [(Answer("known", Software("a gateway", dialect=GATEWAY_16)), "open"), (Answer("denied"), "unknown"),
     (Answer("known", Software("a server")), "closed")],
)  # fmt: skip
def test_whether_the_payer_is_asked_depends_on_what_answers(software: Any, anyone: str) -> None:
    bucket = read(statement(Action=["s3:PutObject", "s3:GetObject"]), requester_pays=Answer("known", True))
    store = msgspec.structs.replace(a_store(bucket), software=software, doors=Answer("absent"))
    verdicts = BucketSubject(bucket, store, AROUND.moment).verdicts
    assert (verdicts["anyone", "write"].level, verdicts["anyone", "read"].level) == (anyone, "closed")
    doubts = " ".join(verdicts["anyone", "write"].doubts)
    assert ("what answers for the store could not be read" in doubts) is (anyone == "unknown")


# --- private endpoints, accounts, what cannot occur together


@pytest.mark.parametrize(
    "condition",
    [
        {"IpAddress": {"aws:VpcSourceIp": "10.0.0.0/8"}},
        {"Null": {"aws:SourceIp": "true"}},
        {"StringLike": {"aws:SourceVpce": "vpce-*"}},
        {"Null": {"aws:SourceVpc": "false"}},
    ],
)
def test_everybody_has_private_endpoints_and_numbers_their_own_network(condition: dict[str, Any]) -> None:
    found = verdict(statement(Condition=condition))
    assert found.level == "open" and found.witness is not None and not found.witness.address


def test_all_addresses_denied_leaves_private_endpoints() -> None:
    everywhere = statement("Deny", Condition={"IpAddress": {"aws:SourceIp": ["0.0.0.0/0", "::/0"]}})
    assert verdict(statement(), everywhere).level == "open"


@pytest.mark.parametrize(
    ("pattern", "level"),
    [("9*", "open"), ("1*", "open"), ("12345*", "restricted"), ("tenant", "restricted"), (PARTNER, "restricted"),
     (INSIDER, "closed")],
)  # fmt: skip
def test_a_pattern_of_accounts_is_counted_not_sampled(pattern: str, level: str) -> None:
    for condition in (
        {"StringLike": {"aws:PrincipalAccount": pattern}},
        {"ArnLike": {"aws:PrincipalArn": f"arn:aws:iam::{pattern}:user/*"}},
    ):
        assert verdict(statement(Condition=condition), audience="any-account").level == level


IMPOSSIBLE: list[dict[str, Any]] = [
    {"IpAddress": {"aws:SourceIp": "8.8.8.8"}, "StringEquals": {"aws:SourceVpce": "vpce-1"}},
    {"StringEquals": {"aws:PrincipalAccount": PARTNER, "aws:PrincipalArn": "arn:aws:iam::909090909090:user/x"}},
    {"StringEquals": {"aws:username": "ann", "aws:PrincipalArn": "arn:aws:iam::909090909090:role/ann"}},
    {"StringEquals": {"aws:username": "ann", "aws:PrincipalType": "AssumedRole"}},
    {"ArnLike": {"aws:PrincipalArn": "arn:aws:sts::909090909090:assumed-role/*"}},
    {"StringEquals": {"s3:authType": "FOO"}},
    {"NumericGreaterThan": {"s3:TlsVersion": "1.3"}},
]


@pytest.mark.parametrize("condition", IMPOSSIBLE)
def test_what_cannot_occur_together_lets_nobody_in(condition: dict[str, Any]) -> None:
    assert verdict(statement(Condition=condition), audience="any-account").level == "closed"


def test_a_listing_has_whole_pages_and_an_upload_its_own_tags() -> None:
    half = statement(Action="s3:ListBucket", Resource="arn:aws:s3:::quay")
    for operator, value, level in (("NumericEquals", "10.5", "closed"), ("NumericLessThan", "0", "closed"),
                                   ("NumericGreaterThan", "10.5", "open")):  # fmt: skip
        found = verdict(half | {"Condition": {operator: {"s3:max-keys": value}}}, verb="list")
        assert found.level == level and "." not in (found.witness.request if found.witness else "")
    tagged = statement(Action="s3:PutObject", Condition={"StringEquals": {"s3:RequestObjectTag/team": "x"}})
    untagged = statement("Deny", Action="s3:PutObject",
                         Condition={"ForAnyValue:StringEquals": {"s3:RequestObjectTagKeys": "team"}})  # fmt: skip
    assert verdict(tagged, untagged, verb="write").level == "closed"


def test_tags_of_objects_are_told_apart_by_case() -> None:
    upper, lower = ({"StringEquals": {f"s3:ExistingObjectTag/{tag}": "x"}} for tag in ("Team", "team"))
    assert verdict(statement(Condition=upper), statement("Deny", Condition=lower)).level == "restricted"
    assert verdict(statement(Condition=upper), statement("Deny", Condition=upper)).level == "closed"


def test_the_witness_is_a_request_that_a_client_sends_itself() -> None:
    found = verdict(statement(NotAction="s3:Delete*", Action=None), verb="delete")
    assert found.witness is not None and found.witness.action == "s3:AbortMultipartUpload"


# --- principals


@pytest.mark.parametrize(
    ("spared", "caller", "allowed"),
    [
        ([f"arn:aws:iam::{PARTNER}:root"], f"arn:aws:iam::{PARTNER}:user/ann", False),
        ([f"arn:aws:iam::{PARTNER}:user/ann"], f"arn:aws:iam::{PARTNER}:user/ann", None),
        ([PARTNER, f"arn:aws:iam::{PARTNER}:user/ann"], f"arn:aws:iam::{PARTNER}:user/ann", True),
        ([PARTNER, f"arn:aws:iam::{PARTNER}:role/r"], f"arn:aws:sts::{PARTNER}:assumed-role/r/monday", False),
        ([PARTNER, f"arn:aws:iam::{PARTNER}:role/r", f"arn:aws:sts::{PARTNER}:assumed-role/r/monday"],
         f"arn:aws:sts::{PARTNER}:assumed-role/r/monday", True),
        ([PARTNER], PARTNER, True),
        ([f"arn:aws-cn:iam::{PARTNER}:root"], PARTNER, True),
    ],
)  # fmt: skip
def test_not_principal_spares_whom_it_names_in_full(spared: list[str], caller: str, allowed: bool | None) -> None:
    deny = {key: value for key, value in statement("Deny").items() if key != "Principal"}
    found = rules(statement(), deny | {"NotPrincipal": {"AWS": spared}})
    request = request_of(RequestSpec(caller), AROUND.moment)
    assert decide(found, request).allowed is allowed
    reached = reach_of(read_principal(caller), found, AROUND, Budget(10**6))["read"].level
    assert reached == {True: "open", False: "closed", None: "unknown"}[allowed]


@pytest.mark.parametrize("kind", ["AWS", "Service", "Federated"])
def test_a_wildcard_inside_a_name_never_takes_in_everybody_and_may_take_in_somebody(kind: str) -> None:
    found = rules(statement(Principal={kind: "arn:aws:iam::*:user/ann"}))
    verdicts = exposures(found, AROUND)
    assert (verdicts["anyone", "read"].level, verdicts["any-account", "read"].level) == ("closed", "unknown")


def test_a_store_without_accounts_names_its_identities_all_the_same() -> None:
    ann = "arn:aws:iam:::user/ann"
    found = rules(statement(Principal={"AWS": ann}))
    assert decide(found, request_of(RequestSpec(ann), AROUND.moment)).allowed is True
    assert decide(found, request_of(RequestSpec("arn:aws:iam:::user/bob"), AROUND.moment)).allowed is False


def test_binary_values_are_written_in_base64() -> None:
    referer = {"BinaryEquals": {"aws:Referer": base64.b64encode(b"quay").decode()}}
    assert decide(rules(statement(Condition=referer)),
                  request_of(RequestSpec(headers={"Referer": "quay"}), AROUND.moment)).allowed is True  # fmt: skip
    assert verdict(statement(Condition=referer)).level == "open"
    assert verdict(statement(Condition={"BinaryEquals": {"aws:Referer": "quay!"}})).level == "unknown"


def test_not_resource_with_a_variable_that_nobody_carries_is_not_understood() -> None:
    allow = {key: value for key, value in statement().items() if key != "Resource"}
    found = rules(allow | {"NotResource": "arn:aws:s3:::quay/${aws:username}/*"})
    assert exposures(found, AROUND)["anyone", "read"].level == "unknown"
    assert decide(found, request_of(RequestSpec(), AROUND.moment)).allowed is None


# --- known identities, why and try


def test_home_folders_are_decided() -> None:
    own = document_of({"Effect": "Allow", "Action": "s3:*", "Resource": "arn:aws:s3:::quay/${aws:username}/*"})
    other = document_of(
        {"Effect": "Allow", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::quay/${aws:PrincipalTag/Team}/*"}
    )
    ann = Identity(name="ann", resource=f"arn:aws:iam::{INSIDER}:user/ann", tags=Answer("known", {"team": "tides"}),
                 policies=Answer("known", [AttachedPolicy("home", own), AttachedPolicy("team", other)]))  # fmt: skip
    store_subject = store_subjects([a_store(read(), ann)], None, AROUND.moment)[0]
    [permitted] = store_subject.across.of(ann)
    assert {verb: one.level for verb, one in permitted.reach.items()}["write"] == "open"
    asked = {key: allowed(store_subject.buckets["quay"], RequestSpec("ann", key=key))
             for key in ("ann/x", "bob/x", "tides/x")}  # fmt: skip
    assert asked == {"ann/x": True, "bob/x": False, "tides/x": True}


def test_try_tells_what_named_ones_gain_and_what_may_be_hidden() -> None:
    open_read = statement()
    foreign = statement(
        Principal={"AWS": PARTNER}, Action="s3:*", Resource=["arn:aws:s3:::quay", "arn:aws:s3:::quay/*"]
    )
    dark = statement(Action="s3:PutObject", Condition={"StringEquals": {"new:key": "x"}})

    def tried(*said: dict[str, Any]) -> list[tuple[str, str, bool, bool]]:
        current = alone("store", read(open_read), AROUND.moment, None)
        found = try_result(current, beside(current, read(open_read, *said))).changes or ()
        return [(c.audience, c.verb, c.gained is not None, c.sure) for c in found]

    assert tried() == []
    assert (PARTNER, "change-settings", True, True) in tried(foreign)
    current = alone("store", read(open_read), AROUND.moment, None)
    gained = next(one for one in differences(current, beside(current, read(open_read, foreign))) if one.who == PARTNER)
    assert gained.change.gained is not None and gained.change.gained.caller == PARTNER
    assert ("anyone", "write", False, False) in tried(dark)


def test_why_names_a_guard_whose_publicness_is_not_certain() -> None:
    office = statement("Deny", Condition={"NotIpAddress": {"aws:SourceIp": "198.51.100.0/24"}})
    found = msgspec.structs.replace(rules(statement(), office), restrict_policies=Guard(True, source="the guard"))
    request = request_of(RequestSpec(address="198.51.100.7"), AROUND.moment)
    decision = decide(found, request, public=as_match(public_policy(found, AROUND, Budget(10**6))))
    assert decision.allowed is None and any("not certain" in step.why for step in decision.steps)


@pytest.mark.parametrize(
    ("asking", "message"),
    [
        (RequestSpec("arn:aws:iam::x"), "not the resource name of a caller"),
        (RequestSpec(carrying={"bogus": "1"}), "docs/access-tables.md lists them"),
        (RequestSpec(action="s3:Sideways"), "docs/access-tables.md lists them"),
        (RequestSpec(carrying={"aws:SourceVpce": "v", "aws:SourceIp": "8.8.8.8"}), "never both"),
    ],
)
def test_a_question_that_makes_no_sense_is_refused_with_what_to_do(asking: RequestSpec, message: str) -> None:
    with pytest.raises(BadInput) as refused:
        request_of(asking, AROUND.moment)
    assert message in str(refused.value)


# --- cost


def test_a_deny_of_two_hundred_referers_is_seen_through_at_once() -> None:
    referers = [f"*{number}.example*" for number in range(200)]
    found = verdict(statement(), statement("Deny", Condition={"StringLike": {"aws:Referer": referers}}))
    assert found.level == "open" and found.witness is not None and not found.witness.headers


def test_a_long_policy_of_mixed_statements_is_decided_whole() -> None:
    shared_by_admin_and_app = [
        statement("Deny" if number % 5 == 0 else "Allow", Action=["s3:GetObject", "s3:PutObject", "s3:ListBucket"],
                  Resource=["arn:aws:s3:::quay", f"arn:aws:s3:::quay/part-{number}/*"],
                  Condition={"IpAddress": {"aws:SourceIp": [f"198.51.{number}.0/24", f"203.0.{number}.0/24"]},
                             "StringLike": {"aws:Referer": f"https://{number}.example/*"},
                             "Bool": {"aws:SecureTransport": "true"}})
        for number in range(60)
    ]  # fmt: skip
    assert len(document_of(*shared_by_admin_and_app)) > 19_000
    assert "unknown" not in {v.level for v in exposures(rules(*shared_by_admin_and_app), AROUND).values()}


# --- objects' own access lists


GRANTED = ObjectAcls([ObjectGrant("anyone", "read", "pub/x")])
NONE = Answer("known", ObjectAcls())
ENFORCED = Answer("known", "bucket-owner-enforced")


@pytest.mark.parametrize(
    ("owner", "grant", "level"),
    [
        (INSIDER, Grant("anyone", "read"), "unknown"),
        (INSIDER, Grant("named", "full-control", INSIDER), "closed"),
        ("", Grant("named", "full-control", INSIDER), "closed"),
    ],
)
def test_an_acl_that_no_ownership_mode_would_stand_beside_is_in_doubt(owner: str, grant: Grant, level: str) -> None:
    """The published service refuses such an ACL: where one is shown, some other software shows it."""
    of = Answer("known", owner) if owner else Answer[str]("failed")
    bucket = msgspec.structs.replace(read(), acl=Answer("known", [grant]), ownership=ENFORCED, owner=of)
    verdict = alone("store", bucket, AROUND.moment, None).verdicts["anyone", "list"]
    assert verdict.level == level
    assert level == "closed" or "refuse both" in verdict.doubts[0]


@pytest.mark.parametrize(
    ("more", "level"),
    [
        ({}, "unknown"),
        ({"object_acls": NONE}, "closed"),
        ({"object_acls": Answer("known", ObjectAcls([], complete=False))}, "unknown"),
        ({"object_acls": Answer("known", GRANTED)}, "open"),
        ({"object_acls": Answer("denied")}, "unknown"),
        ({"ownership": ENFORCED}, "closed"),
        ({"public_access_guards": Answer("known", Guards(ignore_acls=True))}, "closed"),
        (
            {
                "public_access_guards": Answer("known", Guards(ignore_acls=True)),
                "object_acls": Answer("known", GRANTED),
            },
            "closed",
        ),
        ({"granted_by": Answer("known", "bucket")}, "closed"),
        ({"usage": Answer("known", Usage(0, 0)), "versions": Answer("known", Versions(0, 0, 0))}, "closed"),
    ],
)
def test_objects_that_may_have_access_lists_of_their_own_are_looked_at_or_unknown(more: Any, level: str) -> None:
    acl = Answer("known", [Grant("named", "full-control", INSIDER)])
    bucket = msgspec.structs.replace(read(), **({"acl": acl, "object_acls": Answer("failed")} | more))
    view = alone("store", bucket, AROUND.moment, None)
    found = view.verdicts["anyone", "read"]
    assert found.level == level, found.doubts
    assert view.fact("exposure.list").value == "closed"
    if level == "open":
        assert found.witness is not None and found.witness.key == "pub/x"
        asked = {key: allowed(view, RequestSpec(key=key)) for key in ("pub/x", "other")}
        assert asked == {"pub/x": True, "other": None}


def test_the_owner_may_declare_that_no_object_grants_anything() -> None:
    acl = Answer("known", [Grant("named", "full-control", INSIDER)])
    said = Attestation(
        "object-acls.public", "none", "one service uploads, and sets none", "2027-01-01", Place("estate.yaml")
    )
    store = StoreConfig(
        "store", Place("estate.yaml"), "s3", "https://store.example", Credential("default"), stated=(said,)
    )
    view = msgspec.structs.replace(
        alone("store", msgspec.structs.replace(read(), acl=acl), AROUND.moment, None), entry=store
    )
    assert view.verdicts["anyone", "read"].level == "closed"


@pytest.mark.parametrize(
    ("networks", "word"),
    [
        (["203.0.113.0/24", "2001:db8::/32"], "public-networks"),
        (["64.0.0.0/8"], "public-networks"),
        (["64.0.0.0/8", "72.0.0.0/8"], "everywhere"),
        (["0.0.0.0/0"], "everywhere"),
        (["0.0.0.0/1", "128.0.0.0/1"], "everywhere"),
        (["10.0.0.0/8", "::/0"], "everywhere"),
        (["10.0.0.0/8", "192.168.0.0/16"], "private-networks"),
        ([], "endpoints-only"),
    ],
)
def test_networks_that_take_in_the_internet_are_everywhere(networks: list[str], word: str) -> None:
    assert network_fact(Answer("known", Network("deny", networks, ["gate"]))).value == word


def test_a_decision_has_each_rules_word_once_and_says_what_of_it_does_not_fit() -> None:
    """At a gateway, which reads one statement as what it says of listings and of all other requests."""
    limited = statement(
        Action="s3:*", Resource=["arn:aws:s3:::quay", "arn:aws:s3:::quay/*"],
        Condition={"NumericLessThan": {"s3:max-keys": "10"}},
    )  # fmt: skip
    grants = [Grant("named", "full-control", "deck"), Grant("anyone", "read")]
    bucket = read(limited, acl=Answer("known", grants), owner=Answer("known", "keeper"))
    store = msgspec.structs.replace(
        a_store(bucket), software=Answer("known", Software("a gateway", dialect=GATEWAY_16))
    )
    view = store_subjects([store], None, AROUND.moment)[0].buckets["quay"]
    [decision] = decision_results(view, [RequestSpec(verb="write")], lambda _: AROUND.moment)
    said = {step.rule: (step.says, step.why) for step in decision.steps}
    assert len(said) == len(decision.steps)
    assert said["statement 1"] == ("does not match", "NumericLessThan s3:max-keys")
    assert said["ACL grant of full-control to deck"] == ("does not match", "who")
    assert said["ACL grant of read to anyone"] == ("does not match", "action")


@pytest.mark.parametrize("key", ["stored-tag/a", "parameter/username", "referer host", "several at once"])
def test_a_key_that_no_policy_can_name_is_not_understood_in_one(key: str) -> None:
    found = verdict(statement(Condition={"StringEquals": {key: "x"}}))
    assert found.level == "unknown"
    assert "is not known" in found.doubts[0]
