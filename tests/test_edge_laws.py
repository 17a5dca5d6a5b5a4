"""Laws of the access decision at its edges: names, variables, moments, what can be sent, and agreement of commands."""

from __future__ import annotations

import json
from http.server import BaseHTTPRequestHandler
from io import BytesIO
from typing import Any
from urllib.parse import urlsplit

import msgspec
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import NOTHING_ALLOWS, decide
from rusty_lantern.core.access.evaluator.request import Caller, Request
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, Audience, always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.policy.request_constraints import impossible
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.solver.audience_view import AudienceView
from rusty_lantern.core.access.solver.boxes import meet
from rusty_lantern.core.access.solver.difference import Asker, difference
from rusty_lantern.core.access.solver.exposure import Verdict, exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.witness import request_from
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.proposed_bucket import alone, beside
from rusty_lantern.core.model.acl import Grant
from rusty_lantern.reports.results.decisions import decision_results
from rusty_lantern.reports.results.proposal import try_result
from tests.conftest import whole_or
from tests.policies import AROUND, BUCKET, STRANGER, policies, requests
from tests.test_edges import read

LAW = settings(deadline=None, suppress_health_check=list(HealthCheck), max_examples=whole_or(40, 80))
MANY = 10**8
names = st.text("abcz0123456789.-_:", min_size=3, max_size=12).filter(lambda name: name not in ("reedbed", "other"))


def levels(found: Any) -> dict[Any, str]:
    return {who: verdict.level for who, verdict in found.items()}


@LAW
@given(policies, names)
def test_a_bucket_and_its_documents_renamed_are_decided_alike(policy: str, name: str) -> None:
    renamed = policy.replace("reed*/pub*", f"{name}/pub*").replace(BUCKET, name)
    plain = policy.replace("reed*/pub*", f"{BUCKET}/pub*")
    here = exposures(Rules(BUCKET, parse_policy(plain)), AROUND, MANY)
    there = exposures(Rules(name, parse_policy(renamed)), AROUND, MANY)
    assert levels(here) == levels(there)
    for who, verdict in here.items():
        other = there[who].witness
        assert (verdict.witness is None) == (other is None)
        if verdict.witness is not None and other is not None:
            assert (verdict.witness.action, verdict.witness.key) == (other.action, other.key)


variables = st.sampled_from(
    ["${aws:username}", "${aws:PrincipalAccount}", "${s3:prefix}", "${s3:RequestObjectTag/team}", "${aws:userid}",
     "${aws:PrincipalTag/team, 'none'}", "${*}", "${aws:ResourceAccount}", "${aws:SourceVpc}"]
)  # fmt: skip


@LAW
@given(st.data(), policies, variables, st.sampled_from(AUDIENCES))
def test_what_hangs_on_a_variable_is_never_closed_to_whom_it_lets_in(
    data: st.DataObject, policy: str, variable: str, audience: Audience
) -> None:
    rules = Rules(
        BUCKET, parse_policy(policy.replace("/pub/", f"/{variable}/").replace("https://b.example/", variable))
    )
    found = exposures(rules, AROUND, MANY)
    for _ in range(6):
        request = data.draw(requests(audience))
        own = request.context.get("aws:username", ("anonymous",))[0]
        request = msgspec.structs.replace(
            request, key=data.draw(st.sampled_from([request.key, f"{own}/x", "none/x", "*/x"]))
        )
        level = found[audience, ACTIONS[request.action].verb].level
        allowed = decide(rules, request).allowed
        assert not (level == "closed" and allowed is True), (level, request)
        assert allowed is not None or level in ("unknown", "open", "restricted")


@LAW
@given(st.integers(-(10**30), 10**30), st.sampled_from(["NumericLessThan", "NumericGreaterThan", "NumericEquals"]),
       st.sampled_from(["aws:EpochTime", "s3:object-lock-remaining-retention-days", "s3:max-keys"]))  # fmt: skip
def test_moments_and_numbers_of_any_size_are_decided(number: int, operator: str, key: str) -> None:
    said = {
        "Effect": "Allow",
        "Principal": "*",
        "Action": "s3:*",
        "Resource": "*",
        "Condition": {operator: {key: str(number)}},
    }
    found = exposures(Rules(BUCKET, parse_policy(json.dumps({"Version": "2012-10-17", "Statement": said}))), AROUND)
    now = AROUND.moment.timestamp()
    if key == "aws:EpochTime":
        true_ever = {"NumericLessThan": number > now, "NumericGreaterThan": True, "NumericEquals": number >= now}[
            operator
        ]
        assert (found["anyone", "read"].level != "closed") == true_ever
    assert "unknown" not in {verdict.level for verdict in found.values()}


def as_http(verdict: Verdict) -> bytes:
    """The witness as the bytes that a client would send."""
    seen = verdict.witness
    assert seen is not None
    lines = [
        f"{seen.request} HTTP/1.1",
        "Host: store.example",
        *(f"{name}: {text}" for name, text in seen.headers.items()),
    ]
    return "\r\n".join([*lines, "", ""]).encode("latin-1")


