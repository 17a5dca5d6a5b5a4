"""Known pitfalls of access rules, each with its derivation in a line, and what is not understood."""

from __future__ import annotations

from typing import Any

import pytest

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec, request_of
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.guards import Guard
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.model.acl import Grant, Right
from tests.policies import AROUND, BUCKET, OWNER, document

GET, PUT, LIST = "s3:GetObject", "s3:PutObject", "s3:ListBucket"


def allow(action: Any = GET, condition: dict[str, Any] | None = None, **other: Any) -> dict[str, Any]:
    made = {"Effect": "Allow", "Principal": "*", "Action": action, "Resource": f"arn:aws:s3:::{BUCKET}/*", **other}
    return made | ({"Condition": condition} if condition else {})


def deny(condition: dict[str, Any] | None = None, **other: Any) -> dict[str, Any]:
    return allow("s3:*", condition, Effect="Deny", Resource=other.pop("Resource", "*"), **other)


def levels(*statements: dict[str, Any], **rules: Any) -> dict[str, str]:
    verdicts = exposures(Rules(BUCKET, parse_policy(document(list(statements))), **rules), AROUND)
    return {f"{audience}.{verb}": verdict.level for (audience, verb), verdict in verdicts.items()}


OFFICE = "198.51.100.0/24"
PITFALLS: dict[str, tuple[list[dict[str, Any]], str, str]] = {
    # what: statements, "anyone reads", "any account reads"
    "no condition": ([allow()], "open", "open"),
    "both halves of the Internet are all of it": (
        [allow(condition={"IpAddress": {"aws:SourceIp": ["0.0.0.0/1", "128.0.0.0/1"]}})],
        "open",
        "open",
    ),
    "both halves in two statements": (
        [allow(condition={"IpAddress": {"aws:SourceIp": half}}) for half in ("0.0.0.0/1", "128.0.0.0/1")],
        "open",
        "open",
    ),
    "256 blocks of a /8 each fence nothing together": (
        [allow(condition={"IpAddress": {"aws:SourceIp": [f"{n}.0.0.0/8" for n in range(256)]}})],
        "open",
        "open",
    ),
    "an office network": ([allow(condition={"IpAddress": {"aws:SourceIp": OFFICE}})], "restricted", "restricted"),
    "a private network is not reachable from the Internet": (
        [allow(condition={"IpAddress": {"aws:SourceIp": "10.0.0.0/8"}})],
        "restricted",
        "restricted",
    ),
    "'not from there' lets in everywhere else": (
        [allow(condition={"NotIpAddress": {"aws:SourceIp": OFFICE}})],
        "open",
        "open",
    ),
    "all IPv6, no IPv4": ([allow(condition={"IpAddress": {"aws:SourceIp": "::/0"}})], "open", "open"),
    "a referer is whatever the sender writes": (
        [allow(condition={"StringLike": {"aws:Referer": "https://ours.example/*"}})],
        "open",
        "open",
    ),
    "a negated operator is true of an absent key": (
        [allow(condition={"StringNotEquals": {"aws:SourceVpce": "vpce-1"}})],
        "open",
        "open",
    ),
    "IfExists is true of an absent key": (
        [allow(condition={"StringEqualsIfExists": {"aws:SourceVpce": "vpce-1"}})],
        "open",
        "open",
    ),
    "ForAllValues is true of nothing": (
        [allow(condition={"ForAllValues:StringEquals": {"aws:SourceVpce": "vpce-1"}})],
        "open",
        "open",
    ),
    "a named private endpoint": (
        [allow(condition={"StringEquals": {"aws:SourceVpce": "vpce-1"}})],
        "restricted",
        "restricted",
    ),
    "any private endpoint is theirs too": (
        [allow(condition={"StringLike": {"aws:SourceVpce": "vpce-*"}})],
        "open",
        "open",
    ),
    "an organisation": ([allow(condition={"StringEquals": {"aws:PrincipalOrgID": "o-ours"}})], "closed", "restricted"),
    "any organisation at all": ([allow(condition={"StringLike": {"aws:PrincipalOrgID": "o-*"}})], "closed", "open"),
    "not our organisation, absent included": (
        [allow(condition={"StringNotEquals": {"aws:PrincipalOrgID": "o-ours"}})],
        "open",
        "open",
    ),
    "everyone tags their own identities": (
        [allow(condition={"StringEquals": {"aws:PrincipalTag/team": "ours"}})],
        "closed",
        "open",
    ),
    "a role of that name exists in every account that wants one": (
        [allow(condition={"ArnLike": {"aws:PrincipalArn": "arn:aws:iam::*:role/admin"}})],
        "closed",
        "open",
    ),
    "our own account only": (
        [allow(condition={"StringEquals": {"aws:PrincipalAccount": OWNER}})],
        "closed",
        "closed",
    ),
    "their second factor is as good as ours": (
        [allow(condition={"Bool": {"aws:MultiFactorAuthPresent": "true"}})],
        "closed",
        "open",
    ),
    "an Allow to everyone but": ([allow(Principal=None) | {"NotPrincipal": {"AWS": OWNER}}], "open", "open"),
    "a Deny with an exception that holds": (
        [allow(), deny({"NotIpAddress": {"aws:SourceIp": OFFICE}})],
        "restricted",
        "restricted",
    ),
    "a Deny of two conditions denies only where both hold": (
        [allow(), deny({"NotIpAddress": {"aws:SourceIp": OFFICE}, "StringNotEquals": {"aws:UserAgent": "x"}})],
        "open",
        "open",
    ),
    "a Deny for plain http still allows https": (
        [allow(), deny({"Bool": {"aws:SecureTransport": "false"}})],
        "open",
        "open",
    ),
    "a Deny of the folder leaves the rest": (
        [allow(), deny(Resource=f"arn:aws:s3:::{BUCKET}/private/*")],
        "open",
        "open",
    ),
    "a Deny that covers what is allowed": (
        [allow(Resource=f"arn:aws:s3:::{BUCKET}/pub/*"), deny(Resource="arn:aws:s3:::reed*")],
        "closed",
        "closed",
    ),
    "two Denies that together cover all texts": (
        [
            allow(),
            deny({"StringLike": {"aws:Referer": "a*"}}),
            deny({"StringNotLike": {"aws:Referer": "a*"}}),
        ],
        "closed",
        "closed",
    ),
    "another bucket": ([allow(Resource="arn:aws:s3:::reedbe/*")], "closed", "closed"),
    "a glob over bucket names": ([allow(Resource="arn:aws:s3:::*/*.csv")], "open", "open"),
    "ended in the past": (
        [allow(condition={"DateLessThan": {"aws:CurrentTime": "2026-11-02T06:00:00Z"}})],
        "closed",
        "closed",
    ),
    "opens in the future": (
        [allow(condition={"DateGreaterThan": {"aws:EpochTime": "1900000000"}})],
        "restricted",
        "restricted",
    ),
    "only objects with a tag": (
        [allow(condition={"StringEquals": {"s3:ExistingObjectTag/sort": "open"}})],
        "restricted",
        "restricted",
    ),
    "a key that reading never carries": (
        [allow(condition={"StringEquals": {"s3:x-amz-acl": "private"}})],
        "closed",
        "closed",
    ),
    "Null asks for absence": ([allow(condition={"Null": {"aws:SourceVpce": "true"}})], "open", "open"),
    "a name variable means nothing without a name": (
        [allow(Resource=f"arn:aws:s3:::{BUCKET}/${{aws:username}}/*")],
        "closed",
        "unknown",
    ),
    "a star as itself": ([allow(condition={"StringLike": {"aws:SourceVpce": "${*}"}})], "restricted", "restricted"),
}


