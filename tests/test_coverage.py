"""What a survey did not look at is neither resolved nor gone nor closed, in any command."""

from __future__ import annotations

import json
import random
import re
import shutil
from collections import Counter
from collections.abc import Iterator
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from itertools import pairwise
from pathlib import Path

import msgspec
import pytest

from rusty_lantern.archive.surveys import save, unfinished
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.audit import Audit, Judge, audit
from rusty_lantern.core.audit.coverage import NO_LIMITS, Limits
from rusty_lantern.core.audit.replicas import mirrored
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.config.estate import Mirror
from rusty_lantern.core.errors import Place as PlaceInFile
from rusty_lantern.core.history.changes import changes
from rusty_lantern.core.history.drift_changes import drift_changes, drift_turns
from rusty_lantern.core.history.drift_history import audit_summary, drift_periods, drift_starts
from rusty_lantern.core.model.bucket import Bucket, LifecycleRule, Lock, ProbeAnswer
from rusty_lantern.core.model.dossier import Door, Dossier, lost_dossier
from rusty_lantern.core.model.identity import Credential
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import Demo, Lived, Ran, lantern
from tests.test_unread_laws import DENIED, ESTATE, facts, places, put
from tests.test_unread_laws import Path as Place

BASELINE = read_baseline(workspace_files("http://127.0.0.1:9")["baseline.yaml"][0], "baseline.yaml")
LATER = saltmarsh.MOMENT + timedelta(days=1)


def audited(*dossiers: Dossier, limits: Limits = NO_LIMITS) -> Audit:
    return audit(
        store_subjects(list(dossiers), None, saltmarsh.MOMENT), Judge(BASELINE, saltmarsh.MOMENT), limits=limits
    )


def unlisted(dossier: Dossier) -> Dossier:
    """The store when its buckets could not be listed."""
    return msgspec.structs.replace(dossier, listing=DENIED, buckets=[])


def lost_parts(dossier: Dossier) -> Iterator[tuple[Place, Dossier]]:
    """The store with one answer denied, each in turn; and with its buckets not listed."""
    for path in places(dossier):
        # Whether a disabled credential is disabled is not known any more: it is judged again, and may drift.
        if (path[0], path[-1]) != ("credentials", "state"):
            yield path, put(dossier, path, DENIED)
    yield ("listing",), unlisted(dossier)


@pytest.mark.parametrize("store", ["harbour", "attic", "slipway", "boathouse"])
def test_what_is_denied_turns_drift_into_nothing_but_unknown(store: str) -> None:
    whole = audited(ESTATE[store])
    before = audit_summary("a", saltmarsh.MOMENT, "", whole)
    wrong: list[object] = []
    for path, dossier in lost_parts(ESTATE[store]):
        less = audited(dossier)
        after = audit_summary("b", LATER, "", less)
        for old, new, turn in ((whole, less, "no longer known"), (less, whole, "now known")):
            turns = {turn, "new, unknown"}  # with a tag denied, what was not required may be
            wrong += [(path, one.turn, one.finding.key) for one in drift_changes(old, new) if one.turn not in turns]
        wrong += [
            (path, one) for one in (drift_turns(before, less), drift_turns(after, whole)) if set(one.counts) - _KNOWN
        ]
        wrong += [(path, one) for one in drift_periods([before, after]) if one.until]
        again = audit_summary("c", LATER + timedelta(days=1), "", whole)
        begun = drift_starts(again, [after, before])
        for open_now in whole.of("drift"):
            first = begun.get(open_now.key)
            assert first is not None
            if first.taken != saltmarsh.MOMENT:
                wrong.append((path, open_now.key, first))
    assert wrong == []


def test_of_a_new_bucket_what_is_not_known_is_told_beside_what_drifts() -> None:
    harbour = ESTATE["harbour"]
    [number] = [n for n, bucket in enumerate(harbour.buckets) if bucket.name == "payroll-drop"]
    before = msgspec.structs.replace(harbour, buckets=[one for one in harbour.buckets if one.name != "payroll-drop"])
    after = put(harbour, ("buckets", number, "policy"), DENIED)
    told = {
        one.finding.requirement.fact: (one.turn, one.after)
        for one in drift_changes(audited(before), audited(after))
        if one.finding.name == "payroll-drop"
    }
    assert told["exposure.read"] == told["exposure.write"] == ("new, unknown", "unknown")
    assert drift_turns(audit_summary("a", LATER, "", audited(before)), audited(after)).counts["new, unknown"] == 0


