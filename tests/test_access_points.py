"""Access points of buckets: read at the account door of a mock server that the standard client set up, and decided."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any, ClassVar, NamedTuple
from urllib.error import HTTPError
from urllib.request import Request as Asked
from urllib.request import urlopen

import boto3
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.condition_keys import POINT_ACCOUNT, POINT_ARN, POINT_ORIGIN
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.rules.identity_policies import combined_rules, policies_of
from rusty_lantern.core.access.solver.exposure import Exposures, exposures
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Credential, DoorEntry, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier, Software
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.s3 import account_door
from tests import raw_store
from tests.conftest import lantern
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import workspace_for

OWN, OTHER = "123456789012", "777777777777"
NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)
NONE: Answer[Any] = Answer("absent")
BUCKET = ["arn:aws:s3:::maps", "arn:aws:s3:::maps/*"]
UNREAD: Answer[Any] = Answer("denied", None, "AccessDenied")


def document(*statements: dict[str, Any]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": list(statements)})


def allow(resources: list[str], who: Any = "*", action: str = "s3:GetObject", **condition: Any) -> dict[str, Any]:
    said = {"Effect": "Allow", "Principal": who, "Action": action, "Resource": resources}
    return said | ({"Condition": condition} if condition else {})


def deny(**condition: Any) -> dict[str, Any]:
    return {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": BUCKET, "Condition": condition}


def arn(name: str, account: str = OWN) -> str:
    return f"arn:aws:s3:north:{account}:accesspoint/{name}"


def point(name: str, *statements: dict[str, Any], vpc: str = "", guards: Answer[Guards] | None = None) -> AccessPoint:
    policy: Answer[str] = Answer("known", document(*statements)) if statements else NONE
    shown = guards or Answer("known", Guards())
    return AccessPoint(name, arn(name), "vpc" if vpc else "internet", vpc, policy, shown)


def on(name: str, **more: Any) -> dict[str, Any]:
    return allow([f"{arn(name)}/object/*"], **more)


def store_of(policy: str, points: Answer[Any], guards: Answer[Guards] = NONE) -> tuple[Bucket, Dossier]:
    nothing: Answer[Any] = Answer("unsupported")
    bucket = Bucket(
        name="maps", policy=Answer("known", policy), acl=NONE, object_acls=NONE, rights=nothing, container_acl=nothing,
        ownership=Answer("known", "bucket-owner-enforced"), public_access_guards=NONE, network=nothing,
        requester_pays=NONE, access_points=points,
    )  # fmt: skip
    return bucket, Dossier(
        store="s", taken=NOW, account=Answer("known", OWN), account_number=OWN, public_access_guards=guards,
        doors=Answer("known", []), software=Answer("known", Software("")), account_acl=nothing, network=nothing,
        buckets=[bucket],
    )  # fmt: skip


def verdicts(policy: str, points: Answer[Any], guards: Answer[Guards] = NONE) -> Exposures:
    return exposures(rules_of(*store_of(policy, points, guards)), EvaluationContext(NOW, account=OWN))


def level(policy: str, points: Answer[Any], guards: Answer[Guards] = NONE, verb: Any = "read") -> str:
    return verdicts(policy, points, guards)["anyone", verb].level


HANDED_OVER = document(allow(BUCKET, action="*", StringEquals={"s3:DataAccessPointAccount": OWN}))
"""The bucket leaves it to its access points whom to let in."""
POINTS_ALONE = document(allow(BUCKET), deny(StringNotEquals={"s3:DataAccessPointAccount": OWN}))
"""Everybody, and through the account's access points alone."""
SHUT: Answer[Guards] = Answer("known", Guards(restrict_policies=True))
UNKNOWN_GUARDS: Answer[Guards] = Answer("denied", None, "AccessDenied")


