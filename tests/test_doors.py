"""Several doors of one store: container ACLs in each reading, doors that nobody named, and what stands in front."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST, always_carried
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant, named_grant
from rusty_lantern.core.model.bucket import AccountAcl, Bucket, ContainerAcl, Lock
from rusty_lantern.core.model.capabilities import SWIFT
from rusty_lantern.core.model.dialect import GATEWAY_16
from rusty_lantern.core.model.dossier import OBJECT_GATEWAY, AclReading, Door, Dossier, Software, decode
from rusty_lantern.core.object_rules.gateway_expiry import WAY_AROUND
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.lagoon import HARBOUR_ACCOUNT, HARBOUR_USERS, with_door
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.simulator.swift_server import PLANTED_KEY, SwiftDoor
from tests.conftest import Lived, answering, estate_for, lantern

MOMENT = datetime(2026, 11, 2, 6, tzinfo=UTC)
UNSUPPORTED: Answer[Any] = Answer("unsupported")


def store(reading: AclReading, account: Answer[AccountAcl], **more: Any) -> Dossier:
    if reading == "gateway":
        more = {"software": Answer("known", Software(OBJECT_GATEWAY, "16.2.15", GATEWAY_16))} | more
    return Dossier(
        store="lagoon", taken=MOMENT, acl_reading=reading, account_acl=account, account=Answer("known", "AUTH_keeper"),
        public_access_guards=UNSUPPORTED, network=UNSUPPORTED, **more,
    )  # fmt: skip


def container(acl: Answer[ContainerAcl]) -> Bucket:
    return Bucket(name="b", **SWIFT.of_bucket() | {"container_acl": acl})


def levels(bucket: Bucket, dossier: Dossier) -> dict[tuple[str, str], str]:
    found = exposures(rules_of(bucket, dossier), EvaluationContext(MOMENT))
    return {(audience, verb): verdict.level for (audience, verb), verdict in found.items()}


NONE: Answer[AccountAcl] = Answer("absent")
NO_BULK_DELETION = (
    '{"Statement": {"Effect": "Deny", "Principal": "*", "Action": "s3:DeleteBucket", "Resource": "arn:aws:s3:::b"}}'
)
"""Without it, anybody deletes at a gateway's Swift door."""
TABLE = [
    # reading, read ACL, write ACL: what anyone, and any account, can do
    ("tempauth", ".r:*", "", "read", "read"),
    ("tempauth", ".r:*,.rlistings", "", "list read", "list read"),
    ("tempauth", ".rlistings", "", "", ""),
    ("tempauth", ".r:unknown", "", "read", "read"),
    ("tempauth", ".r:-bad.example,.r:*", "", "read", "read"),
    ("tempauth", ".r:*,.r:-unknown", "", "read", "read"),
    ("tempauth", "*:*,*", "*:*", "", ""),
    ("tempauth", ".r:-*,deck", "deck", "", ""),
    ("tempauth", "anonymous", "anonymous", "", ""),
    ("keystone", "*:*", "", "", "list read"),
    ("keystone", "", "*:*", "", "write delete"),
    ("keystone", "*,member", "member", "", ""),
    ("gateway", ".r:*", "", "list read read-settings", "list read read-settings"),
    ("gateway", ".r:good.example", "", "list read read-settings", "list read read-settings"),
    ("gateway", "*:*", "*:*", "", ""),
    ("gateway", ".r:good.example,.r:-*", "", "", ""),
    ("gateway", ".r:*,.r:-*", "", "list read read-settings", "list read read-settings"),
    ("gateway", "anonymous", "", "list read read-settings", ""),
    ("gateway", "", "anonymous", "write delete change-settings bypass-retention", ""),
]  # fmt: skip


@pytest.mark.parametrize(("reading", "read", "write", "anyone", "any_account"), TABLE)
def test_each_kind_of_server_reads_container_acls_its_own_way(
    reading: AclReading, read: str, write: str, anyone: str, any_account: str
) -> None:
    bucket = container(Answer("known", ContainerAcl(read, write)))
    if reading == "gateway":
        bucket = msgspec.structs.replace(bucket, policy=Answer("known", NO_BULK_DELETION))
    found = levels(bucket, store(reading, NONE))
    for audience, verbs in (("anyone", anyone), ("any-account", any_account)):
        assert {verb for (who, verb), level in found.items() if who == audience and level == "open"} == set(
            verbs.split()
        )
    assert set(found.values()) <= {"open", "closed"}