_KNOWN = {"now known", "no longer known", "new, unknown"}


def test_a_store_that_was_not_read_resolves_nothing_and_one_that_is_read_again_brings_nothing_new() -> None:
    both, harbour = [ESTATE["attic"], ESTATE["harbour"]], ESTATE["harbour"]
    drifts = Counter(one.store for one in audited(*both).of("drift"))
    without = {"unread": audited(unlisted(ESTATE["attic"]), harbour), "not in it": audited(harbour)}
    for name, less in without.items():
        lost = [one for one in drift_changes(audited(*both), less) if one.finding.status == "drift"]
        came = drift_changes(less, audited(*both))
        assert {one.turn for one in lost} == {"no longer known"}, name
        assert {one.turn for one in came} == {"now known"}, name
        assert {one.finding.store for one in (*lost, *came)} == {"attic"}, name
        assert len(came) == len(lost) <= drifts["attic"], name


def test_a_survey_that_was_limited_is_compared_on_what_it_looked_at() -> None:
    harbour = ESTATE["harbour"]
    [mine] = [bucket for bucket in harbour.buckets if bucket.name == "press-kit"]
    closed = msgspec.structs.replace(mine, versioning=Answer("absent"))
    for listed in ([mine], [closed]):
        small = msgspec.structs.replace(harbour, buckets=listed, listing=Answer("known", 1))
        part, whole = audited(small, limits=Limits(["harbour/press-kit"])), audited(harbour, ESTATE["attic"])
        for old, new in ((whole, part), (part, whole)):
            assert {one.finding.name for one in drift_changes(old, new) if one.finding.kind == "bucket"} <= {
                "press-kit"
            }
            assert {one.finding.store for one in drift_changes(old, new)} <= {"harbour"}
        stores = [store_subjects(d, None, saltmarsh.MOMENT) for d in ([harbour, ESTATE["attic"]], [small])]
        found = changes(stores[0], stores[1], (NO_LIMITS, Limits(["harbour/press-kit"])))
        found += changes(stores[1], stores[0], (Limits(["harbour/press-kit"]), NO_LIMITS))
        assert not [one for one in found if one.change in ("new", "gone")]
        assert {one.name for one in found if one.subject == "bucket"} <= {"press-kit"}


def test_what_else_is_known_of_a_store_is_compared_though_its_buckets_are_not_listed() -> None:
    attic = ESTATE["attic"]
    left = [*(attic.credentials.value or ()), Credential(id="SMTNEW00000000000001", owner="admin")]
    after = msgspec.structs.replace(unlisted(attic), credentials=Answer("known", left))
    old, new = (store_subjects([one], None, saltmarsh.MOMENT) for one in (attic, after))
    found = changes(old, new)
    assert ("new", "credential") in {(one.change, one.subject) for one in found}
    assert ("no longer known", "store") in {(one.change, one.subject) for one in found}
    assert not [one for one in found if one.subject == "bucket"]


NAMED = {name: msgspec.structs.replace(dossier, store=name) for name, dossier in ESTATE.items()}
LIMITS = ("harbour/p*", "attic/*", "harbour/*", "*/b*", "skerry/permit-*")


def less(dice: random.Random) -> tuple[list[Dossier], Limits]:
    """The estate as a survey may find it: limited, with stores that do not answer, with answers that are denied."""
    only = [dice.choice(LIMITS)] if dice.random() < 0.3 else []
    limits = Limits(only, {name: ["*a*"] for name in NAMED if dice.random() < 0.2})
    found = []
    for name, dossier in NAMED.items():
        if only and not any(fnmatchcase(name, pattern.partition("/")[0]) for pattern in only):
            continue
        if dice.random() < 0.15:
            found.append(lost_dossier(name, "", saltmarsh.MOMENT, DENIED))
            continue
        field = dice.choice(["", "identities", "credentials", "encryption_keys", "account", "public_access_guards"])
        read = msgspec.structs.replace(dossier, **{field: DENIED}) if field else dossier
        buckets = [
            msgspec.structs.replace(one, **{dice.choice(["policy", "acl", "versioning", "tags"]): DENIED})
            if dice.random() < 0.2 else one
            for one in dossier.buckets if limits.take_in(name, one.name)
        ]  # fmt: skip
        found.append(msgspec.structs.replace(read, buckets=buckets))
    return found, limits