@pytest.mark.parametrize("policy", [HANDED_OVER, POINTS_ALONE])
@pytest.mark.parametrize(
    ("points", "guards", "expected"),
    [
        (NONE, NONE, "closed"),
        (Answer("known", [point("pier", on("pier"))]), NONE, "open"),
        (Answer("known", [point("pier")]), NONE, "closed"),
        (Answer("known", [point("pier", on("pier", who={"AWS": OTHER}))]), NONE, "closed"),
        (Answer("known", [point("pier", on("pier", action="s3:PutObject"))]), NONE, "closed"),
        (Answer("known", [point("pier", on("quay"))]), NONE, "closed"),
        (Answer("known", [point("pier", on("pier"), vpc="vpc-1")]), NONE, "restricted"),
        (Answer("known", [point("pier", on("pier"), guards=SHUT)]), NONE, "closed"),
        (Answer("known", [point("pier", on("pier"))]), SHUT, "closed"),
        (Answer("known", [point("pier", on("pier"), guards=UNKNOWN_GUARDS)]), NONE, "unknown"),
        (Answer("known", [point("pier", on("pier"))]), UNKNOWN_GUARDS, "unknown"),
        (Answer("known", [AccessPoint("pier", arn("pier"), "internet", "", UNREAD, NONE)]), NONE, "unknown"),
        (Answer("known", [AccessPoint("pier", arn("pier"), "", "", Answer("known", document(on("pier"))), NONE)]),
         NONE, "unknown"),
        (Answer("known", [point("pier", on("pier"), {**on("pier"), "Effect": "Deny"})]), NONE, "closed"),
        (Answer("known", [point("pier", on("pier")), point("quay", {**on("quay"), "Effect": "Deny"})]), NONE, "open"),
        (UNREAD, NONE, "unknown"),
        (Answer("unsupported"), NONE, "unknown"),
    ],
)  # fmt: skip
def test_what_a_point_lets_in_is_what_it_and_the_bucket_allow(
    policy: str, points: Answer[Any], guards: Answer[Guards], expected: str
) -> None:
    assert level(policy, points, guards) == expected


@pytest.mark.parametrize("policy", [HANDED_OVER, POINTS_ALONE])
def test_a_point_opens_the_keys_that_it_names_and_no_others(policy: str) -> None:
    only = point("pier", allow([f"{arn('pier')}/object/pub/*"]), allow([arn("pier")], action="s3:ListBucket"))
    found = verdicts(policy, Answer("known", [only]))
    witness = found["anyone", "read"].witness
    assert witness is not None
    assert witness.key.startswith("pub/")
    assert witness.circumstances["through the access point"] == arn("pier")
    assert found["anyone", "list"].level == ("open" if policy == HANDED_OVER else "closed")


@pytest.mark.parametrize(
    ("condition", "expected"),
    [
        ({"StringEquals": {"s3:DataAccessPointAccount": OTHER}}, "unknown"),
        ({"StringEquals": {"s3:DataAccessPointAccount": [OWN, OTHER]}}, "unknown"),
        ({"ArnLike": {"s3:DataAccessPointArn": f"arn:aws:s3:*:{OWN}:accesspoint/*"}}, "closed"),
        ({"ArnLike": {"s3:DataAccessPointArn": f"arn:aws:s3:*:{OTHER}:accesspoint/*"}}, "unknown"),
        ({"StringEquals": {"s3:AccessPointNetworkOrigin": "Internet"}}, "unknown"),
        ({"StringEquals": {"s3:AccessPointTag/team": "gulls"}}, "unknown"),
        ({"StringEqualsIfExists": {"s3:DataAccessPointAccount": OWN}}, "open"),
        ({"StringNotEquals": {"s3:DataAccessPointAccount": OWN}}, "open"),
    ],
)
def test_points_of_other_accounts_are_unknown_and_requests_through_none_are_decided(
    condition: dict[str, Any], expected: str
) -> None:
    """In a bucket of which it is known that it has no access point of its own account."""
    assert level(document(allow(BUCKET, **condition)), NONE) == expected


@pytest.mark.parametrize("name", ["", "pier", "arn:aws:s3:north::accesspoint/pier"])
def test_a_point_whose_resource_name_says_no_account_may_be_anybodys(name: str) -> None:
    odd = AccessPoint("pier", name, "internet", "", Answer("known", document(on("pier"))), NONE)
    assert level(HANDED_OVER, Answer("known", [odd])) == "unknown"


@pytest.mark.parametrize("effect", ["allow", "Permit"])
def test_a_statement_whose_effect_is_not_understood_may_refuse_at_a_point_too(effect: str) -> None:
    odd = {**allow(BUCKET), "Effect": effect}
    handed = json.loads(HANDED_OVER)["Statement"][0]
    assert level(document(handed, odd), Answer("known", [point("pier", on("pier"))])) == "unknown"
    assert (
        level(HANDED_OVER, Answer("known", [point("pier", on("pier"), {**on("pier"), "Effect": effect})])) == "unknown"
    )