@pytest.mark.parametrize("what", PITFALLS)
def test_pitfall(what: str) -> None:
    statements, anyone, any_account = PITFALLS[what]
    cleaned = [{k: v for k, v in statement.items() if v is not None} for statement in statements]
    found = levels(*cleaned)
    assert (found["anyone.read"], found["any-account.read"]) == (anyone, any_account)


def test_two_doors_are_two_verdicts() -> None:
    found = levels(allow(LIST, Resource=f"arn:aws:s3:::{BUCKET}"))
    assert (found["anyone.list"], found["anyone.read"]) == ("open", "closed")
    found = levels(acl=(Grant("anyone", "read"),))
    assert (found["anyone.list"], found["anyone.read"]) == ("open", "closed")


def test_a_write_grant_to_every_account_deletes_too_and_needs_an_account() -> None:
    found = levels(acl=(Grant("any-account", "write"),))
    assert (found["any-account.write"], found["any-account.delete"], found["anyone.write"]) == (
        "open",
        "open",
        "closed",
    )


def test_a_guard_that_ignores_grants_leaves_the_policy_and_a_deny_beats_a_grant() -> None:
    found = levels(allow(), acl=(Grant("anyone", "read"),), ignore_acls=Guard(True))
    assert (found["anyone.read"], found["anyone.list"]) == ("open", "closed")
    found = levels(deny(), acl=(Grant("anyone", "full-control"),))
    assert set(found.values()) == {"closed"}


def test_permissions_of_a_store_without_policies_become_the_same_rules() -> None:
    anonymous = Right("anyone", ["read"], "pub/")
    any_user = Right("any-account", ["list", "write", "delete"])
    found = levels(rights=(anonymous, any_user))
    assert {who for who, level in found.items() if level == "open"} == {
        "anyone.read", "any-account.read", "any-account.list", "any-account.write", "any-account.delete",
    }  # fmt: skip
    shut = levels(rights=(anonymous, any_user), ignore_acls=Guard(True))
    assert set(shut.values()) == {"closed"}
    verdict = exposures(Rules(BUCKET, rights=(anonymous,)), AROUND)["anyone", "read"]
    assert verdict.witness is not None
    assert verdict.witness.key == "pub/"


def test_an_open_door_that_closes_by_itself_says_when() -> None:
    statement = allow(condition={"DateLessThan": {"aws:CurrentTime": "2027-01-01T00:00:00Z"}})
    verdict = exposures(Rules(BUCKET, parse_policy(document([statement]))), AROUND)["anyone", "read"]
    assert (verdict.level, str(verdict.until)) == ("open", "2027-01-01 00:00:00+00:00")