@pytest.mark.parametrize("seed", range(8))
def test_whatever_surveys_miss_of_an_estate_that_stays_as_it_is_nothing_is_news(seed: int) -> None:
    """But for links: whether one still works may not be known any more, and it is judged as if it did."""
    dice = random.Random(seed)
    surveys = [less(dice) for _ in range(4)]
    audits = [audited(*dossiers, limits=limits) for dossiers, limits in surveys]
    standings = [audit_summary(f"{n}", LATER + timedelta(days=n), "", one) for n, one in enumerate(audits)]
    news: list[object] = [one for one in drift_periods(standings) if one.until and one.key[1] != "link"]
    for (old, new), (before, after) in zip(pairwise(surveys), pairwise(audits), strict=True):
        told = drift_changes(before, after)
        news += [one for one in told if one.turn not in _KNOWN and one.finding.kind != "link"]
        stores = [store_subjects(dossiers, None, saltmarsh.MOMENT) for dossiers, _ in (old, new)]
        found = changes(stores[0], stores[1], (old[1], new[1]))
        news += [one for one in found if one.change not in _KNOWN and one.subject != "link"]
    assert news == []


def test_buckets_that_only_the_administration_door_lists_are_not_gone_when_it_is_shut() -> None:
    harbour = ESTATE["harbour"]
    own = [bucket for bucket in harbour.buckets if bucket.name < "p"]
    doors = Answer("known", [Door("admin", "http://127.0.0.1:9", note="AccessDenied")])
    shut = msgspec.structs.replace(harbour, buckets=own, listing=Answer("known", len(own)), doors=doors)
    hidden = {bucket.name for bucket in harbour.buckets} - {bucket.name for bucket in own}
    for old, new, sort in ((harbour, shut, "no longer known"), (shut, harbour, "now known")):
        turns = {one.turn for one in drift_changes(audited(old), audited(new)) if one.finding.name in hidden}
        assert turns == {sort}
        before, after = (store_subjects([one], None, saltmarsh.MOMENT) for one in (old, new))
        told = {(one.change, one.name, one.note) for one in changes(before, after) if one.name in hidden}
        assert told == {(sort, name, "the administration door was not read: AccessDenied") for name in hidden}


def test_an_anonymous_test_that_was_not_made_again_resolves_nothing() -> None:
    harbour = ESTATE["harbour"]
    names = {"permit-archive", "old-website"}
    answers = {
        let_in: [ProbeAnswer("read", "GET /a", "200" if let_in else "403", let_in=let_in)] for let_in in (True, False)
    }

    def tested(**let_in: bool) -> Audit:
        buckets = [
            msgspec.structs.replace(one, anonymous_test=Answer("known", answers[let_in[one.name.replace("-", "_")]]))
            if one.name.replace("-", "_") in let_in else one
            for one in harbour.buckets if one.name in names
        ]  # fmt: skip
        return audited(msgspec.structs.replace(harbour, buckets=buckets, listing=Answer("known", len(buckets))))

    wrong, right = tested(old_website=True), tested(old_website=False, permit_archive=False)
    for later, turn in (
        (tested(), "no longer known"),
        (tested(permit_archive=False), "no longer known"),
        (right, "resolved"),
    ):
        told = [one.turn for one in drift_changes(wrong, later) if one.finding.requirement.fact == "anonymous-test"]
        assert told == [turn]
        standings = [audit_summary("a", saltmarsh.MOMENT, "", wrong), audit_summary("b", LATER, "", later)]
        ended = [one for one in drift_periods(standings) if one.until and one.key[3] == "anonymous-test"]
        assert bool(ended) is (turn == "resolved")
    turned = {one.finding.requirement.fact: one.turn for one in drift_changes(tested(), wrong)}
    assert turned == {"anonymous-test": "now known", "exposure.read": "new"}