def test_a_deny_by_a_points_tag_may_refuse() -> None:
    tagged = deny(StringEquals={"s3:AccessPointTag/team": "gulls"})
    policy = document(json.loads(HANDED_OVER)["Statement"][0], tagged)
    assert level(policy, Answer("known", [point("pier", on("pier"))])) == "unknown"
    assert level(document(allow(BUCKET), tagged), NONE) == "open"  # through none of them


CALLERS = (ANONYMOUS, Caller(OTHER, f"arn:aws:iam::{OTHER}:user/gull"), Caller(OWN, f"arn:aws:iam::{OWN}:user/tern"))
WHO = st.sampled_from(["*", {"AWS": OTHER}, {"AWS": f"arn:aws:iam::{OWN}:user/tern"}])
ACTION = st.sampled_from(["s3:GetObject", "s3:PutObject", "s3:*"])
BY_POINT = st.sampled_from([
    {}, {"StringEquals": {"s3:DataAccessPointAccount": OWN}}, {"StringNotEquals": {"s3:DataAccessPointAccount": OWN}},
    {"StringLike": {"s3:DataAccessPointArn": arn("p*")}}, {"StringNotLike": {"s3:DataAccessPointArn": arn("q*")}},
    {"StringEquals": {"s3:AccessPointNetworkOrigin": "VPC"}}, {"Null": {"s3:DataAccessPointArn": "true"}},
])  # fmt: skip
EFFECT = st.sampled_from(["Allow", "Allow", "Deny"])
OF_BUCKET = st.lists(st.builds(
    lambda effect, who, action, by: allow(BUCKET, who, action, **by) | {"Effect": effect}, EFFECT, WHO, ACTION, BY_POINT
), min_size=1, max_size=4)  # fmt: skip
OF_POINT = st.lists(st.tuples(EFFECT, WHO, ACTION, st.sampled_from(["*", "a*", "b"])), max_size=3)


def names(said: dict[str, Any], caller: Caller, action: str) -> bool:
    """Whether a statement of these tests names a caller and an action, read by hand."""
    who = said["Principal"]
    named = who == "*" or (not caller.anonymous and who["AWS"] in (caller.account, caller.arn))
    return named and said["Action"] in ("s3:*", action)


def by_point(said: dict[str, Any], through: AccessPoint | None) -> bool:
    """Whether the condition of a statement of these tests holds, by hand."""
    for operator, test in said.get("Condition", {}).items():
        ((key, value),) = test.items()
        carried = None
        if through is not None:
            carried = {"s3:DataAccessPointAccount": OWN, "s3:DataAccessPointArn": through.arn,
                       "s3:AccessPointNetworkOrigin": "VPC" if through.vpc else "Internet"}[key]  # fmt: skip
        if operator == "Null":
            return carried is None
        fits = carried is not None and (carried == value or (value[-1] == "*" and carried.startswith(value[:-1])))
        return fits if "Not" not in operator else not fits
    return True


def allowed_by_hand(
    of_bucket: list[dict[str, Any]], points: dict[str, list[dict[str, Any]]], through: AccessPoint | None,
    caller: Caller, action: str, key: str,
) -> bool:  # fmt: skip
    effects = {s["Effect"] for s in of_bucket if names(s, caller, action) and by_point(s, through)}
    if through is not None:
        start = f"{through.arn}/object/"
        at_point = set()
        for said in points[through.name]:
            pattern = said["Resource"][0].removeprefix(start)
            fits = key.startswith(pattern[:-1]) if pattern[-1] == "*" else key == pattern
            if fits and names(said, caller, action):
                at_point.add(said["Effect"])
        return effects == {"Allow"} == at_point
    return effects == {"Allow"}