class Parsed(BaseHTTPRequestHandler):
    """A server's own reading of a request."""

    def __init__(self, sent: bytes) -> None:
        self.rfile = BytesIO(sent)
        self.raw_requestline = self.rfile.readline()
        self.wrong: object = None
        self.whole = self.parse_request()

    def send_error(self, code: int, message: str | None = None, explain: str | None = None) -> None:
        self.wrong = code, message


@LAW
@given(policies)
def test_every_witness_is_a_request_that_a_client_can_send(policy: str) -> None:
    rules = Rules(BUCKET, parse_policy(policy))
    for (audience, verb), verdict in exposures(rules, AROUND, MANY).items():
        if verdict.witness is None:
            continue
        sent = Parsed(as_http(verdict))
        assert sent.whole and sent.wrong is None
        assert urlsplit(sent.path).path.startswith(f"/{BUCKET}")
        assert ACTIONS[verdict.witness.action].verb == verb
        view = AudienceView(rules, AROUND, audience, Budget(MANY))
        for group in view.reading.groups(verb):
            for piece in view.pieces(group, "least"):
                theirs = meet(piece, view.reading.within_reach(piece, group), view.work)
                for part in (piece, theirs):
                    if part is not None:
                        request = request_from(part, audience, AROUND)
                        assert not impossible(request.context), request
                        assert decide(rules, request).allowed is True


@LAW
@given(policies, policies)
def test_exposure_why_access_and_try_agree(policy: str, other: str) -> None:
    """Each command's word on one bucket is held against another's."""
    view = alone("store", msgspec.structs.replace(read(), name=BUCKET), AROUND.moment, None)
    here, there = (
        beside(view, msgspec.structs.replace(view.bucket, policy=Answer("known", text))) for text in (policy, other)
    )
    for (audience, verb), verdict in here.verdicts.items():
        if verdict.level == "closed":
            said = decision_results(here, [RequestSpec(audience, verb)], lambda _: AROUND.moment)[0].allowed
            assert said is False, (audience, verb)
    for one in try_result(here, there).changes or ():
        for witness, has in ((one.gained, there), (one.lost, here)):
            if witness is not None and one.audience in AUDIENCES:
                assert has.verdicts[one.audience, one.verb].level != "closed", one  # type: ignore[index]
    assert not [c for c in try_result(here, here).changes or () if c.gained or c.lost]


@LAW
@given(st.data(), policies)
def test_what_a_named_one_reaches_is_what_is_decided_of_its_requests(data: st.DataObject, policy: str) -> None:
    name = data.draw(
        st.sampled_from([f"arn:aws:iam::{STRANGER}:user/x", f"arn:aws:iam::{STRANGER}:role/admin", STRANGER])
    )
    who = read_principal(name)
    rules = Rules(BUCKET, parse_policy(policy))
    found = reach_of(who, rules, AROUND, Budget(MANY))
    for _ in range(6):
        request = data.draw(requests("any-account"))
        carried = {
            key: values for key, values in request.context.items() if key not in ("aws:username", "aws:principaltype")
        }
        own = {"aws:principalarn": (who.arn,), "aws:principalaccount": (STRANGER,)}
        asked = Request(request.action, request.key, Caller(STRANGER, who.arn),
                        {**carried, **always_carried(anonymous=False, arn=who.arn), **own})  # fmt: skip
        if decide(rules, asked).allowed is True:
            assert found[ACTIONS[asked.action].verb].level != "closed", asked


@LAW
@given(policies, policies)
def test_what_is_gained_is_allowed_after_and_not_before(before: str, after: str) -> None:
    old, new = (Rules(BUCKET, parse_policy(text)) for text in (before, after))
    for audience in AUDIENCES:
        for verb in VERBS:
            change = difference(old, new, AROUND, Asker(audience), verb, Budget(MANY))
            assert change.sure
            assert change.gained is None or exposures(new, AROUND, MANY)[audience, verb].level != "closed"
            assert change.lost is None or exposures(old, AROUND, MANY)[audience, verb].level != "closed"


def test_an_acl_that_names_an_id_may_name_whoever_is_asked_for_otherwise() -> None:
    """A resource name tells no id: whether the grant is to its account is not known, and *refused* would be a guess."""
    id_, stranger = "9f" * 32, f"arn:aws:iam::{STRANGER}:user/x"
    granted = Answer("known", [Grant("named", "read", id_)])
    bucket = msgspec.structs.replace(read(), name=BUCKET, policy=Answer("absent"), acl=granted)
    view = alone("store", bucket, AROUND.moment, None)
    asked = [RequestSpec(stranger, "list"), RequestSpec(stranger, "write"), RequestSpec(id_, "list"),
             RequestSpec("anyone", "list")]  # fmt: skip
    said = [(one.allowed, one.by) for one in decision_results(view, asked, lambda _: AROUND.moment)]
    grant = f"ACL grant of read to {id_}"
    assert said[0] == (None, f"{grant}, which may be the caller's account")
    assert said[1:] == [(False, NOTHING_ALLOWS), (True, grant), (False, NOTHING_ALLOWS)]