@pytest.mark.parametrize(("again", "turn"), [(None, "no longer known"), (False, "resolved"), (True, None)])
def test_public_access_that_the_anonymous_test_alone_showed_ends_with_another_test_alone(
    again: bool | None, turn: str | None
) -> None:
    """Whatever the rules say of it: the store let a request in, and nobody asked it again."""
    harbour = ESTATE["harbour"]
    bucket = next(one for one in harbour.buckets if one.name == "old-website")

    def surveyed(let_in: bool | None) -> Dossier:
        answer = [] if let_in is None else [ProbeAnswer("read", "GET /a", "", let_in=let_in)]
        test = Answer("known", answer) if answer else bucket.anonymous_test
        one = msgspec.structs.replace(bucket, anonymous_test=test)
        return msgspec.structs.replace(harbour, buckets=[one], listing=Answer("known", 1))

    before, after = audited(surveyed(True)), audited(surveyed(again))
    of_reading = [one for one in drift_changes(before, after) if one.finding.requirement.fact == "exposure.read"]
    assert [one.turn for one in of_reading] == ([turn] if turn else [])
    earlier, later = audit_summary("a", saltmarsh.MOMENT, "", before), audit_summary("b", LATER, "", after)
    assert drift_turns(earlier, after).counts == Counter(one.turn for one in drift_changes(before, after))
    ended = [one for one in drift_periods([earlier, later]) if one.until and one.key[3] == "exposure.read"]
    assert bool(ended) is (turn == "resolved")
    old, new = (store_subjects([surveyed(let_in)], None, saltmarsh.MOMENT) for let_in in (True, again))
    told = {one.change for one in changes(old, new) if one.fact == "exposure.read"}
    assert told == ({"now known"} if turn == "resolved" else set())


@pytest.mark.parametrize("store", ["harbour", "attic", "slipway", "dunes"])
def test_of_a_few_buckets_of_a_store_nothing_is_said_that_needs_all_of_them(store: str) -> None:
    dossier, dice = ESTATE[store], random.Random(store)
    before = facts(dossier)
    wrong = []
    for _ in range(6):
        few = dice.sample(dossier.buckets, dice.randrange(len(dossier.buckets)))
        for subject, fact in facts(msgspec.structs.replace(dossier, buckets=few)).items():
            was = before[subject]
            if fact.settled and (fact.state, fact.value) != (was.state, was.value):
                wrong.append((subject, was.value, fact.value))
    assert wrong == []


def test_a_mirror_of_which_a_side_was_limited_is_not_told_to_lack_buckets() -> None:
    harbour, skerry = ESTATE["harbour"], ESTATE["skerry"]
    mirror = Mirror("harbour", "skerry", ("permit-*",), 3600, PlaceInFile("estate.yaml", 1))
    for small, others in ((msgspec.structs.replace(skerry, buckets=skerry.buckets[:1]), harbour),
                          (msgspec.structs.replace(harbour, buckets=harbour.buckets[:1]), skerry)):  # fmt: skip
        found = list(mirrored(store_subjects([small, others], None, saltmarsh.MOMENT), (mirror,)))
        assert found
        assert {one.fact("mirror.content").value for one in found} <= {None, "same", "within-lag"}
        assert any(not one.fact("mirror.content").settled for one in found)


# --- the commands


def _lost(demo: Demo, folder: Path) -> Path:
    """The demo's workspace, surveyed once more when its store does not answer."""
    shutil.copytree(demo.folder, folder)
    estate = folder / "estate.yaml"
    estate.write_text(estate.read_text().replace(demo.address, "http://127.0.0.1:9"))
    assert lantern("survey", "--as-of", "2026-11-03T06:00:00Z", cwd=folder).code == 3
    return folder


LISTINGS = (
    "buckets", "exposure", "retention", "objects", "encryption", "access", "remedy", "usage", "credentials", "links",
)  # fmt: skip


def test_a_store_that_does_not_answer_is_told_of_by_every_command(demo: Demo, tmp_path: Path) -> None:
    folder = _lost(demo, tmp_path / "ws")
    for command in LISTINGS:
        ran = lantern(command, cwd=folder)
        assert "store harbour was not read" in ran.out, command
        assert list(json.loads(lantern(command, "--json", cwd=folder).out)["unread_stores"]) == ["harbour"], command
    first = lantern("audit", cwd=folder).out
    assert re.search(r"since 2026-11-02T06:00:00Z: 0 new, 0 worse, 0 resolved, \d+ drifts no longer known", first)
    assert re.search(r"What to do first\n  1\. lantern reach +not read: harbour\n", first)
    assert "Public now\n  nothing known\n  public access not determined: the buckets of harbour\n" in first
    told = lantern("changes", cwd=folder).out
    assert re.search(r"changes? · 0 drifts new or worse · 0 resolved · \d+ no longer known", told)
    assert "0 resolved" not in lantern("history", cwd=folder).out  # none is told of
    assert "gone" not in told