@given(OF_BUCKET, OF_POINT, OF_POINT)
def test_every_request_through_every_point_is_decided_as_by_hand(
    of_bucket: list[dict[str, Any]], pier: list[Any], quay: list[Any]
) -> None:
    written = {
        name: [
            allow([f"{arn(name)}/object/{key}"], who, action) | {"Effect": effect} for effect, who, action, key in said
        ]
        for name, said in (("pier", pier), ("quay", quay))
    }
    points = [point("pier", *written["pier"]), point("quay", *written["quay"], vpc="vpc-1")]
    looks = any("Condition" in said for said in of_bucket)
    rules = rules_of(*store_of(document(*of_bucket), Answer("known", points)))
    for through in (None, *(points if looks else ())):
        for caller in CALLERS:
            for action, key in (("s3:GetObject", "a1"), ("s3:GetObject", "b"), ("s3:PutObject", "c")):
                context: dict[str, tuple[str, ...]] = {"aws:sourceip": ("203.0.113.9",)}
                if through is not None:
                    origin = "VPC" if through.vpc else "Internet"
                    context = {"aws:sourcevpc": (through.vpc,)} if through.vpc else context
                    context |= {POINT_ARN: (through.arn,), POINT_ACCOUNT: (OWN,), POINT_ORIGIN: (origin,)}
                decision = decide(rules, Request(action, key, caller, context))
                expected = allowed_by_hand(of_bucket, written, through, caller, action, key)
                assert decision.allowed is expected, (through, caller, action, key, decision)


@given(OF_BUCKET, OF_POINT)
def test_whom_the_verdict_shuts_out_no_point_lets_in(of_bucket: list[dict[str, Any]], pier: list[Any]) -> None:
    """The solver's verdict for anyone, against every request by hand; and a denied list of points settles nothing
    otherwise."""
    written = [allow([f"{arn('pier')}/object/{key}"], who, act) | {"Effect": effect} for effect, who, act, key in pier]
    only = point("pier", *written)
    policy = document(*of_bucket)
    read = verdicts(policy, Answer("known", [only]))
    unread = verdicts(policy, UNREAD)
    looks = any("Condition" in said for said in of_bucket)
    for verb, action in (("read", "s3:GetObject"), ("write", "s3:PutObject")):
        by_hand = any(
            allowed_by_hand(of_bucket, {"pier": written}, through, ANONYMOUS, action, key)
            for through in (None, *([only] if looks else []))
            for key in ("a1", "b", "c")
        )
        known, doubtful = read["anyone", verb].level, unread["anyone", verb].level  # type: ignore[index]
        if known != "unknown":
            assert (known == "open") == by_hand
        assert doubtful in ("unknown", known)


@pytest.fixture(scope="module")
def mock() -> Iterator[str]:
    with empty_mock_server() as address:
        yield address


class Mock(NamedTuple):
    """A mock server, and the standard client for its account's own settings."""

    address: str
    control: Any


@pytest.fixture(scope="module")
def made(mock: str) -> Mock:
    """Three buckets, two of which leave it to their access points whom to let in, made with the standard client."""
    control = boto3.client(
        "s3control", endpoint_url=mock, region_name="us-east-1", aws_access_key_id="mock-key",
        aws_secret_access_key="mock-secret",
    )  # fmt: skip

    def to_the_mock(request: Any, **_: Any) -> None:  # the client puts the account before the host
        request.url = request.url.replace(f"//{OWN}.", "//")

    control.meta.events.register("before-send.s3-control", to_the_mock)
    s3 = standard_client(mock, "mock-key", "mock-secret")
    for bucket in ("maps", "tides", "plain"):
        s3.create_bucket(Bucket=bucket)
    for bucket in ("maps", "tides"):
        s3.put_bucket_policy(Bucket=bucket, Policy=HANDED_OVER.replace(":::maps", f":::{bucket}"))
    off = dict.fromkeys(("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets"), False)
    for name, bucket in (("pier", "maps"), ("quay", "maps"), ("mole", "tides")):
        more = {"VpcConfiguration": {"VpcId": "vpc-1"}} if name == "quay" else {}
        control.create_access_point(AccountId=OWN, Name=name, Bucket=bucket, PublicAccessBlockConfiguration=off, **more)
    for name, key in (("pier", "pub/*"), ("quay", "*")):
        at = control.get_access_point(AccountId=OWN, Name=name)["AccessPointArn"]
        control.put_access_point_policy(AccountId=OWN, Name=name, Policy=document(allow([f"{at}/object/{key}"])))
    return Mock(mock, control)


