"""What changed between two surveys: facts, access as sets, drift, and protection of objects that became weaker."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.audit import Audit, Judge, audit
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.history.attribution import Attribution
from rusty_lantern.core.history.changes import Change, changes
from rusty_lantern.core.history.drift_changes import drift_changes
from rusty_lantern.core.history.event import Event
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant
from rusty_lantern.core.model.bucket import Bucket, Versioning
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.core.model.dossier import Dossier, Software
from rusty_lantern.core.model.identity import AttachedPolicy, Credential
from rusty_lantern.core.model.resources import Link
from rusty_lantern.simulator.contents import StandinKey, StoreContents
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.harbour_identities import beside
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.beside import joined
from tests.conftest import Ran, lantern
from tests.test_holders import estates

EARLIER = saltmarsh.MOMENT - timedelta(days=31)


def _changed(dossier: Dossier, **buckets: Callable[[Bucket], Bucket | None]) -> Dossier:
    by = {name.replace("_", "-"): change for name, change in buckets.items()}
    made = [by[b.name](b) if b.name in by else b for b in dossier.buckets]
    kept = [bucket for bucket in made if bucket is not None]
    return msgspec.structs.replace(dossier, buckets=kept, listing=Answer("known", len(kept)))


def _with(**fields: Any) -> Callable[[Bucket], Bucket]:
    return lambda bucket: msgspec.structs.replace(bucket, **fields)


def compared(before: Dossier, after: Dossier) -> list[Change]:
    old = store_subjects([before], None, EARLIER)
    return changes(old, store_subjects([after], None, saltmarsh.MOMENT))


NOW = saltmarsh.harbour().dossier


def told(found: list[Change]) -> set[tuple[str, str, str, str, str]]:
    return {(c.change, c.name, c.fact, c.before, c.after) for c in found}


def test_a_month_shows_what_came_went_and_changed() -> None:
    before = _changed(
        NOW,
        launch_2027=lambda bucket: None,
        boat_logs=_with(versioning=Answer("known", Versioning("on"))),
        drone_orthophotos=_with(tags=Answer("denied", None, "AccessDenied")),
        members_area=_with(name="members-corner"),
    )
    keys = [key for key in NOW.credentials.value or () if key.owner != "camera-uploader"]
    keys.append(Credential(id="SMTGONE0000000000001", owner="admin", state=Answer("known", "active")))
    before = msgspec.structs.replace(before, credentials=Answer("known", keys))
    found = compared(before, NOW)
    assert told(found) == {
        ("new", "launch-2027", "", "", ""),
        ("new", "members-area", "", "", ""),
        ("gone", "members-corner", "", "", ""),
        ("changed", "boat-logs", "versioning", "on", "suspended"),
        ("now known", "drone-orthophotos", "tags.steward", "unknown", "hydrology"),
        ("now known", "drone-orthophotos", "tags.class", "unknown", "working"),
        ("now known", "drone-orthophotos", "settings.secret", "unknown", "off"),
        ("new", "camera-uploader SMTC…0330", "", "", ""),
        ("new", "camera-uploader SMTC…0090", "", "", ""),
        ("gone", "admin SMTG…0001", "", "", ""),
        ("changed", "admin SMTA…0901", "credential.active-keys-of-owner", "2", "1"),
        ("changed", "admin", "identity.active-keys", "2", "1"),
        ("changed", "camera-uploader", "identity.active-keys", "0", "2"),
    }
    assert next(c.note for c in found if c.name == "members-corner") == "looks like members-area under another name"


def test_access_is_compared_as_sets_with_a_request_for_what_was_gained() -> None:
    restriction = {"IpAddress": {"aws:SourceIp": ["198.51.100.0/24"]}}
    allow = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::gallery-web/*"}

    def policy(*statements: dict[str, Any]) -> Answer[str]:
        return Answer("known", json.dumps({"Version": "2012-10-17", "Statement": list(statements)}))

    narrow, wide = policy({**allow, "Condition": restriction}), policy({**allow, "Sid": "Reworded"})
    rewritten = policy(
        {**allow, "Sid": "One", "Condition": restriction}, {**allow, "Sid": "Two", "Condition": restriction}
    )
    states = [_changed(NOW, gallery_web=_with(policy=one)) for one in (narrow, wide, rewritten)]
    opened = [c for c in compared(states[0], states[1]) if c.change in ("gained", "lost")]
    assert {(c.change, c.audience, c.verb, c.before, c.after) for c in opened} == {
        ("gained", "anyone", "read", "restricted", "open"),
        ("gained", "any-account", "read", "restricted", "open"),
    }
    assert all(c.witness is not None and not c.witness.address.startswith("198.51.100.") for c in opened)
    assert compared(states[0], states[2]) == []  # other words, the same set
    grant = _changed(NOW, press_kit=_with(acl=Answer("known", [Grant("named", "full-control", saltmarsh.ACCOUNT)])))
    lost = compared(NOW, grant)
    assert {(c.change, c.verb, c.after) for c in lost if c.audience == "anyone"} == {("lost", "list", "closed")}


@settings(max_examples=40)
@given(estates())
def test_nothing_changed_is_no_change(dossier: Dossier) -> None:
    assert compared(dossier, dossier) == []


@settings(max_examples=25)
@given(estates(), estates())
def test_gained_and_lost_swap_when_the_order_swaps(one: Dossier, other: Dossier) -> None:
    def access(found: list[Change], sort: str) -> set[tuple[str, str, str]]:
        return {(c.name, c.audience, c.verb) for c in found if c.change == sort}

    there, back = compared(one, other), compared(other, one)
    assert access(there, "gained") == access(back, "lost")
    assert access(there, "lost") == access(back, "gained")


@settings(max_examples=25)
@given(estates(), estates())
def test_what_identities_gained_and_lost_is_told_pair_by_pair_and_nothing_else(one: Dossier, other: Dossier) -> None:
    stores = [store_subjects([dossier], None, when)[0] for dossier, when in ((one, EARLIER), (other, saltmarsh.MOMENT))]
    expected = {}
    for identity in one.identities.value or ():
        for bucket in stores[0].buckets:
            for verb in VERBS:
                own, widest = [], []
                for store in stores:
                    reach = store.across.on(store.index.identities_by_name[identity.name], bucket).get(
                        verb, Reach("closed")
                    )
                    public = [store.buckets[bucket].verdicts[audience, verb].level for audience in AUDIENCES]
                    own.append((reach.level, reach.restriction))
                    widest.append(max([reach.level, *public], key=("closed", "restricted", "unknown", "open").index))
                if own[0] != own[1] and widest[0] != widest[1] and "unknown" not in widest:
                    gained = widest[1] == "open" or widest[0] == "closed"
                    expected[identity.name, bucket, verb] = ("gained" if gained else "lost", *widest)
    assert expected == {
        (c.name, bucket, verb): (c.change, c.before, c.after)
        for c in compared(one, other) if c.change in ("gained", "lost")
        for bucket in c.buckets for verb in c.verb.split()
    }  # fmt: skip


def test_who_gets_a_bucket_more_by_the_same_permission_is_told_with_who_gave_it() -> None:
    """The verbs are what they were, and so is every fact of the identity."""

    def attached(bucket: str) -> Dossier:
        text = json.dumps({"Statement": [{"Effect": "Allow", "Action": "s3:GetObject", "Resource": [
            f"arn:aws:s3:::{name}/*" for name in ("tide-gauge-raw", bucket)
        ]}]})  # fmt: skip
        people = [
            msgspec.structs.replace(one, policies=Answer("known", [AttachedPolicy("p", text)]), groups=Answer("absent"))
            if one.name == "tide-reader" else one for one in NOW.identities.value or ()
        ]  # fmt: skip
        return msgspec.structs.replace(NOW, identities=Answer("known", people))

    before, after = attached("tide-gauge-raw"), attached("permit-archive")
    [found] = [one for one in compared(before, after) if one.change == "gained"]
    assert (found.name, found.verb, found.buckets) == ("tide-reader", "read", ("permit-archive",))
    [found] = [one for one in compared(after, before) if one.change == "lost"]
    assert (found.name, found.verb, found.buckets) == ("tide-reader", "read", ("permit-archive",))
    given = Event(EARLIER + timedelta(1), "admin", "PutUserPolicy", store="harbour", about="tide-reader")
    other = Event(EARLIER + timedelta(2), "keeper", "PutBucketPolicy", store="harbour", bucket="boat-logs")
    fence = Event(EARLIER + timedelta(3), "keeper", "PutBucketPolicy", store="harbour", bucket="permit-archive")
    for events, actors in (([given, other], ["admin"]), ([other], []), ([fence], ["keeper"])):
        record = Attribution([found], EARLIER, saltmarsh.MOMENT)
        record.feed(events)
        assert [one.actor for one in record.causes()[0]] == actors


def _opened(before: Dossier, after: Dossier) -> set[tuple[str, str]]:
    return {(c.change, c.verb) for c in compared(before, after) if c.audience == "anyone"}


def test_whatever_a_verdict_depends_on_is_compared() -> None:
    """Of the bucket and of its store: who gained access by it is told, not only that it is another."""
    read = Grant(to="anyone", identity="", permission="read")
    fields: dict[str, Any] = {**S3.of_bucket(), "object_acls": Answer("known", ObjectAcls())}
    fields |= {"public_access_guards": Answer("absent"), "ownership": Answer("known", "object-writer")}
    fields |= {"policy": Answer("absent"), "acl": Answer("known", [read])}
    nothing: Answer[Any] = Answer("absent")
    base = Dossier(
        store="s", taken=EARLIER, listing=Answer("known", 1), account=Answer("known", "400100200300"),
        public_access_guards=nothing, network=nothing, buckets=[Bucket(name="reed", **fields)],
        identities=nothing, groups=nothing, credentials=nothing, encryption_keys=nothing, links=nothing,
    )  # fmt: skip
    payer = _changed(base, reed=_with(requester_pays=Answer("known", True)))
    assert ("lost", "list") in _opened(base, payer)
    assert ("gained", "list") in _opened(payer, base)
    loose = ObjectAcls([ObjectGrant("anyone", "read", "a.txt")])
    assert ("gained", "read") in _opened(base, _changed(base, reed=_with(object_acls=Answer("known", loose))))
    root = {"Effect": "Allow", "Principal": {"AWS": "arn:aws:iam:::root"}, "Action": "s3:GetObject"}
    policy = json.dumps({"Version": "2012-10-17", "Statement": [root | {"Resource": "arn:aws:s3:::reed/*"}]})
    common = _changed(base, reed=_with(policy=Answer("known", policy)))
    gateway = msgspec.structs.replace(common, software=Answer("known", Software("", dialect="gateway-16")))
    assert ("gained", "read") in _opened(common, gateway)


@pytest.fixture(scope="module")
def months(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace with two surveys a month apart."""
    folder = tmp_path_factory.mktemp("months") / "ws"
    now = saltmarsh.harbour()
    keys: dict[str, StandinKey] = now.keys
    archive = now.versions["permit-scans"]
    before = dict(now.versions)
    gone = msgspec.structs.replace(archive[5], key="scans/99999.pdf", version="gone0001")
    before["permit-scans"] = [
        *(
            msgspec.structs.replace(v, until=v.until + timedelta(400)) if n == 7 and v.until else v
            for n, v in enumerate(archive)
        ),
        gone,
    ]
    before["boat-logs"] = [
        msgspec.structs.replace(v, hold=True) if n == 2 else v for n, v in enumerate(now.versions["boat-logs"])
    ]
    dossier = _changed(
        now.dossier,
        gallery_prints=_with(policy=next(b for b in now.dossier.buckets if b.name == "gallery-web").policy),
        payroll_drop=_with(policy=Answer("absent")),
        backups_nightly=_with(versioning=Answer("known", Versioning("never"))),
    )  # fmt: skip
    for holdings, when in ((StoreContents(dossier, keys, before), EARLIER), (now, saltmarsh.MOMENT)):
        with serve(Standin(holdings, when).application()) as address:
            files = workspace_files(address)
            if not folder.exists():
                make(folder, files)
            (folder / "estate.yaml").write_text(files["estate.yaml"][0])
            ran = lantern("survey", "--as-of", when.strftime("%Y-%m-%dT%H:%M:%SZ"), cwd=folder)
            assert ran.code == 0, ran.err
    return folder