def test_what_acls_allow_at_a_gateway_of_another_release_is_not_known() -> None:
    """Nor where what answers could not be read; what every release allows is."""
    written = container(Answer("known", ContainerAcl("", "anonymous")))
    for software in (Answer("known", Software(OBJECT_GATEWAY, "20.1")), Answer[Software]("denied", None, "403")):
        found = levels(written, store("gateway", NONE, software=software))
        assert {found["anyone", verb] for verb in ("write", "delete")} == {"open"}
        assert {found["anyone", verb] for verb in ("change-settings", "bypass-retention")} == {"unknown"}


def test_a_grant_to_write_changes_settings_where_a_gateway_has_a_swift_door() -> None:
    """By a POST, which no Deny refuses; without that door, by deleting the bucket alone, which one does."""
    deny = '{"Statement": {"Effect": "Deny", "Principal": "*", "Action": "s3:*", "Resource": "*"}}'
    written = msgspec.structs.replace(
        container(Answer("absent")), acl=Answer("known", [Grant("anyone", "write")]), policy=Answer("known", deny)
    )
    for doors, level in (([Door("swift", "http://x/swift/v1", read=True)], "open"), ([], "closed"), (None, "unknown")):
        known: Answer[list[Door]] = Answer("denied") if doors is None else Answer("known", doors)
        gateway = store("gateway", NONE, doors=known, protocol="s3")
        assert levels(written, gateway)["anyone", "change-settings"] == level
        assert levels(written, gateway)["anyone", "write"] == "closed"


def test_a_door_that_may_be_there_may_do_what_no_deny_refuses() -> None:
    """Of owners too: what a bucket's anonymous owner may do at the Swift door by a POST."""
    deny = '{"Statement": {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": "*"}}'
    shut = msgspec.structs.replace(container(Answer("absent")), policy=Answer("known", deny), acl=Answer("known", []))
    objects = msgspec.structs.replace(shut, object_acls=Answer("denied"))
    owned = msgspec.structs.replace(shut, owner=Answer("known", "anonymous"))
    door = Door("swift", "http://x/swift/v1", read=True)
    for bucket, verb in ((objects, "delete"), (owned, "change-settings")):
        levels_by_doors = [
            levels(bucket, store("gateway", NONE, doors=doors, protocol="s3"))["anyone", verb]
            for doors in (Answer("known", [door]), Answer[list[Door]]("denied"), Answer("known", list[Door]()))
        ]
        assert levels_by_doors[1] == "unknown"
        assert levels_by_doors[0] != "closed"


def test_bulk_deletion_at_a_gateway_is_everybodys_of_no_tenant_and_otherwise_the_tenants() -> None:
    shut = msgspec.structs.replace(container(Answer("absent")), policy=Answer("absent"))
    refusing = msgspec.structs.replace(shut, policy=Answer("known", NO_BULK_DELETION))
    of_tenant = msgspec.structs.replace(shut, tenant=Answer("known", "marsh"))
    doors = Answer("known", [Door("swift", "http://x/swift/v1", read=True)])
    gateway = store("gateway", NONE, doors=doors)
    for bucket, anyone, any_account in (
        (shut, "open", "open"), (refusing, "closed", "closed"), (of_tenant, "closed", "restricted"),
    ):  # fmt: skip
        found = levels(bucket, gateway)
        assert (found["anyone", "delete"], found["any-account", "delete"]) == (anyone, any_account)
    for lost in (Answer[str]("denied", None, "403"), Answer[str]("unsupported")):
        assert levels(msgspec.structs.replace(shut, policy=lost), gateway)["anyone", "delete"] == "unknown"
    for state in ("denied", "failed"):
        of_whom = msgspec.structs.replace(shut, tenant=Answer[str](state, None, "403"))
        assert levels(of_whom, gateway)["anyone", "delete"] == "unknown"
    other = store("gateway", NONE, doors=doors, software=Answer("known", Software(OBJECT_GATEWAY, "20.1")))
    assert levels(shut, other)["anyone", "delete"] == "unknown"
    by_s3 = msgspec.structs.replace(shut, acl=Answer("known", []))
    assert levels(by_s3, store("gateway", NONE, doors=Answer("known", [])))["anyone", "delete"] == "closed"