def surveyed(folder: Path, address: str, door: str) -> dict[str, Any]:
    """Bucket → its exposure to anyone, as the installed program says; `door`: where the account door answers."""
    workspace_for(folder, address, ("mock-key", "mock-secret"))
    entry = f'    doors: {{account: {{at: "{door}", account: "{OWN}", credential: {{file: key.ini}}}}}}\n'
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text() + (entry if door else ""))
    ran = lantern("survey", cwd=folder)
    assert ran.code in (0, 3), ran.err
    rows = json.loads(lantern("exposure", "--json", cwd=folder).out)
    return {row["bucket"]: row for row in rows["buckets"]}


def of_anyone(rows: dict[str, Any], bucket: str, verb: str = "read") -> str:
    return str(rows[bucket]["exposure"]["anyone"][verb]["verdict"])


def test_what_the_standard_client_set_up_is_read_decided_and_put_right(made: Mock, tmp_path: Path) -> None:
    folder = tmp_path / "ws"
    rows = surveyed(folder, made.address, made.address)
    assert {name: of_anyone(rows, name) for name in rows} == {"maps": "open", "tides": "closed", "plain": "closed"}
    at = made.control.get_access_point(AccountId=OWN, Name="pier")["AccessPointArn"]
    assert rows["maps"]["exposure"]["anyone"]["read"]["witness"]["circumstances"] == {"through the access point": at}
    shown = {
        bucket: next(f for f in json.loads(lantern("show", bucket, "--json", cwd=folder).out)["facts"]
                     if f["fact"] == "access-points")
        for bucket in rows
    }  # fmt: skip
    assert {bucket: fact["value"] for bucket, fact in shown.items()} == {
        "maps": "pier, quay", "tides": "mole", "plain": None,
    }  # fmt: skip
    assert shown["plain"]["state"] == "absent"
    why = lantern("why", "maps", "--key", "pub/a", "--with", f"s3:DataAccessPointArn={at}", cwd=folder)
    assert "allowed: statement 1, through the access point pier" in why.out
    remedy = lantern("remedy", "maps", cwd=folder).out
    assert "delete the policy of the access point pier" in remedy
    assert "exposure.read is closed" in remedy
    reached = json.loads(lantern("reach", "--json", cwd=folder).out)["stores"][0]["doors"]
    assert next(door for door in reached if door["name"] == "account")["readable"] is True


def test_a_point_of_several_regions_is_read_and_decided(made: Mock, tmp_path: Path) -> None:
    s3 = standard_client(made.address, "mock-key", "mock-secret")
    s3.create_bucket(Bucket="reefs")
    s3.put_bucket_policy(Bucket="reefs", Policy=HANDED_OVER.replace(":::maps", ":::reefs"))
    off = dict.fromkeys(("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets"), False)
    details = {"Name": "everywhere", "PublicAccessBlock": off, "Regions": [{"Bucket": "reefs"}]}
    made.control.create_multi_region_access_point(AccountId=OWN, ClientToken="t", Details=details)
    shown = made.control.get_multi_region_access_point(AccountId=OWN, Name="everywhere")["AccessPoint"]
    at = f"arn:aws:s3::{OWN}:accesspoint/{shown['Alias']}"
    written = {"Name": "everywhere", "Policy": document(allow([f"{at}/object/*"]))}
    before = surveyed(tmp_path / "before", made.address, made.address)
    made.control.put_multi_region_access_point_policy(AccountId=OWN, ClientToken="u", Details=written)
    after = surveyed(tmp_path / "after", made.address, made.address)
    assert (of_anyone(before, "reefs"), of_anyone(after, "reefs")) == ("closed", "open")
    assert after["reefs"]["exposure"]["anyone"]["read"]["witness"]["circumstances"] == {"through the access point": at}
    assert of_anyone(after, "tides") == "closed"
    s3.delete_bucket(Bucket="reefs")


def test_the_accounts_guards_are_asked_for_at_its_door(made: Mock, tmp_path: Path) -> None:
    on = dict.fromkeys(("BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets"), True)
    made.control.put_public_access_block(AccountId=OWN, PublicAccessBlockConfiguration=on)
    try:
        rows = surveyed(tmp_path / "ws", made.address, made.address)
        assert of_anyone(rows, "maps") == "closed"
    finally:
        made.control.delete_public_access_block(AccountId=OWN)


