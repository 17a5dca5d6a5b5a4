"""Whom a policy lets in without naming them as principals: by conditions, by what a Deny spares, by a group."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.evaluator.request_builder import RequestSpec
from rusty_lantern.core.access.solver.exposure import Verdict
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Group
from rusty_lantern.reports.results.decisions import decision_results
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.test_named_on_objects import ALL, bucket_with, told

PARTNER, OWN = "600700800900", "400100200300"
ROLES = f"arn:aws:iam::{PARTNER}:role/*"
WHERE = "arn:aws:s3:::gallery-web/*"
READ = ("read", "")


def said(effect: str, who: dict[str, Any] | None = None, **condition: Any) -> dict[str, Any]:
    whom = who or {"Principal": "*"}
    made = {"Effect": effect, **whom, "Action": "s3:GetObject", "Resource": WHERE}
    return made | ({"Condition": condition} if condition else {})


def view_of(*statements: dict[str, Any], trusted: frozenset[str] = frozenset(), **fields: Any) -> BucketSubject:
    view = bucket_with(ALL, json.dumps({"Version": "2012-10-17", "Statement": list(statements)}) if statements else "")
    of_dossier = {name: fields.pop(name) for name in ("groups",) if name in fields}
    bucket = msgspec.structs.replace(view.bucket, **fields)
    dossier = msgspec.structs.replace(view.dossier, buckets=[bucket], **of_dossier)
    (store,) = store_subjects([dossier], Estate("trust", (), trusted), saltmarsh.MOMENT)
    return store.buckets[bucket.name]


OURS = f"arn:aws:iam::{OWN}:role/species-*"
OF_BOTH = ("", "statement 2: whose names fit its patterns, and those of other statements, is not known")


def arn(operator: str, pattern: str) -> dict[str, Any]:
    return {operator: {"aws:PrincipalArn": f"arn:aws:iam::{PARTNER}:role/{pattern}"}}


def by_org(why: int) -> tuple[str, str]:
    return "", f"statement {why}: who meets its condition on aws:principalorgid is not known"


@pytest.mark.parametrize(("statements", "outside"), [
    ([said("Allow", StringEquals={"aws:PrincipalAccount": PARTNER})], READ),
    ([said("Allow", ArnLike={"aws:PrincipalArn": ROLES})], READ),
    ([said("Allow", ArnEquals={"aws:PrincipalArn": ROLES})], READ),
    ([said("Allow", ArnLike={"aws:PrincipalArn": f"arn:aws:iam::{PARTNER}:*"})], READ),
    ([said("Allow", ArnLike={"aws:PrincipalArn": f"arn:aws:iam::{OWN}:*"})], ("", "")),
    ([said("Allow", StringEquals={"aws:PrincipalArn": ROLES})],  # which no role has for a name
     ("", "statement 1: who meets its condition on aws:principalarn is not known")),
    ([said("Allow"), said("Deny", StringNotEquals={"aws:PrincipalAccount": PARTNER})], READ),
    ([said("Allow"), said("Deny", ArnNotLike={"aws:PrincipalArn": ROLES})], READ),
    ([said("Allow"), said("Deny", StringNotEquals={"aws:PrincipalAccount": OWN})], ("", "")),
    ([said("Allow"), said("Deny", {"NotPrincipal": {"AWS": f"arn:aws:iam::{PARTNER}:root"}})], READ),
    ([said("Allow", **arn("ArnLike", "*-app")), said("Deny", **arn("ArnNotLike", "x-*"))], OF_BOTH),
    ([said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide"})], by_org(1)),
    ([said("Allow"), said("Deny", StringNotEquals={"aws:PrincipalOrgID": "o-tide"})], by_org(2)),
    ([said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide", "aws:PrincipalAccount": OWN})], ("", "")),
    ([said("Allow", StringEquals={"aws:SourceVpce": "vpce-1"})], ("", "")),  # by where they come from
])  # fmt: skip
def test_whom_conditions_leave_is_outside(statements: list[dict[str, Any]], outside: tuple[str, str]) -> None:
    view = view_of(*statements)
    assert told(view.fact("access.outside")) == outside
    assert (PARTNER in told(view.fact("principals.read"))[0]) == (outside == READ)


def test_a_pattern_of_own_names_is_shown_as_those_whom_it_fits() -> None:
    names = told(view_of(said("Allow", ArnLike={"aws:PrincipalArn": OURS})).fact("principals.read"))[0].split(", ")
    assert "role species-lab" in names and OURS not in names


def test_an_organisation_that_the_team_trusts_is_inside() -> None:
    statement = said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide"})
    assert told(view_of(statement, trusted=frozenset({"o-tide"})).fact("access.outside")) == ("", "")
    assert told(view_of(statement, trusted=frozenset({"o-ebb"})).fact("access.outside")) == by_org(1)


STRANGER = "arn:aws:iam::909090909090:role/app"
STRANGERS = [RequestSpec(caller="anyone"), *(RequestSpec(caller=STRANGER, carrying=carrying) for carrying in (
    {}, {"aws:PrincipalOrgID": "o-tern"}, {"aws:PrincipalOrgID": "o-ebb", "aws:PrincipalOrgPaths": "o-ebb/r-1/ou-1/"},
))]  # fmt: skip
ORGANISED = [
    said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide"}),
    said("Allow", StringEquals={"aws:PrincipalOrgID": ["o-tide", "o-ebb"]}),
    said("Allow", StringLike={"aws:PrincipalOrgID": "o-t*"}),
    said("Allow", **{"ForAnyValue:StringLike": {"aws:PrincipalOrgPaths": "o-tide/*"}}),
    said("Allow", **{"ForAllValues:StringLike": {"aws:PrincipalOrgPaths": "o-tide/*"}}),
    said("Allow", StringEqualsIfExists={"aws:PrincipalOrgID": "o-tide"}),
    said("Allow"),
    said("Deny", StringNotEquals={"aws:PrincipalOrgID": "o-tide"}),
    said("Deny", **{"ForAllValues:StringNotLike": {"aws:PrincipalOrgPaths": "o-tide/*"}}),
    said("Deny", StringEquals={"aws:PrincipalOrgID": "o-ebb"}),
]


@pytest.mark.parametrize("number", range(len(ORGANISED)))
def test_access_for_a_trusted_organisation_is_not_the_publics(number: int) -> None:
    """Each statement, and each pair: the evaluator asks as a stranger of no organisation, and of another one."""
    for other in ORGANISED:
        statements = [ORGANISED[number], *([] if other is ORGANISED[number] else [other])]
        view = view_of(*statements, trusted=frozenset({"o-tide"}))
        passed = any(one.allowed for one in decision_results(view, STRANGERS, lambda _: saltmarsh.MOMENT))
        fact = view.fact("exposure.read")
        assert (fact.settled, fact.value != "closed") == (True, passed), (statements, fact)


def test_a_group_is_the_stores_own_where_the_store_lists_it() -> None:
    right = Right("group", ["read"], identity="lab")
    rights = Answer("known", [right])
    listed = Answer("known", [Group(name="lab", members=[], policies=Answer("known", []))])
    asked = {
        name: told(view_of(rights=rights, groups=groups).fact("access.outside"))
        for name, groups in (
            ("listed", listed),
            ("none", Answer("known", [])),
            ("denied", Answer("denied", None, "403")),
        )
    }
    why = "whether lab is one of the store's own is not known: "
    assert asked == {
        "listed": ("", ""), "none": ("", f"{why}the store lists no such group"),
        "denied": ("", f"{why}denied to this credential: 403"),
    }  # fmt: skip


BY_ACCOUNT = said("Allow", StringEquals={"aws:PrincipalAccount": PARTNER})
FROM_HERE = {"IpAddress": {"aws:SourceIp": "203.0.113.0/24"}}
LETTING_IN = [
    BY_ACCOUNT,
    said("Allow", StringEquals={"aws:PrincipalAccount": [PARTNER, OWN]}),
    said("Allow", StringEquals={"aws:PrincipalAccount": PARTNER}, **FROM_HERE),
    said("Allow", {"Principal": {"AWS": f"arn:aws:iam::{PARTNER}:root"}}),
    said("Allow", ArnLike={"aws:PrincipalArn": ROLES}),
    said("Allow", StringNotEquals={"aws:PrincipalAccount": OWN}),
    said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide"}),
    said("Allow", StringEquals={"aws:SourceVpce": "vpce-1"}),
    said("Allow", **FROM_HERE, StringEquals={"aws:PrincipalType": "User"}),
    said("Allow", StringLike={"aws:PrincipalAccount": "9*"}),
    said("Deny", StringNotEquals={"aws:PrincipalAccount": PARTNER}),
    said("Deny", ArnNotLike={"aws:PrincipalArn": ROLES}),
    said("Allow"),
]
SENDERS = [
    RequestSpec(caller=caller, carrying=carrying)
    for caller in ("arn:aws:iam::909090909090:user/ann", "arn:aws:iam::909090909090:role/app", "909090909090")
    for carrying in ({}, {"aws:PrincipalOrgID": "o-tide"}, {"aws:SourceVpce": "vpce-1"}, {"aws:PrincipalType": "User"})
]


@pytest.mark.parametrize("number", range(len(LETTING_IN)))
def test_any_account_is_among_those_who_can_just_where_somebody_is_whom_nothing_names(number: int) -> None:
    """Each statement, and each pair: the evaluator lets in a caller of an account that is named nowhere."""
    for other in LETTING_IN[number:]:
        statements = [LETTING_IN[number]] + ([] if other is LETTING_IN[number] else [other])
        view = view_of(*statements)
        decided = decision_results(view, SENDERS, lambda _: saltmarsh.MOMENT)
        strangers = any(one.allowed is not False for one in decided)
        names, why = told(view.fact("principals.read"))
        listed = bool({"any-account", "anyone"} & set(names.split(", ")))
        assert listed or why or not strangers, (statements, names)
        assert strangers or not listed, (statements, names)


def test_whom_a_condition_names_is_all_that_a_requirement_sees() -> None:
    own = told(view_of().fact("principals.read"))[0].split(", ")
    assert set(told(view_of(BY_ACCOUNT).fact("principals.read"))[0].split(", ")) == {*own, PARTNER}
    assert view_of(BY_ACCOUNT).fact("exposure.any-account.read").value == "restricted"


TRUSTED = "198.51.100.0/24"
FROM_TRUSTED = {"IpAddress": {"aws:SourceIp": "198.51.100.0/25"}}
WAYS = [
    said("Allow", **FROM_TRUSTED),
    said("Allow", **FROM_TRUSTED, StringEquals={"aws:PrincipalAccount": PARTNER}),
    said("Allow", **FROM_HERE),
    said("Allow", IpAddress={"aws:SourceIp": ["198.51.100.0/25", "203.0.113.0/24"]}),
    BY_ACCOUNT,
    said("Allow", StringEquals={"aws:SourceVpce": "vpce-1"}),
    said("Allow", DateGreaterThan={"aws:CurrentTime": "2030-01-01T00:00:00Z"}),
    said("Allow", StringEquals={"aws:PrincipalOrgID": "o-tide"}),
    said("Deny", NotIpAddress={"aws:SourceIp": TRUSTED}),
    said("Allow"),
    said("Allow", StringEquals={"s3:TideIsLow": "yes"}),  # nobody knows whether requests carry it
]
FROM_ELSEWHERE = [
    RequestSpec(caller=caller, carrying=carrying, at=at)
    for caller in ("anyone", f"arn:aws:iam::{PARTNER}:user/ann", "arn:aws:iam::909090909090:role/app")
    for carrying in ({}, {"aws:PrincipalOrgID": "o-tide"}, {"aws:SourceVpce": "vpce-1"})
    for at in ("", "2031-01-01T00:00:00Z")
    if caller != "anyone" or "aws:PrincipalOrgID" not in carrying
]


@pytest.mark.parametrize("number", range(len(WAYS)))
def test_nobody_gets_in_from_elsewhere_just_where_public_access_is_from_trusted_networks_alone(number: int) -> None:
    """Each statement, and each pair, both ways around: the evaluator asks from an address that nobody trusts."""
    for other in WAYS:
        view = view_of(WAYS[number], *([] if other is WAYS[number] else [other]))
        networks = Estate("trust", (), frozenset(), (TRUSTED,))
        (store,) = store_subjects([view.dossier], networks, saltmarsh.MOMENT)
        view = store.buckets[view.bucket.name]
        moment = {"": saltmarsh.MOMENT, "2031-01-01T00:00:00Z": datetime(2031, 1, 1, tzinfo=UTC)}
        decided = decision_results(view, FROM_ELSEWHERE, lambda spec: moment[spec.at])  # noqa: B023
        passed, perhaps = (any(one.allowed is answer for one in decided) for answer in (True, None))
        fact = view.fact("exposure.beyond-trusted")
        told_closed = fact.value == "closed"
        assert not (told_closed and (passed or perhaps)), (WAYS[number], other, fact)
        assert told_closed or passed or not fact.settled, (WAYS[number], other, fact)
        unsure = not view.fact("exposure.read").settled  # then it is so of what comes from elsewhere as well
        assert fact.settled or perhaps or unsure, (WAYS[number], other, fact)


@pytest.mark.parametrize(("condition", "words"), [
    ({"StringEquals": {"aws:PrincipalAccount": PARTNER}}, f'only for account "{PARTNER}"'),
    ({"StringEquals": {"aws:PrincipalAccount": [PARTNER, "800800800800"]}},
     f'only for account "{PARTNER}" or "800800800800"'),
    ({"StringEquals": {"aws:PrincipalAccount": [f"60070080090{n}" for n in range(6)]}},
     f'only for account "{PARTNER}" and others'),
    ({"StringEquals": {"aws:SourceVpce": ["vpce-1", "vpce-2"]}},
     'only through the private endpoint "vpce-1" or "vpce-2"'),
    ({"StringEquals": {"aws:PrincipalOrgID": [f"o-{n}" for n in range(1, 6)]}},
     'only for members of the organisation "o-1" and others'),
    (arn("ArnLike", "app"), f'only for the identity "arn:aws:iam::{PARTNER}:role/app"'),
    (arn("ArnLike", "*"), f'only for the identity "arn:aws:iam::{PARTNER}:role/a" and others'),
])  # fmt: skip
def test_what_restricts_access_is_named_whole_or_said_to_be_one_of_several(
    condition: dict[str, Any], words: str
) -> None:
    fact = view_of(said("Allow", **condition)).fact("exposure.read")
    assert (fact.value, fact.note) == ("restricted", f"statement 1, {words}")


def test_every_way_in_is_named_or_counted() -> None:
    ways = [
        {"StringEquals": {"aws:SourceVpce": "vpce-1"}}, {"StringEquals": {"aws:PrincipalAccount": PARTNER}},
        {"StringEquals": {"aws:PrincipalOrgID": "o-tide"}},
        {"DateGreaterThan": {"aws:CurrentTime": "2030-01-01T00:00:00Z"}},
    ]  # fmt: skip
    words = [
        view_of(*(said("Allow", **way) for way in ways[:n])).fact("exposure.any-account.read").note for n in (2, 4)
    ]
    assert words[0].endswith(f'only through the private endpoint "vpce-1"; or only for account "{PARTNER}"')
    assert words[1].endswith(f'; or only for account "{PARTNER}"; or in 2 other ways')


def before(year: int) -> dict[str, Any]:
    return {"DateLessThan": {"aws:CurrentTime": f"{year}-01-01T00:00:00Z"}}


ENDING = [
    said("Allow", **before(2027)), said("Allow", **before(2028)), said("Allow", **FROM_HERE), said("Allow"),
    said("Allow", **FROM_HERE, **before(2029)), BY_ACCOUNT,
    said("Deny", DateGreaterThanEquals={"aws:CurrentTime": "2030-01-01T00:00:00Z"}),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(ENDING)))
def test_access_closes_by_itself_when_the_last_way_in_does(number: int) -> None:
    """Each statement and each pair, both ways around: decided anew at that moment, and a second before it."""
    order = ("closed", "restricted", "open")
    for other in ENDING:
        view = view_of(ENDING[number], *([] if other is ENDING[number] else [other]))

        def at(moment: datetime, dossier: Dossier = view.dossier, name: str = view.name) -> Verdict:
            (store,) = store_subjects([dossier], Estate("trust", ()), moment)
            return store.buckets[name].verdicts["any-account", "read"]

        verdict = at(saltmarsh.MOMENT)
        later = [order.index(at(datetime(year, 1, 1, tzinfo=UTC)).level) for year in (2027, 2028, 2029, 2030)]
        closes = next((n for n, level in enumerate(later) if level < order.index(verdict.level)), None)
        assert verdict.until == (None if closes is None else datetime(2027 + closes, 1, 1, tzinfo=UTC)), (number, other)
        if verdict.until is not None:
            assert at(verdict.until - timedelta(seconds=1)).level == verdict.level