def test_where_the_kind_of_server_is_not_known_only_what_all_agree_on_is_decided() -> None:
    found = levels(container(Answer("known", ContainerAcl(".r:*"))), store("", NONE))
    assert (found["anyone", "read"], found["anyone", "list"], found["anyone", "write"]) == ("open", "unknown", "closed")


@pytest.mark.parametrize("state", ["hidden", "denied", "failed"])
def test_an_acl_that_was_not_read_leaves_nothing_closed(state: Any) -> None:
    lost: Answer[Any] = Answer(state, None, "no word of it")
    for bucket, dossier in (
        (container(lost), store("tempauth", NONE)),
        (container(Answer("absent")), store("tempauth", lost)),
        (container(Answer("absent")), store("tempauth", NONE, doors=lost)),
        (
            container(Answer("absent")),
            store("tempauth", NONE, doors=Answer("known", [Door("s3", "x", note="no word")])),
        ),
    ):
        assert set(levels(bucket, dossier).values()) == {"unknown"}


def test_an_empty_name_in_the_account_acl_is_every_request_without_a_token() -> None:
    found = levels(container(Answer("absent")), store("tempauth", Answer("known", AccountAcl(read_only=[""]))))
    assert (found["anyone", "read"], found["any-account", "read"]) == ("open", "closed")


HOSTS = ["good.example", "www.good.example", "bad.example", "x.bad.example", "unknown", ""]
ENTRIES = [".r:*", ".rlistings", ".r:good.example", ".r:.good.example", ".r:-bad.example", ".r:-.bad.example",
           ".r:unknown", ".r:-unknown", ".r:-*", ".r:Good.Example", "deck", "deck:admin", "*:*",
           "anonymous"]  # fmt: skip


@given(
    st.lists(st.sampled_from(ENTRIES), max_size=5),
    st.sampled_from(["tempauth", "keystone", "gateway"]),
    st.lists(st.sampled_from(["", "deck", "anonymous", "*"]), max_size=2),
)
def test_no_verdict_is_closed_where_the_plain_decider_lets_a_request_in(
    entries: list[str], reading: AclReading, names: list[str]
) -> None:
    bucket = container(Answer("known", ContainerAcl(",".join(entries))))
    dossier = store(reading, Answer("known", AccountAcl(read_only=names)))
    rules, found = rules_of(bucket, dossier), levels(bucket, dossier)
    strangers = {"anyone": ANONYMOUS, "any-account": Caller("909090909090", "arn:aws:iam::909090909090:user/stranger")}
    for audience, caller in strangers.items():
        for verb, action in (("read", "s3:GetObject"), ("list", "s3:ListBucket")):
            passed = [
                decide(rules, Request(action, "a", caller, always_carried(anonymous=caller.anonymous, arn=caller.arn)
                                      | {REFERER_HOST: (host,), "aws:sourceip": ("203.0.113.9",)})).allowed
                for host in HOSTS
            ]  # fmt: skip
            assert (found[audience, verb] == "open") >= any(passed), (entries, audience, verb, passed)
            if found[audience, verb] == "open":
                assert any(passed) or any("x.bad" in entry or entry == ".r:-unknown" for entry in entries)


@pytest.fixture
def two_doors(tmp_path: Path) -> Any:
    """`harbour` with a second door that estate.yaml does not name."""
    held = with_door(saltmarsh.harbour())
    door = SwiftDoor(held, saltmarsh.MOMENT, HARBOUR_USERS, HARBOUR_ACCOUNT)
    with serve(Standin(held, saltmarsh.MOMENT, door=door).application()) as address:
        yield address, estate_for(tmp_path / "ws", address)