def test_a_grant_by_name_stands_where_only_public_ones_are_ignored() -> None:
    named = Grant("named", "write", "500600700800")
    public_ignored = Rules(BUCKET, acl=(named,), ignore_acls=Guard(True))
    all_disabled = Rules(BUCKET, acl=(named,), disable_grants=Guard(True))
    for rules, allowed in ((public_ignored, True), (all_disabled, False)):
        request = request_of(RequestSpec("500600700800", "write"), AROUND.moment)
        assert decide(rules, request).allowed is allowed
        reached = reach_of(read_principal("500600700800"), rules, AROUND, Budget(10**6))
        assert reached["write"].level == ("open" if allowed else "closed")


def test_a_guard_on_public_policies_leaves_a_fenced_one_alone() -> None:
    office = allow(condition={"IpAddress": {"aws:SourceIp": OFFICE}})
    assert levels(office, restrict_policies=Guard(True))["anyone.read"] == "restricted"
    assert levels(office, allow(PUT), restrict_policies=Guard(True))["anyone.read"] == "closed"


NOT_UNDERSTOOD: dict[str, tuple[list[dict[str, Any]], set[str]]] = {
    # what: statements, the verdicts for anyone that it makes unknown — and no others
    "an unknown operator in an Allow": ([allow(condition={"Sounds": {"aws:Referer": "x"}})], {"read"}),
    "an unknown key in a Deny of what is allowed": ([allow(), deny({"StringEquals": {"new:key": "x"}})], {"read"}),
    "an unknown key in a Deny of what nothing allows": (
        [allow(), deny({"StringEquals": {"new:key": "x"}}, Action=PUT)],
        set(),
    ),
    "an unknown key beside an open door": ([allow(), allow(condition={"StringEquals": {"new:key": "x"}})], set()),
    "a lower-case effect": ([allow(Effect="allow")], {"read"}),
    "an unknown element": ([allow(Actions=GET)], {"read"}),
    "an address condition on a text": ([allow(condition={"IpAddress": {"aws:Referer": OFFICE}})], {"read"}),
    "a network that is none": ([allow(condition={"IpAddress": {"aws:SourceIp": "198.51.100.0/99"}})], {"read"}),
    "a list key without a quantifier": (
        [allow(PUT, condition={"StringEquals": {"s3:RequestObjectTagKeys": "a"}})],
        {"write"},
    ),
    "a wildcard inside a principal, which never takes in everybody": (
        [allow(Principal={"AWS": "arn:aws:iam::*:root"})],
        set(),
    ),
    "an action that nobody published": (
        [allow(["s3:GetObject", "s3:GetObjectSideways"])],
        {"list", "write", "delete", "change-settings", "bypass-retention", "read-settings"},
    ),
    "Action and NotAction at once": (
        [allow(NotAction=PUT)],
        {"read", "write", "delete", "change-settings", "bypass-retention", "read-settings"},
    ),
}


@pytest.mark.parametrize("what", NOT_UNDERSTOOD)
def test_what_is_not_understood_makes_unknown_exactly_what_it_could_change(what: str) -> None:
    statements, unknown = NOT_UNDERSTOOD[what]
    verdicts = exposures(Rules(BUCKET, parse_policy(document(statements))), AROUND)
    found = {
        verb for (audience, verb), verdict in verdicts.items() if audience == "anyone" and verdict.level == "unknown"
    }
    assert found == unknown
    assert all(verdicts["anyone", verb].doubts for verb in unknown)  # type: ignore[index]


@pytest.mark.parametrize(
    "text,place,what",
    [
        ('{"Statement": [{"Effect": "Allow", "Effect": "Deny"}]}', "/Statement/0/Effect", "appears twice"),
        (
            '{"Statement": [{"Effect": "Allow", "Pincipal": "*"}]}',
            "/Statement/0/Pincipal",
            'did you mean "Principal"?',
        ),
        ('{"Statement": [], "Statement": []}', "/Statement", "appears twice"),
        ('{"Version": "2020-01-01", "Statement": []}', "/Version", "unknown language version"),
        ('{"Statement": ', "", "not JSON"),
        ("[]", "", "a JSON object"),
    ],
)
def test_a_fault_names_its_place_in_the_document(text: str, place: str, what: str) -> None:
    faults = parse_policy(text).faults
    assert any(fault.place == place and what in fault.what for fault in faults), faults


def test_a_fence_is_named_with_its_size() -> None:
    rules = Rules(
        BUCKET, parse_policy(document([allow(condition={"IpAddress": {"aws:SourceIp": [OFFICE, "203.0.113.4"]}})]))
    )
    restriction = exposures(rules, AROUND)["anyone", "read"].restriction
    assert restriction is not None
    assert (restriction.addresses, restriction.networks) == (257, (OFFICE, "203.0.113.4/32"))
    assert restriction.words == f"only from {OFFICE}, 203.0.113.4/32 (257 addresses)"
