"""Who did it and when: event files of several layouts, torn lines, and which event explains which change."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.history.attribution import Attribution
from rusty_lantern.core.history.changes import Change
from rusty_lantern.core.history.event import Event, ProtectionWeakened
from rusty_lantern.core.history.event_actions import causes_of
from rusty_lantern.intake.event_log import Events, Layout, read_layout, stream
from rusty_lantern.intake.request_line import read_request
from tests.conftest import Lived

BEGIN, END = datetime(2026, 10, 2, tzinfo=UTC), datetime(2026, 11, 2, tzinfo=UTC)
GAINED = Change("harbour", "bucket", "payroll-drop", "gained", "exposure.anyone.read")
AT = "2026-10-05T09:12:31Z"
TOLD = {"time": AT, "actor": "keeper", "action": "PutBucketPolicy", "bucket": "payroll-drop", "address": "203.0.113.8"}


def causes(*events: Event, changes: tuple[Change | ProtectionWeakened, ...] = (GAINED,)) -> list[list[str]]:
    """Per change, the actors that could have caused it."""
    attribution = Attribution(changes, BEGIN, END)
    attribution.feed(events)
    return [[event.actor for event in found] for _, found in sorted(attribution.causes().items())]


def event(actor: str, day: int = 5, **fields: str) -> Event:
    given_ = {"action": "PutBucketPolicy", "bucket": "payroll-drop"} | fields
    return Event(BEGIN + timedelta(days=day), actor, **given_)


def test_the_likeliest_is_of_the_action_that_does_just_this_and_the_latest_of_those() -> None:
    told = [event("early"), event("late", 9), event("public_access_guards", 20, action="PutPublicAccessBlock")]
    assert causes(*told) == [["late", "early", "public_access_guards"]]


@pytest.mark.parametrize("other", [
    event("x", bucket="other"), event("x", outcome="403"), event("x", outcome="AccessDenied"), event("x", -1),
    event("x", 32), event("x", action="GetObject"), event("x", store="skerry"),
])  # fmt: skip
def test_what_was_refused_elsewhere_before_after_or_of_another_kind_is_no_cause(other: Event) -> None:
    assert causes(other) == [[]]


def test_an_account_wide_switch_can_be_the_cause_for_every_bucket() -> None:
    assert causes(event("root", action="DeleteAccountPublicAccessBlock", bucket="")) == [["root"]]


def test_what_is_done_to_an_access_point_is_recorded_without_its_bucket() -> None:
    assert causes(event("pilot", action="PutAccessPointPolicy", bucket="", about="quay-display")) == [["pilot"]]
    listed = Change("harbour", "bucket", "payroll-drop", "changed", "access-points")
    made = event("pilot", action="CreateAccessPoint")
    assert causes(made, event("x", action="CreateAccessPoint", bucket="other"), changes=(listed,)) == [["pilot"]]


def test_objects_are_told_by_their_keys_and_keys_by_their_owner_or_masked_id() -> None:
    vanished = ProtectionWeakened("harbour", "permits", "deleted while under retention", frozenset({"a.pdf"}))
    credential = Change("harbour", "credential", "sync SMTR…0020", "new")
    told = [
        event("other", 9, action="DeleteObject", bucket="permits", key="b.pdf"),
        event("thief", action="DeleteObjectVersion", bucket="permits", key="a.pdf"),
        event("maker", action="CreateAccessKey", bucket="", about="sync"),
        event("stranger", action="CreateAccessKey", bucket="", about="other"),
        event("byid", action="UpdateAccessKey", bucket="", about="SMTRINGING00000020"),
    ]
    assert causes(*told, changes=(vanished, credential)) == [["thief", "other"], ["maker", "byid"]]


def test_what_could_or_could_not_be_told_needs_no_cause() -> None:
    silent = Change("harbour", "bucket", "x", "no longer known", "policy")
    assert Attribution((silent,), BEGIN, END).causes() == {}


def test_events_that_are_alike_but_for_their_outcome_come_in_one_order() -> None:
    alike = [event("a", action="PutBucketPolicy", outcome=outcome) for outcome in ("200", "")]
    orders = []
    for given_events in (alike, alike[::-1]):
        gathered = Attribution((GAINED,), BEGIN, END)
        gathered.feed(given_events)
        orders.append(gathered.causes())
    assert orders[0] == orders[1]


EVENTS = st.lists(
    st.builds(
        event,
        st.sampled_from("abc"),
        st.integers(-2, 33),
        action=st.sampled_from(["PutBucketPolicy", "PutBucketAcl", "GetObject"]),
        outcome=st.sampled_from(["", "200", "403"]),
    ),
    max_size=60,
)


@given(EVENTS, st.integers(0, 60))
def test_the_order_and_the_pieces_in_which_events_come_change_nothing(told: list[Event], cut: int) -> None:
    whole = Attribution((GAINED,), BEGIN, END)
    whole.feed(told)
    parts = Attribution((GAINED,), BEGIN, END)
    for piece in (told[cut:], told[:cut]):
        parts.feed(reversed(piece))
    assert whole.causes() == parts.causes()
    good = [e for e in told if BEGIN <= e.time <= END and e.outcome != "403" and e.action != "GetObject"]
    assert whole.count(0) == len(good)


def test_every_fact_that_can_change_by_hand_has_an_action_that_does_it() -> None:
    facts = ("exposure.anyone.read", "versioning", "encryption.at-rest", "lock.default-retention", "tags.x", "logging")
    assert all(causes_of(fact) for fact in facts)
    assert "PutBucketPolicy" in causes_of("exposure.anyone.read")


# --- files


def read(path: Path, layout: Layout | None = None) -> tuple[list[Event], Events]:
    told = Events()
    return list(stream(path, layout or Layout(), frozenset({"PutBucketPolicy", "DeleteBucket"}), told)), told


def test_our_own_lines_are_read_and_torn_ones_are_skipped_and_named(tmp_path: Path) -> None:
    path = tmp_path / "events.jsonl"
    lines = [TOLD, None, TOLD | {"time": "noon"}, TOLD | {"outcome": 200}]
    path.write_text("\n".join(json.dumps(line) if line else '{"time": "2026-10-\n' for line in lines))
    found, told = read(path)
    assert [(e.actor, e.outcome) for e in found] == [("keeper", ""), ("keeper", "200")]
    assert (told.skipped, told.first_skipped[:16]) == (2, "events.jsonl:2: ")
    path.write_text("\n".join(json.dumps(TOLD | {"extra": {"deep": [n]}}) for n in range(3)))
    assert len(read(path)[0]) == 3


def test_other_layouts_are_read_by_a_mapping(tmp_path: Path) -> None:
    path = tmp_path / "trail.jsonl"
    path.write_text(
        json.dumps({"at": AT, "who": {"name": "k"}, "what": "set-policy", "on": {"bucket": "payroll-drop"}})
    )
    layout = read_layout(
        "fields: {time: at, actor: who.name, action: what, bucket: on.bucket}\n"
        "actions: {set-policy: PutBucketPolicy}\n",
        "l",
    )
    (found,) = read(path, layout)[0]
    assert (found.actor, found.action, found.bucket, found.line) == (
        "k",
        "PutBucketPolicy",
        "payroll-drop",
        "trail.jsonl:1",
    )
    flat = tmp_path / "flat.csv"
    flat.write_text(f'\ufeffwhen,who,action,bucket\n{AT},"a, b",PutBucketPolicy,x\n{AT},short\n{AT},c,GetObject,x\n')
    found_, told = read(flat, read_layout("fields: {time: when, actor: who}\n", "l"))
    assert ([e.actor for e in found_], told.skipped) == (["a, b"], 1)
    with pytest.raises(BadInput, match="no column time"):
        read(flat)
    for text, message in (("reads: xml\n", "reads"), ("fields: {tme: x}\n", 'no event has a field "tme"')):
        with pytest.raises(BadInput, match=message):
            read_layout(text, "l")


WEB = """\
203.0.113.8 - keeper [05/Oct/2026:11:12:31 +0200] "PUT /payroll-drop?policy HTTP/1.1" 204 0 "-" "PUT /x?policy"
203.0.113.8 - - [05/Oct/2026:09:13:00 +0000] "GET /payroll-drop?policy HTTP/1.1" 200 77
203.0.113.8 - admin [06/Oct/2026:09:13:00 +0000] "DELETE /old%2Done HTTP/1.1" 204 0
not a line at all "PUT
"""


def test_common_web_log_lines_are_read(tmp_path: Path) -> None:
    path = tmp_path / "access.log"
    path.write_text(WEB)
    found, told = read(path)
    assert [(e.actor, e.action, e.bucket, e.outcome, e.line) for e in found] == [
        ("keeper", "PutBucketPolicy", "payroll-drop", "204", "access.log:1"),
        ("admin", "DeleteBucket", "old-one", "204", "access.log:3"),
    ]
    assert (found[0].time, told.lines) == (datetime(2026, 10, 5, 9, 12, 31, tzinfo=UTC), 4)


REQUESTS = """\
PUT /b  CreateBucket b
PUT /b/?acl  PutBucketAcl b
PUT /b/k?retention  PutObjectRetention b k
DELETE /b/k  DeleteObject b k
DELETE /b/k?versionId=2  DeleteObjectVersion b k
POST /b?delete  DeleteObjects b
DELETE /b?policy  DeleteBucketPolicy b
PUT /b/k  PutObject b k
PUT /%3Ab?policy  PutBucketPolicy b
PUT /marsh%3Ab?policy  PutBucketPolicy marsh:b
POST /swift/v1/b  SetContainer b
POST /swift/v1/AUTH_x/b/d/k  SetObject b d/k
PUT /swift/v1/b  CreateBucket b
POST /swift/v1?bulk-delete  BulkDelete
POST /v1/AUTH_keeper  SetAccount
DELETE /v1/AUTH_keeper/b/k  DeleteObject b k
PUT /v1/b  PutObject v1 b
PUT /keeper/b?restype=container&comp=acl  PutBucketAcl b
DELETE /b?restype=container  DeleteBucket b
PUT /?restype=service&comp=properties  SetAccount
"""
"""Request lines, and what each does: action, bucket, key."""


@pytest.mark.parametrize("line", REQUESTS.splitlines())
def test_a_request_line_names_what_was_done(line: str) -> None:
    request, _, words = line.partition("  ")
    method, target = request.split()
    done = read_request(method, target)
    assert [part for part in (done.action, done.bucket, done.key) if part] == words.split()


GATEWAY_LINE = (
    "2026-11-28T16:55:34.225+0000 7f14335ee6c0  1 beast: 0x7f15940ec6e0: 127.0.0.1 - marsh$keeper "
    '[28/Nov/2026:16:55:34.217 +0000] "POST /swift/v1/permits HTTP/1.1" 204 0 - - - latency=0.008000000s\n'
)
SWIFT_LINES = (
    "<134>proxy-server: 192.0.2.7 127.0.0.1 28/Nov/2026/16/58/02 POST /v1/AUTH_keeper/c1 HTTP/1.0 204 - curl/7.88.1 "
    "AUTH_tk44d655230... - - - tx19f6e95 - 0.0180 - - 1795885082.640648603 1795885082.658667088 -\n"
    "<134>proxy-server: 192.0.2.7 127.0.0.1 28/Nov/2026/16/58/03 GET /v1/AUTH_keeper/c1 HTTP/1.0 200 - - - - - - -\n"
    "<134>proxy-server: 192.0.2.7 127.0.0.1 28/Nov/2026/16/58/04 POST /v1/AUTH_keeper%3Fbulk-delete HTTP/1.0 200 -\n"
)
"""As servers wrote them."""


def test_the_logs_of_a_gateway_and_of_a_swift_proxy_are_read(tmp_path: Path) -> None:
    (tmp_path / "rgw.log").write_text("2026-11-28T16:55:34.2+0000 7f 10 a line of another sort\n" + GATEWAY_LINE)
    (tmp_path / "proxy.log").write_text(SWIFT_LINES)
    tally, wanted = Events(), frozenset({"SetContainer", "BulkDelete"})
    gateway, swift = (list(stream(tmp_path / name, Layout(), wanted, tally)) for name in ("rgw.log", "proxy.log"))
    assert [(e.actor, e.address, e.action, e.bucket, e.line) for e in gateway] == [
        ("marsh$keeper", "127.0.0.1", "SetContainer", "permits", "rgw.log:2")
    ]
    assert gateway[0].time == datetime(2026, 11, 28, 16, 55, 34, 217_000, tzinfo=UTC)
    assert [(e.actor, e.address, e.action, e.bucket, e.line) for e in swift] == [
        ("", "192.0.2.7", "SetContainer", "c1", "proxy.log:1"), ("", "192.0.2.7", "BulkDelete", "", "proxy.log:3"),
    ]  # fmt: skip
    assert swift[0].time == datetime(2026, 11, 28, 16, 58, 2, tzinfo=UTC)


@pytest.mark.parametrize("text", [
    '"PUT ' * 200_000, 'x "PUT /a' * 100_000, '"PUT \n' * 200_000, "a b c [" + '"PUT /b"' * 60_000,
    " 28/Nov/2026/16/58/02 PUT /" * 40_000,
])  # fmt: skip
def test_a_log_made_to_be_slow_is_read_all_the_same(tmp_path: Path, text: str) -> None:
    (tmp_path / "h.log").write_text(text + "\n" + WEB)
    found = list(stream(tmp_path / "h.log", Layout(), frozenset({"PutBucketPolicy"}), Events()))
    assert len(found) <= 1


def test_the_same_record_in_three_layouts_explains_the_same(lived: Lived, tmp_path: Path) -> None:
    told = [json.loads(line) for line in (lived.folder / "events.jsonl").read_text().splitlines()]
    names = ("time", "actor", "action", "bucket", "key", "address", "outcome", "store", "about")
    (tmp_path / "e.csv").write_text(
        "\n".join([",".join(names), *(",".join(e.get(n, "") for n in names) for e in told)])
    )
    (tmp_path / "m.jsonl").write_text("\n".join(json.dumps({"e": {n: e.get(n, "") for n in names}}) for e in told))
    (tmp_path / "m.yaml").write_text("fields: {" + ", ".join(f"{n}: e.{n}" for n in names) + "}\n")
    ours = json.loads(lived.run("changes", "--events", "events.jsonl", "--json").out)
    for words in (
        ("--events", f"{tmp_path}/e.csv"),
        ("--events", f"{tmp_path}/m.jsonl", "--layout", f"{tmp_path}/m.yaml"),
    ):
        theirs = json.loads(lived.run("changes", *words, "--json").out)
        assert [_actors(r) for r in theirs["changes"]] == [_actors(r) for r in ours["changes"]]
    missing = lived.run("changes", "--events", "gone.jsonl")
    assert (missing.code, missing.out) == (2, "")


def _actors(row: dict[str, list[dict[str, str]] | None]) -> list[str] | None:
    return None if row["causes"] is None else [cause["actor"] for cause in row["causes"]]