@pytest.mark.parametrize("status", [503, 403])
@pytest.mark.parametrize("trouble", ["/swift/info", "/info", "/"])
def test_what_stands_in_front_of_a_store_never_tells_that_there_is_no_door_and_no_gateway(
    tmp_path: Path, trouble: str, status: int
) -> None:
    """It is busy, or refuses what is not signed: that tells nothing of what is behind it."""
    held = saltmarsh.harbour() if trouble == "/info" else with_door(saltmarsh.harbour())
    door = None if trouble == "/info" else SwiftDoor(held, saltmarsh.MOMENT, HARBOUR_USERS, HARBOUR_ACCOUNT)
    store = Standin(held, saltmarsh.MOMENT, door=door)

    async def either(request: web.Request) -> web.StreamResponse:
        signed = "authorization" in request.headers
        busy = request.path == trouble and not signed
        return web.Response(status=status, text="Go away") if busy else await store._serve(request)

    with serve(answering(either)) as address:
        folder = estate_for(tmp_path / "ws", address)
        assert lantern("survey", "--only", "harbour/boat-logs", "--only", "harbour/permit-scans", cwd=folder).code == 0
    dossier = decode(next((folder / "surveys").glob("*/stores/harbour.json")).read_bytes(), "harbour.json")
    if trouble == "/":
        assert dossier.software.unread and str(status) in dossier.software.note
        return
    facts = {f["fact"]: f for f in json.loads(lantern("show", "permit-scans", "--json", cwd=folder).out)["facts"]}
    assert facts["exposure.read"]["value"] is None and str(status) in facts["exposure.read"]["note"]


def add_door(estate: Path, entry: str) -> None:
    """Name one more door of the store that an estate file of the demo has."""
    text = estate.read_text()
    assert text.count("    doors:\n") == 1
    estate.write_text(text.replace("    doors:\n", f"    doors:\n      {entry}\n"))


def test_a_second_door_is_found_and_the_lines_to_add_make_everything_known(two_doors: tuple[str, Path]) -> None:
    address, folder = two_doors
    told = lantern("reach", cwd=folder)
    line = f"swift: {{at: {address}/swift/v1, credential: {{environment: NAME}}}}"
    assert line in told.out
    assert "what its swift door opens" in told.out
    assert lantern("survey", cwd=folder).code == 0
    shown = json.loads(lantern("show", "boat-logs", "--json", cwd=folder).out)["facts"]
    facts = {fact["fact"]: fact for fact in shown}
    assert facts["exposure.read"]["value"] is None
    assert "estate.yaml does not name that door" in facts["exposure.read"]["note"]
    file = folder / "estate.yaml"
    add_door(file, line.replace("NAME", "DOOR"))
    user, known = next(iter(HARBOUR_USERS.items()))
    assert lantern("survey", cwd=folder, DOOR_USER=user, DOOR_KEY=known.key).code == 0
    facts = {f["fact"]: f for f in json.loads(lantern("show", "boat-logs", "--json", cwd=folder).out)["facts"]}
    assert (facts["exposure.read"]["value"], facts["container-acl.read"]["value"]) == ("open", ".r:*,.rlistings")
    facts = {f["fact"]: f for f in json.loads(lantern("show", "launch-2027", "--json", cwd=folder).out)["facts"]}
    assert facts["container-acl.read"]["value"] == ".rlistings"
    assert facts["exposure.list"]["value"] == "closed"


def test_a_door_whose_key_is_refused_leaves_exposure_unknown(two_doors: tuple[str, Path]) -> None:
    address, folder = two_doors
    file = folder / "estate.yaml"
    add_door(file, f"swift: {{at: {address}/swift/v1, credential: {{environment: DOOR}}}}")
    assert lantern("survey", cwd=folder, DOOR_USER="trust:reading", DOOR_KEY="wrong").code == 0
    result = json.loads(lantern("exposure", "--json", cwd=folder).out)
    rows = {row["bucket"]: {v["verdict"] for v in row["exposure"]["anyone"].values()} for row in result["buckets"]}
    # an explicit Deny refuses at every door
    assert {name for name, found in rows.items() if "closed" in found} == {"partner-feed"}
    assert rows["launch-2027"] == {"unknown"}