def test_what_is_declared_in_a_store_that_was_not_read_is_not_called_missing(demo: Demo, tmp_path: Path) -> None:
    folder = _lost(demo, tmp_path / "ws")
    declared = folder / "declared"
    (declared / "harbour").mkdir(parents=True)
    (declared / "harbour" / "press-kit.yaml").write_text("{name: press-kit, versioning: {state: on}}")
    (declared / "unplaced.yaml").write_text("{name: nowhere}")
    ran = lantern("changes", "--declared", "declared", "--json", cwd=folder)
    rows = json.loads(ran.out)
    assert list(rows["unread_stores"]) == ["harbour"]
    assert {(row["name"], row["change"]) for row in rows["changes"]} == {
        ("press-kit", "no longer known"), ("nowhere", "no longer known"),
    }  # fmt: skip
    shutil.rmtree(declared / "harbour")
    assert "declared, and in no store" in lantern("changes", "20261102", "--declared", "declared", cwd=folder).out


def test_a_limited_survey_says_so_and_the_next_is_compared_with_the_last_whole_one(demo: Demo, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(demo.folder, tmp_path / "ws"))
    only = ("--only", "harbour/press-kit", "--as-of", "2026-11-03T06:00:00Z")
    assert lantern("survey", *only, cwd=folder).code == 0
    told = lantern("changes", cwd=folder).out
    assert "the later survey was limited to harbour/press-kit: nothing else is compared" in told
    assert "gone" not in told
    assert "0 resolved" in told
    assert "since 2026-11-02T06:00:00Z: 0 new, 0 worse, 0 resolved" in lantern("audit", cwd=folder).out
    assert lantern("survey", "--as-of", "2026-11-04T06:00:00Z", cwd=folder).code == 0
    assert "since 2026-11-02T06:00:00Z: 0 new, 0 worse, 0 resolved" in lantern("audit", cwd=folder).out


def test_a_store_that_the_estate_file_limits_from_now_on_lost_no_bucket(demo: Demo, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(demo.folder, tmp_path / "ws"))
    estate = folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("  harbour:\n", '  harbour:\n    only: [press-kit, "gallery-*"]\n'))
    assert lantern("survey", "--as-of", "2026-11-03T06:00:00Z", cwd=folder).code == 0
    told = lantern("changes", cwd=folder).out
    assert "the later survey was limited to press-kit, gallery-* of harbour by estate.yaml" in told
    assert "gone" not in told
    assert "· 0 resolved" in told
    for command in ("audit", "exposure", "credentials"):
        assert "estate.yaml limits harbour to press-kit, gallery-*" in lantern(command, cwd=folder).out, command
    people = json.loads(lantern("credentials", "--json", cwd=folder).out)["identities"]
    assert {row["name"] for row in people if row["can"] == ""} == set()


def test_an_encryption_key_of_a_store_whose_buckets_were_not_listed_is_not_said_to_protect_none(
    lived: Lived, tmp_path: Path
) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    estate = folder / "estate.yaml"
    assert lantern("survey", "--only", "harbour/*", "--only", "lagoon/*", cwd=folder).code == 3
    rows = json.loads(lantern("encryption", "--json", cwd=folder).out)["keys"]
    assert rows
    assert {row["unknown"].get("buckets") for row in rows} == {"not all buckets of the store were read"}, estate
    assert "which buckets are encrypted with it is unknown" in _deadlines(folder)


def _deadlines(folder: Path) -> str:
    until = datetime.fromisoformat("2026-11-05T00:00:00Z")
    return lantern("audit", "--as-of", f"{until:%Y-%m-%d}", cwd=folder).out


def test_an_output_that_cannot_be_written_is_said_to_be_so(demo: Demo) -> None:
    import subprocess

    from tests.conftest import PROGRAM

    for words in (["audit"], ["audit", "--json"], ["--version"]):
        with Path("/dev/full").open("w") as full:
            ran = subprocess.run(
                [PROGRAM, *words], cwd=demo.folder, stdout=full, stderr=subprocess.PIPE, text=True, check=False
            )
        said = Ran(ran.returncode, "", ran.stderr)
        assert said == Ran(2, "", "lantern: the output cannot be written: No space left on device\n"), words


