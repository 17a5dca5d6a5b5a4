"""The two deciders, held against each other on random policies and requests."""

from __future__ import annotations

import json
from fnmatch import fnmatchcase
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, Audience, context_key
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import user_named
from rusty_lantern.core.access.policy.values import read_date, read_number
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.guards import Guard
from rusty_lantern.core.access.solver.audience_view import AudienceView, public_policy
from rusty_lantern.core.access.solver.boxes import Box
from rusty_lantern.core.access.solver.conditions import TIME
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.sets.intervals import position
from rusty_lantern.core.model.acl import Grant, ObjectGrant, Right, first_of_each
from tests.conftest import whole_or
from tests.policies import AROUND, BUCKET, policies, requests

SLOW = settings(deadline=None, suppress_health_check=list(HealthCheck), max_examples=40)
MANY = settings(SLOW, max_examples=whole_or(200, 400))
acl = st.lists(
    st.builds(
        Grant,
        st.sampled_from(["anyone", "any-account", "log-delivery"]),
        st.sampled_from(["read", "write", "read-acp", "full-control"]),
    ),
    max_size=2,
)
rights = st.lists(
    st.builds(
        Right,
        st.sampled_from(["anyone", "any-account"]),
        st.lists(st.sampled_from(["list", "read", "write", "delete"]), min_size=1, max_size=2),
        st.sampled_from(["", "pub/", "a"]),
    ),
    max_size=2,
)


def holds(box: Box, request: Request) -> bool:
    """Whether a request lies in a box."""
    return all(_inside(dimension, limit, request) for dimension, limit in box.items())


def _inside(dimension: str, limit: Any, request: Request) -> bool:
    import ipaddress

    if dimension == "action":
        return request.action in limit
    if dimension == "key":
        return bool(limit.holds(request.key))
    values = request.context.get("aws:currenttime" if dimension == TIME else dimension, ())
    row = context_key(dimension) if dimension != TIME else None
    if row is not None and row.many:
        return bool(limit.holds(frozenset(values)))
    if not values:
        return bool(limit.absent)
    kind = "date" if row is None else row.kind
    value: Any = values[0]
    if kind == "address":
        value = position(ipaddress.ip_address(value))
    elif kind == "number":
        value = read_number(value)
    elif kind == "date":
        value = read_date(value)
    return bool(limit.values.holds(value))


@MANY
@given(st.data(), policies, acl, rights, st.sampled_from(AUDIENCES))
def test_a_request_is_in_the_allowed_region_if_and_only_if_decide_allows_it(
    data: st.DataObject, policy: str, granted: list[Grant], permitted: list[Right], audience: Audience
) -> None:
    rules = Rules(BUCKET, parse_policy(policy), tuple(granted), rights=tuple(permitted))
    view = AudienceView(rules, AROUND, audience, Budget(10**8))
    for _ in range(4):
        request = data.draw(requests(audience))
        verb = ACTIONS[request.action].verb
        pieces = [piece for group in view.reading.groups(verb) for piece in view.pieces(group, "least")]
        assert any(holds(piece, request) for piece in pieces) == (decide(rules, request).allowed is True)


@MANY
@given(st.data(), policies, acl)
def test_closed_survives_any_request_and_no_verdict_on_understood_rules_is_withdrawn(
    data: st.DataObject, policy: str, granted: list[Grant]
) -> None:
    rules = Rules(BUCKET, parse_policy(policy), tuple(granted))
    verdicts = exposures(rules, AROUND, budget=10**8)
    for verdict in verdicts.values():
        assert verdict.level != "unknown"  # everything drawn is understood; a withdrawn witness would show here
        assert (verdict.witness is not None) == (verdict.level != "closed")
        assert (verdict.restriction is not None) == (verdict.level == "restricted")
    for audience in AUDIENCES:
        for _ in range(5):
            request = data.draw(requests(audience))
            if verdicts[audience, ACTIONS[request.action].verb].level == "closed":
                assert decide(rules, request).allowed is False


@SLOW
@given(policies, acl)
def test_a_policy_that_could_not_be_read_never_makes_a_verdict_it_could_change(
    policy: str, granted: list[Grant]
) -> None:
    unread = exposures(Rules(BUCKET, acl=tuple(granted), doubts=(("policy", "denied"),)), AROUND)
    assert {verdict.level for verdict in unread.values()} == {"unknown"}
    whole = exposures(Rules(BUCKET, parse_policy(policy), tuple(granted)), AROUND, budget=10**8)
    doubted = exposures(Rules(BUCKET, parse_policy(policy), doubts=(("acl", "denied"),)), AROUND, budget=10**8)
    for who, verdict in doubted.items():
        if verdict.level not in ("unknown", whole[who].level):
            assert whole[who].level == "open"
            raise AssertionError(f"{who}: {verdict.level} without the grants, {whole[who].level} with them")