def _run(folder: Path, *words: str) -> Ran:
    return lantern("changes", *words, cwd=folder)


def test_a_date_that_is_none_is_named_by_its_own_option_or_line(months: Path, tmp_path: Path) -> None:
    assert lantern("changes", "--since", "2020", cwd=months).err.startswith('lantern: --since: "2020" is not a date')
    asked = tmp_path / "asked.jsonl"
    asked.write_text('{"action": "s3:GetObject", "at": "noon"}\n')
    for words, named in ((("--at", "noon"), "--at"), (("--requests", str(asked)), f"{asked}:1")):
        ran = lantern("why", "harbour/press-kit", *words, cwd=months)
        assert (ran.code, named in ran.err, "noon" in ran.err) == (2, True, True), ran.err


def test_two_surveys_are_compared_by_the_installed_program(months: Path) -> None:
    ran = _run(months, "--json")
    result = json.loads(ran.out)
    assert ran.code == 0
    gained = {
        (c["name"], c["verb"]) for c in result["changes"] if c["change"] == "gained" and c["audience"] == "anyone"
    }
    assert gained == {
        ("payroll-drop", "read"),
        ("payroll-drop", "write"),
        ("gallery-prints", "list"),
        ("gallery-prints", "read"),
    }
    turns = {
        (d["change"], d["name"], d["fact"], d["before"], d["after"])
        for d in result["drift"]
        if "objects." not in d["fact"]
    }
    assert turns >= {
        ("new", "payroll-drop", "exposure.write", "closed", "open"),
        ("resolved", "backups-nightly", "versioning", "never", "on"),
    }
    assert {(w["bucket"], w["what"], w["versions"]) for w in result["weakened"]} == {
        ("permit-scans", "deleted while under retention", 1),
        ("permit-scans", "retention shortened", 1),
        ("boat-logs", "legal hold lifted", 1),
    }
    shown = _run(months).out
    assert "Access gained" in shown and "Protection weakened" in shown and "GET /payroll-drop/" in shown
    only = json.loads(_run(months, "--only", "harbour/backups-*", "--json").out)
    assert {c["name"] for c in only["changes"]} == {"backups-nightly"}