def test_what_a_front_hands_out_past_a_closed_bucket_is_critical_drift(tmp_path: Path) -> None:
    async def careless(request: web.Request) -> web.Response:
        return web.Response(text="come in")

    front = web.Application()
    front.router.add_route("*", r"/{tail:[\s\S]*}", careless)
    with serve(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application()) as address, serve(front) as pages:
        folder = estate_for(tmp_path / "ws", address)
        file = folder / "estate.yaml"
        add_door(file, f"web: {{at: {pages}}}")
        assert lantern("survey", "--probe", "--only", "harbour/boat-logs", "--only", "harbour/gallery-web",
                       cwd=folder).code == 0  # fmt: skip
        drift = json.loads(lantern("audit", "--json", cwd=folder).out)["drift"]
    bypassed = {(d["bucket"], d["severity"]) for d in drift if d["fact"] == "front-bypass"}
    assert bypassed == {("boat-logs", "critical")}  # gallery-web is open anyway


def test_no_key_that_a_store_shows_its_owners_is_kept_or_printed(lived: Lived) -> None:
    written = b"".join(file.read_bytes() for file in lived.folder.rglob("*") if file.is_file())
    assert PLANTED_KEY.encode() not in written
    assert PLANTED_KEY not in lived.out
    shown = lived.run("show", "lagoon/old-minutes", "--evidence", "--json").out
    assert PLANTED_KEY not in shown
    facts = {fact["fact"]: fact["value"] for fact in json.loads(shown)["facts"]}
    assert facts["temporary-url-key"] == "on"


def settled_facts(dossier: Dossier) -> dict[tuple[str, str], object]:
    """What is settled of exposure and locks, bucket by bucket."""
    (subject,) = store_subjects([dossier], None, MOMENT)
    names = [name for name in REGISTER if name.startswith(("exposure.", "lock."))]
    facts = {(view.name, name): view.fact(name) for view in subject.buckets.values() for name in names}
    return {key: fact.value for key, fact in facts.items() if fact.settled}


def test_a_denied_answer_of_a_gateway_with_a_swift_door_never_yields_another_settled_value() -> None:
    fields: dict[str, Any] = dict.fromkeys(("policy", "public_access_guards", "requester_pays"), Answer("absent"))
    fields |= {"object_acls": Answer("known", ObjectAcls()), "tenant": Answer("absent")}
    written = Answer("known", [Grant("named", "full-control", "keeper"), Grant("anyone", "write")])
    readable = Answer("known", ObjectAcls([ObjectGrant("anyone", "read", "k", more=False)]))
    locked = Answer("known", Lock(enabled=True, mode="compliance", retention=86400))
    buckets = [
        msgspec.structs.replace(container(Answer("absent")), **fields, lock=locked, acl=written),
        msgspec.structs.replace(
            container(Answer("absent")), **fields | {"policy": Answer("known", NO_BULK_DELETION)}, name="b2",
            acl=Answer("known", []),
        ),
        msgspec.structs.replace(
            container(Answer("absent")), name="b3", owner=Answer("known", "anonymous"), enabled=Answer("known", False),
            **fields | {"policy": Answer("known", NO_BULK_DELETION), "object_acls": readable},
            acl=Answer("known", [named_grant("anonymous", "read"), Grant("anyone", "read")]),
        ),
    ]  # fmt: skip
    doors = Answer("known", [Door("swift", "http://x/swift/v1", read=True)])
    whole = store("gateway", NONE, doors=doors, protocol="s3", listing=Answer("known", 3), buckets=buckets)
    known, denied = settled_facts(whole), Answer[Any]("denied", None, "403")
    assert (known["b", "lock.way-around"], known["b", "exposure.delete"]) == (WAY_AROUND, "open")
    assert (known["b3", "exposure.read"], known["b3", "exposure.change-settings"]) == ("closed", "open")
    other = Answer("known", Software(OBJECT_GATEWAY, "20.1"))
    untried = settled_facts(msgspec.structs.replace(whole, software=other))
    assert ("b3", "exposure.read") not in untried and ("b3", "exposure.change-settings") not in untried
    for field in Dossier.__struct_fields__:
        if isinstance(getattr(whole, field), Answer):
            assert settled_facts(msgspec.structs.replace(whole, **{field: denied})).items() <= known.items(), field
    for number, bucket in enumerate(buckets):
        for field in Bucket.__struct_fields__:
            if isinstance(getattr(bucket, field), Answer):
                others = [*buckets[:number], msgspec.structs.replace(bucket, **{field: denied}), *buckets[number + 1 :]]
                less = msgspec.structs.replace(whole, buckets=others)
                assert settled_facts(less).items() <= known.items(), (bucket.name, field)