@SLOW
@given(policies)
def test_a_guard_on_public_policies_never_opens_anything(policy: str) -> None:
    order = ("closed", "restricted", "open")
    bare = exposures(Rules(BUCKET, parse_policy(policy)), AROUND, budget=10**8)
    guarded = Rules(BUCKET, parse_policy(policy), restrict_policies=Guard(True))
    shut = exposures(guarded, AROUND, budget=10**8)
    unsure = exposures(
        Rules(BUCKET, parse_policy(policy), restrict_policies=Guard(False, sure=False)), AROUND, budget=10**8
    )
    public = public_policy(guarded, AROUND, Budget(10**8))
    for who, verdict in shut.items():
        if verdict.level == "unknown":
            assert public.most and not public.least and bare[who].level != "closed"
            continue
        assert order.index(verdict.level) <= order.index(bare[who].level)
        assert verdict.level == ("closed" if public.most else bare[who].level)
        assert unsure[who].level in ("unknown", bare[who].level)


@settings(deadline=None, max_examples=300)
@given(st.one_of(st.text(max_size=60), st.binary(max_size=40).map(lambda b: b.decode("latin-1"))))
def test_the_parser_never_fails(text: str) -> None:
    assert parse_policy(text).unreadable is not None or text.lstrip().startswith("{")


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8) | st.sampled_from(["*", "Allow", "s3:*"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)
elements = st.sampled_from(
    ["Effect", "Principal", "NotPrincipal", "Action", "NotAction", "Resource", "Condition", "Sid", "Bogus"]
)


@SLOW
@given(st.lists(st.dictionaries(elements, json_values, max_size=6), max_size=3))
def test_misshapen_policies_give_verdicts_or_unknown_never_a_crash(found: list[dict[str, Any]]) -> None:
    from tests.policies import document

    verdicts = exposures(Rules(BUCKET, parse_policy(document(found))), AROUND)
    assert len(verdicts) == 14


def test_monstrous_policies_end_within_their_budget() -> None:
    allow = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject"}
    from tests.policies import document

    stars = document([{**allow, "Resource": f"arn:aws:s3:::{BUCKET}/" + "*a?" * 6000}])
    many = document([{**allow, "Resource": f"arn:aws:s3:::{BUCKET}/{i}*"} for i in range(10_000)])
    knot = document(
        [{**allow, "Resource": "*"}]
        + [
            {**allow, "Effect": "Deny", "Resource": f"*{i}*", "Condition": {"StringLike": {"aws:Referer": f"*{i}*"}}}
            for i in range(40)
        ]
    )
    deep = '{"Statement":' + "[" * 100_000
    assert exposures(Rules(BUCKET, parse_policy(stars)), AROUND)["anyone", "read"].level == "closed"  # no key so long
    for policy in (many, knot, deep):
        verdicts = exposures(Rules(BUCKET, parse_policy(policy)), AROUND)
        assert verdicts["anyone", "read"].level in ("open", "unknown")
        assert verdicts["anyone", "read"].level == "open" or verdicts["anyone", "read"].doubts


KEYS = ("a1", "a2", "b1", "pub/c")
on_keys = st.lists(st.sampled_from(KEYS), unique=True)


@MANY
@given(on_keys, on_keys, st.lists(st.sampled_from(["a*", "a1", "b*", "pub/*", "*"]), max_size=2))
def test_what_some_objects_grant_is_decided_for_all_of_them(
    to_anyone: list[str], to_tern: list[str], refused: list[str]
) -> None:
    """Only one object of each grant is told by its key, and a Deny may speak of that one alone."""
    told: dict[tuple[str, str, str], ObjectGrant] = {}
    for keys, to, who in ((to_anyone, "anyone", ""), (to_tern, "named", "tern")):
        for key in keys:
            first_of_each(told, ObjectGrant(to, "read", key, who, more=False))  # type: ignore[arg-type]
    resources = [f"arn:aws:s3:::{BUCKET}/{pattern}" for pattern in refused]
    deny = {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": resources}
    policy = parse_policy(json.dumps({"Version": "2012-10-17", "Statement": [deny] if refused else []}))
    public, named = ([grant for grant in told.values() if (grant.to == "named") is side] for side in (False, True))
    rules = Rules(
        BUCKET, policy, object_acls=tuple(public), named_object_acls=tuple(named),
        ids_are_names=True, of_one_identity=True,
    )  # fmt: skip
    left = [key for key in KEYS if not any(fnmatchcase(key, pattern) for pattern in refused)]
    for keys, level in (
        (to_anyone, exposures(rules, AROUND)["anyone", "read"].level),
        (to_tern, reach_of(user_named("tern"), rules, AROUND, Budget(10**7))["read"].level),
    ):
        passes = bool(set(left) & set(keys))
        assert level in (("open", "unknown") if passes else ("closed", "unknown"))
        assert level != "unknown" or (len(keys) > 1 and min(keys) not in left), (keys, left)