@pytest.mark.parametrize("words,told_words", [
    (("20261102", "20261002"), "is not before"),
    (("2026",), "more than one survey begins with"),
    (("--since", "soon"), "is not a date"),
])  # fmt: skip
def test_changes_of_surveys_that_make_no_pair_are_refused(
    months: Path, words: tuple[str, ...], told_words: str
) -> None:
    ran = _run(months, *words)
    assert ran.code == 2 and told_words in ran.err, ran.err


def test_of_a_link_that_comes_or_goes_it_is_told_when_it_is_there_and_opens_nothing() -> None:
    known = joined(msgspec.structs.replace(NOW, protocol="s3"), beside(saltmarsh.MOMENT))
    dark = msgspec.structs.replace(known, credentials=Answer("denied", None, "AccessDenied"))
    old, later, unread = (
        store_subjects([dossier], None, saltmarsh.MOMENT + timedelta(days=days))
        for dossier, days in ((known, 0), (known, 30), (dark, 0))
    )

    def links(found: list[Change]) -> set[tuple[str, str, str]]:
        return {(one.change, one.name, one.note) for one in found if one.subject == "link" and not one.fact}

    assert links(changes(old, later)) == {("gone", "tide-gauge-raw/item-00007.csv", "now: expired")}
    assert links(changes(old, unread)) == {("new", "reedbed-notes/item-00002.csv", "before: signing key disabled")}