WRITING = (
    "objects press-kit --out {}/x.csv", "objects press-kit --out {}/x.parquet", "figure exposure --out {}/x.svg",
    "audit --format csv --out {}/x.csv", "dossier export harbour --out {}/x.json", "report --out {}/x.html",
    "report --evidence {}/x.zip", "baseline draft --out {}/x.yaml", "survey --log {}/x.jsonl",
    "retention permit-archive --timeline {}/x.svg", "init --signing-key {}/x.key", "init {}", "demo {}",
)  # fmt: skip
MAKES_ITS_FOLDER = ("report --evidence", "init", "demo")


@pytest.mark.parametrize("words", WRITING)
def test_a_file_that_cannot_be_written_there_is_told_with_what_to_do(demo: Demo, tmp_path: Path, words: str) -> None:
    file = tmp_path / "file"
    file.touch()
    ways = {file: "name another place"}
    if not words.startswith(MAKES_ITS_FOLDER):
        ways[tmp_path / "none"] = "make the folder that it is to be in"
    for folder, remedy in ways.items():
        ran = demo.run(*words.format(folder / "deeper" if folder == file and "x" not in words else folder).split())
        assert (ran.code, ran.out) == (2, ""), ran
        assert str(folder) in ran.err
        assert ran.err.endswith(f"{remedy}\n"), ran.err
    assert [one.name for one in tmp_path.iterdir()] == ["file"], "nothing half-written is left"
    assert unfinished(demo.folder / "surveys") == [], "nothing that could be gone on with"
    assert file.read_bytes() == b""


def test_buckets_of_which_nothing_was_read_are_told_of_wherever_they_are_counted(demo: Demo, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(demo.folder, tmp_path / "ws"))
    bare = [
        Bucket(name=one.name, **{f: DENIED for f in Bucket.__struct_fields__ if f != "name"})
        for one in ESTATE["harbour"].buckets
    ]
    dossier = msgspec.structs.replace(ESTATE["harbour"], buckets=bare)
    save(folder / "surveys", "denied", LATER, [dossier])
    ran = {name: lantern(name, cwd=folder).out for name in ("access", "encryption", "exposure", "buckets", "remedy")}
    assert "no rules that were read name such an identity" in ran["access"]
    assert f"and {len(bare) - 3} more  the rules are not all known: the policy" in " ".join(ran["access"].split("\n"))
    assert f"0 without encryption · of {len(bare)} it is unknown · no encryption key known" in ran["encryption"]
    assert "·  " not in ran["exposure"]
    assert "closed" not in ran["buckets"]
    assert "its documents" not in ran["remedy"]
    assert "0 resolved" in lantern("changes", cwd=folder).out


def test_a_store_of_which_nothing_is_known_is_never_without_drift(tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text("estate: t\nstores:\n  x: {reads: dossier, at: x.json}\n")
    (tmp_path / "x.json").write_text(
        '{"dossier": 3, "store": "x", "taken": "2026-11-01T06:00:00Z", "buckets": [{"name": "b"}]}'
    )
    (tmp_path / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: s\n  require: {versioning: on, objects.encryption: provider-managed}\n"
    )
    assert lantern("survey", cwd=tmp_path).code == 0
    audit = lantern("audit", cwd=tmp_path).out
    assert "no known drift   2 unknown   0 waived   0 ok" in audit
    assert "have the document tell it too (docs/exports.md)" in audit
    assert "no requirement on objects was checked" in lantern("objects", cwd=tmp_path).out
    assert lantern("remedy", cwd=tmp_path).out.endswith("no known drift  2 unknown\n")
    (tmp_path / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: s\n  of: {store: elsewhere}\n  require: {versioning: on}\n"
    )
    ran = lantern("audit", "--quiet", cwd=tmp_path)
    assert "nothing was checked: the baseline requires nothing of these subjects" in ran.out
    assert 'sheet "s" applies to nothing that was surveyed' in ran.err


def test_a_rule_is_not_said_to_wait_for_a_retention_that_is_not_known() -> None:
    rule = LifecycleRule("r", True, "", expires=86_400)
    values = {}
    for unread in ("", "the management side alone says how long"):
        lock = Lock(enabled=True, whole=True, default_unread=unread)
        bucket = Bucket(name="b", lock=Answer("known", lock), lifecycle=Answer("known", [rule]))
        [store] = store_subjects([Dossier(store="s", taken=saltmarsh.MOMENT, buckets=[bucket])], None, saltmarsh.MOMENT)
        values[unread] = store.buckets["b"].fact("lifecycle.against-retention").value
    assert list(values.values()) == ["off", None]