class Refusing(BaseHTTPRequestHandler):
    """What is in front of the mock's account door, and refuses what the name of its class says."""

    behind = ""
    refuses = ""
    instead: ClassVar[dict[bytes, bytes]] = {}

    def do_GET(self) -> None:
        code, body = 403, b"<ErrorResponse><Error><Code>AccessDenied</Code></Error></ErrorResponse>"
        if self.refuses not in self.path:
            sent = {name: value for name, value in self.headers.items() if name.lower() != "host"}
            asked = Asked(self.behind + self.path, headers=sent)
            try:
                with urlopen(asked) as answer:
                    code, body = answer.status, answer.read()
            except HTTPError as error:
                code, body = error.code, error.read()
        for old, new in self.instead.items():
            body = body.replace(old, new)
        self.send_response(code)
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: Any) -> None:
        pass


@contextmanager
def in_front_of(made: Mock, **does: Any) -> Iterator[str]:
    handler = type("OfThisTest", (Refusing,), {"behind": made.address, "refuses": "nothing", **does})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.mark.parametrize("instead", [
    {b"<Bucket>maps</Bucket>": b""}, {b"AccessPointList>": b"Points>"}, {b"ListAccessPointsRe": b"ListBucketsRe"},
    {b"<Name>quay</Name>": b""}, {b"AccessPoints>": b"Others>"}, {b"NoSuchAccessPointPolicy": b"NoSuchBucket"},
])  # fmt: skip
def test_an_answer_of_another_form_is_no_list_without_access_points(
    made: Mock, tmp_path: Path, instead: dict[bytes, bytes]
) -> None:
    with in_front_of(made, instead=instead) as door:
        rows = surveyed(tmp_path / "ws", made.address, door)
    assert of_anyone(rows, "tides") == "unknown"
    assert of_anyone(rows, "maps") in ("unknown", "open")


@pytest.mark.parametrize(("region", "asked", "state"), [
    (Answer("known", "south-1"), {"home-1", "south-1"}, "known"),
    (Answer("known", "north-1"), {"home-1", "north-1"}, "absent"),
    (Answer("known", "default"), {"home-1", "us-east-1"}, "absent"),
    (UNREAD, {"home-1"}, "failed"),
])  # fmt: skip
def test_each_bucket_is_asked_about_in_its_own_region(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, region: Answer[str], asked: set[str], state: str
) -> None:
    looked: set[str] = set()

    class Door:
        def __init__(self, region: str) -> None:
            self.region = region

        async def guards(self) -> Answer[Guards]:
            return NONE

        async def points(self, _: Any) -> dict[str, list[AccessPoint]]:
            looked.add(self.region)
            return {"maps": [point("pier")]} if self.region == "south-1" else {}

        async def points_of_several_regions(self, _: Any) -> dict[str, list[AccessPoint]]:
            return {}

    @asynccontextmanager
    async def opened(_: Any, __: Any, region: str) -> AsyncIterator[Door]:
        yield Door(region)

    monkeypatch.setattr(account_door, "at_account_door", opened)
    place, chain = Place("estate.yaml", 1), Credential("chain")
    home = StoreConfig("s", place, "s3", "https://a.example", chain, signing_place="home-1")
    entry = DoorEntry("account", "https://{region}.example", chain, account=OWN)
    bucket, dossier = store_of(HANDED_OVER, UNREAD)
    dossier = msgspec.structs.replace(dossier, buckets=[msgspec.structs.replace(bucket, region=region)])
    read = asyncio.run(account_door.with_account_door(Visit(home, tmp_path, NOW), entry, dossier))
    assert (looked, read.buckets[0].access_points.state) == (asked, state)


@pytest.mark.parametrize(
    ("refuses", "expected", "drifts"),
    [
        ("/v20180820/accesspoint?", {"maps": "unknown", "tides": "unknown", "plain": "closed"}, set()),
        ("/mrap/", {"maps": "unknown", "tides": "unknown", "plain": "closed"}, set()),
        # what the point quay lets in from its private network is certain
        ("/accesspoint/pier/policy", {"maps": "unknown", "tides": "closed", "plain": "closed"}, {"maps"}),
        ("/accesspoint/mole/policy", {"maps": "open", "tides": "unknown", "plain": "closed"}, {"maps"}),
        ("/publicAccessBlock", {"maps": "unknown", "tides": "closed", "plain": "closed"}, set()),
        ("nothing at all", {"maps": "open", "tides": "closed", "plain": "closed"}, {"maps"}),
    ],
)
def test_what_the_account_door_refuses_settles_nothing(
    made: Mock, tmp_path: Path, refuses: str, expected: dict[str, str], drifts: set[str]
) -> None:
    with in_front_of(made, refuses=refuses) as door:
        rows = surveyed(tmp_path / "ws", made.address, door)
    assert {name: of_anyone(rows, name) for name in rows} == expected
    drift = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)["drift"]
    public = {row["bucket"] for row in drift if row["fact"] == "exposure.read"}
    assert public == drifts