def test_what_happens_to_many_buckets_alike_is_told_once_with_how_many(tmp_path: Path) -> None:
    make(tmp_path / "ws", workspace_files("http://127.0.0.1:9"))
    plain = next(bucket for bucket in NOW.buckets if bucket.name == "survey-maps")
    made = [msgspec.structs.replace(plain, name=f"b-{n:03}") for n in range(240)]
    before = msgspec.structs.replace(NOW, buckets=made, listing=Answer("known", len(made)))
    denied = [_with(versioning=Answer("denied", None, "AccessDenied"))(bucket) for bucket in made]
    surveys = tmp_path / "ws" / "surveys"
    save(surveys, "x", EARLIER, [before])
    save(surveys, "x", saltmarsh.MOMENT, [msgspec.structs.replace(before, buckets=[*denied, plain])])
    ran = lantern("changes", "--json", cwd=tmp_path / "ws")
    told = [row for row in json.loads(ran.out)["changes"] if row["fact"] == "versioning"]
    assert [row["name"] for row in told] == [bucket.name for bucket in made]
    view = lantern("changes", cwd=tmp_path / "ws").out
    assert view.count("harbour/b-000 and 239 more") >= 2  # as drift, and as a setting
    assert "b-001" not in view
    assert f"{len(json.loads(ran.out)['changes'])} changes" in view