def test_without_its_door_a_bucket_that_is_handed_over_is_unknown(made: Mock, tmp_path: Path) -> None:
    rows = surveyed(tmp_path / "ws", made.address, "")
    assert {name: of_anyone(rows, name) for name in rows} == {"maps": "unknown", "tides": "unknown", "plain": "closed"}
    why = rows["maps"]["exposure"]["anyone"]["read"]["unknown_because"]
    assert any("names no account door" in one for one in why)


@pytest.mark.parametrize(("headers", "expected"), [
    ({"Server": b"AmazonS3", "x-amz-id-2": b"2"}, "unknown"), ({"Server": b"AmazonS3"}, "open"), ({}, "open"),
])  # fmt: skip
def test_a_service_that_has_such_a_door_does_not_show_its_accounts_guards_elsewhere(
    tmp_path: Path, headers: dict[str, bytes], expected: str
) -> None:
    """A bucket with a public policy: the guards of its account may shut it."""

    async def answering(asked: raw_store.Asked) -> raw_store.Told:
        told = raw_store.plain(asked, ["maps"])
        if asked.question == "policy":
            told = raw_store.Told(document(allow(BUCKET)).encode())
        if asked.question == "publicAccessBlock":
            told = raw_store.Told(b"<Error><Code>NoSuchPublicAccessBlockConfiguration</Code></Error>", 404)
        return raw_store.Told(told.body, told.status, told.headers | headers)

    with raw_store.raw_store(answering) as address:
        rows = surveyed(tmp_path / "ws", address, "")
        reached = " ".join(lantern("reach", cwd=tmp_path / "ws").out.split())
    assert of_anyone(rows, "maps") == expected
    assert ("public-access guards of the account (this service shows" in reached) == (expected == "unknown")
    shown = json.loads(lantern("show", "maps", "--json", cwd=tmp_path / "ws").out)["facts"]
    points = next(fact for fact in shown if fact["fact"] == "access-points")
    assert points["state"] == ("failed" if expected == "unknown" else "unsupported")


@pytest.mark.parametrize(("points", "expected"), [
    (NONE, False), (Answer("known", [point("pier")]), None), (UNREAD, None),
])  # fmt: skip
def test_an_own_permission_on_access_points_counts_where_there_may_be_one(
    points: Answer[Any], expected: bool | None
) -> None:
    own = document({"Effect": "Allow", "Action": "s3:GetObject", "Resource": f"{arn('pier')}/object/*"})
    attached: Answer[list[AttachedPolicy]] = Answer("known", [AttachedPolicy("p", own)])
    who = f"arn:aws:iam::{OWN}:user/tern"
    tern = Identity(name="tern", resource=who, policies=attached, groups=Answer("known", []), boundary=NONE)
    rules = rules_of(*store_of(document(allow(BUCKET, who={"AWS": OTHER})), points))
    combined = combined_rules(rules, policies_of(tern, {}, ()), OWN)
    request = Request("s3:GetObject", "a", Caller(OWN, who))
    assert decide(combined, request).allowed is expected


@pytest.mark.parametrize("written", ["", 'account: "4001"', 'account: "400100200300", only: x'])
def test_the_account_door_needs_a_number(tmp_path: Path, written: str) -> None:
    workspace_for(tmp_path / "ws", "http://127.0.0.1:9", ("k", "s"))
    estate = tmp_path / "ws" / "estate.yaml"
    door = f"    doors: {{account: {{at: http://127.0.0.1:9, credential: {{file: key.ini}}, {written}}}}}\n"
    estate.write_text(estate.read_text() + door)
    ran = lantern("survey", cwd=tmp_path / "ws")
    assert ran.code == 2
    assert "estate.yaml:8:" in ran.err
    assert "twelve digits" in ran.err or "unknown" in ran.err