@pytest.mark.parametrize("kind", ["credential", "link"])
def test_a_second_one_that_would_have_the_name_of_a_known_one_is_new(kind: str) -> None:
    """Keys of an owner whose ids begin and end alike, and links to one object."""
    required = "credential.age: at most 90 days, link.expires: present"
    sheets = read_baseline(f"title: t\nsheets: [{{sheet: s, require: {{{required}}}}}]\n", "b")
    ages = (400, 300, 200, 10)

    def audited(*which: int) -> Audit:
        moments = [Answer("known", saltmarsh.MOMENT - timedelta(days=ages[n])) for n in which]
        keys = [Credential(id=f"harbour-key-{n:04}-prod", owner="deck", state=Answer("known", "active"), created=made)
                for n, made in zip(which, moments, strict=True)]  # fmt: skip
        links = [Link(bucket="press-kit", key="a.pdf", issued=made, expires=Answer("absent")) for made in moments]
        told = {"credentials": Answer("known", keys)} if kind == "credential" else {"links": Answer("known", links)}
        dossier = msgspec.structs.replace(NOW, identities=Answer("known", []), buckets=[], **told)
        return audit(store_subjects([dossier], None, saltmarsh.MOMENT), Judge(sheets, saltmarsh.MOMENT))

    def turned(before: Audit, after: Audit) -> list[str]:
        found = [one for one in drift_changes(before, after) if one.finding.kind == kind]
        return [f"{one.turn} {one.finding.name}" for one in found]

    drifting = {one.name for one in audited(0, 1, 2).findings if one.kind == kind and one.status == "drift"}
    [[second], [third]] = (turned(audited(0), audited(0, n)) for n in (1, 2))
    name = min(drifting)
    for told in (second, third):
        assert re.fullmatch("new " + re.escape(name) + r" \([0-9a-f]{8}\)", told)
    assert drifting == {name, second[4:], third[4:]}
    assert sorted(turned(audited(0, 1), audited(0, 2))) == sorted([f"resolved {second[4:]}", third])
    assert [one.split()[0] for one in turned(audited(0, 1), audited(1))] == ["resolved"]
