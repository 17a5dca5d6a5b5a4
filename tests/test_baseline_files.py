"""The baseline as code: files that include others, named values, drafts, examples, a schema for editors."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.archive.surveys import load
from rusty_lantern.archive.workspace import Workspace
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.evaluation import required_of
from rusty_lantern.core.baseline.loader import Baseline, read_baseline
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import Lived, lantern
from tests.saltmarsh_answers import DRIFT
from tests.subjects import audited, bucket_said, every_finding

FILES = {
    "baseline.yaml": "title: t\nvalues: {long: 7 years}\ninclude: [common/doors.yaml, common/keep.yaml]\n"
    "sheets: [{sheet: own, require: {versioning: on}}]\n",
    "common/doors.yaml": "sheets: [{sheet: doors, require: {exposure.read: closed}}]\n",
    "common/keep.yaml": "values: {long: 1 year, mode: compliance}\ninclude: [deep.yaml]\n"
    "sheets: [{sheet: keep, require: {lock.default-retention: at least $long, lock.mode: $mode}}]\n",
    "common/deep.yaml": "sheets: [{sheet: deep, of: {name: 'x$$y'}, require: {region: $mode}}]\n",
}


def _read(**changes: str) -> Baseline:
    files = FILES | {name.replace("__", "/") + ".yaml": text for name, text in changes.items()}
    return read_baseline(files["baseline.yaml"], "baseline.yaml", files.__getitem__)


def test_included_sheets_stand_first_and_keep_their_places_and_outer_values_win() -> None:
    baseline = _read()
    assert [sheet.name for sheet in baseline.sheets] == ["doors", "deep", "keep", "own"]
    keep = baseline.sheets[2].require[0]
    assert (str(keep.place), keep.comparison and keep.comparison.words) == ("common/keep.yaml:3:34", "at least 7 years")
    assert baseline.sheets[1].require[0].comparison is not None
    assert baseline.sheets[1].of.match(bucket_said("s", Bucket(name="x$y"))).yes


@pytest.mark.parametrize("changes,message", [
    ({"common__deep": "include: [keep.yaml]\n"}, "common/deep.yaml:1:11: keep.yaml includes itself"),
    ({"common__deep": "include: [doors.yaml]\n"}, "included twice"),
    ({"common__deep": "include: [../../etc/x.yaml]\n"}, "outside the baseline's folder"),
    ({"common__deep": "include: [/etc/passwd]\n"}, "outside the baseline's folder"),
    ({"common__deep": "sheets: [{sheet: deep, require: {region: $mood}}]\n"}, 'no value is called "mood"'),
    ({"common__deep": "sheets: [{sheet: keep, require: {region: x}}]\n"}, 'a sheet "keep" is already used'),
    ({"common__deep": "sheets: [{sheet: d, require: {plaice: x}}]\n"}, "common/deep.yaml:1:31: unknown fact"),
    ({"common__deep": "sheets: [{"}, "common/deep.yaml:"),
    ({"common__deep": "values: {Long: x}\n"}, "cannot name a value"),
])  # fmt: skip
def test_a_fault_in_any_file_is_told_with_its_place(changes: dict[str, str], message: str) -> None:
    with pytest.raises(BadInput, match=re.escape(message)):
        _read(**changes)


def test_a_missing_file_is_told_where_it_is_included(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    (folder / "baseline.yaml").write_text("include: [gone.yaml]\nsheets: []\n")
    ran = lantern("audit", cwd=folder)
    assert (ran.code, ran.out) == (2, "")
    assert "gone.yaml is missing" in ran.err
    (folder / "gone.yaml").write_text("sheets: [{sheet: s, require: {exposure.read: closed}}]\n")
    drift = json.loads(lantern("audit", "--json", cwd=folder).out)["drift"]
    assert {d["line"] for d in drift if d["subject"] == "bucket"} == {"gone.yaml:1:31"}


SHEETS = st.lists(
    st.fixed_dictionaries(
        {
            "of": st.sampled_from(["", "a*", "b*", "*"]),
            "fact": st.sampled_from(["versioning", "region", "lock.mode"]),
            "is": st.sampled_from(["absent", "present", "anything"]),
        }
    ),
    min_size=1,
    max_size=8,
)


@given(SHEETS, st.sampled_from(["ab", "ba", "cc"]))
def test_the_cascade_is_order_true(sheets: list[dict[str, str]], name: str) -> None:
    """For each fact the last sheet that speaks of the bucket has its way, whatever stands elsewhere."""
    made = [
        {"sheet": f"s{n}", "require": {one["fact"]: one["is"]}} | ({"of": {"name": one["of"]}} if one["of"] else {})
        for n, one in enumerate(sheets)
    ]
    baseline = read_baseline(json.dumps({"sheets": made}), "b")
    last: dict[str, str] = {}
    for one in sheets:
        if not one["of"] or one["of"] == "*" or name.startswith(one["of"][0]):
            last[one["fact"]] = one["is"]
    found = required_of(baseline, bucket_said("s", Bucket(name=name, tags=Answer("known", {}))))
    words = {r.requirement.fact: r.requirement.comparison.words for r in found if r.requirement.comparison}
    assert words == {fact: word for fact, word in last.items() if word != "anything"}


@given(st.randoms(use_true_random=False))
def test_judging_is_a_function_of_its_inputs_alone(random: Any) -> None:
    """The order in which buckets stand in a dossier, and judging before, change nothing."""
    import msgspec

    dossier = saltmarsh.harbour().dossier
    some = random.sample(dossier.buckets, 8)
    baseline = read_baseline("sheets: [{sheet: s, require: {exposure.read: closed, versioning: on, logging: on}}]", "b")
    judged = [
        every_finding(audited([msgspec.structs.replace(dossier, buckets=buckets)], baseline, saltmarsh.MOMENT))
        for buckets in (some, some[::-1])
    ]
    assert judged[0] == judged[1]


# --- drafts


def test_a_draft_audits_clean_and_asks_the_right_questions(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    ran = lantern("baseline", "draft", "--out", "first.yaml", cwd=folder)
    assert ran.code == 0, ran.err
    drafted = (folder / "first.yaml").read_text()
    (folder / "first.yaml").replace(folder / "baseline.yaml")
    audited = lantern("audit", "--json", cwd=folder)
    assert audited.code == 0
    assert json.loads(audited.out)["counts"] | {"ok": 0} == {"ok": 0, "drift": 0, "waived": 0, "unknown": 0}
    asked = {
        (json.loads(name).removeprefix("harbour/"), question.split(" is ")[0].partition(": ")[2])
        for question in drafted.split("# Question ")[1:]
        for name in re.findall(r'#   ("(?:[^"\\]|\\.)*"):', question)
    }
    common = ("exposure.read", "exposure.write", "exposure.list", "versioning", "encryption.at-rest", "logging",
              "cross-origin", "notifications.outside", "tags.steward", "object-acls.enabled")  # fmt: skip
    assert {(bucket, fact) for bucket, fact in DRIFT if fact in common} <= asked
    assert ("gallery-web", "exposure.read") in asked  # open on purpose, which a survey cannot know
    assert ("partner-feed", "exposure.read") in asked or ("partner-feed", "exposure.read") not in DRIFT
    assert lantern("baseline", "draft", "--out", "baseline.yaml", cwd=folder).code == 2


def test_a_draft_counts_who_has_what_it_requires_and_asks_nobody_for_the_worse(lived: Lived) -> None:
    drafted = yaml.load(written := lived.run("baseline", "draft").out, yaml.BaseLoader)
    first = drafted["sheets"][0]
    assert first["sheet"] == "every bucket"
    place = Workspace(lived.folder)
    taken = load(place.surveys, None)
    views = [
        view for store in store_subjects(taken.dossiers, place.estate(), taken.manifest.taken)
        for view in store.buckets.values()
    ]  # fmt: skip
    counted = re.findall(r"^      (\S+): .*# (\d+) of (\d+)(?:, (\d+) unknown)?$", written, re.MULTILINE)
    told = {yaml.safe_load(fact): tuple(int(n or 0) for n in counts) for fact, *counts in counted}
    assert len(first["require"]) > 15
    for fact, asked in first["require"].items():
        required = read_comparison(asked["is"] if isinstance(asked, dict) else asked, lookup(fact).scale)
        seen = [view.fact(fact) for view in views]
        known = [one for one in seen if one.settled]
        fits = sum(one.value is not None and required.accepts(one.value) for one in known)
        assert told[fact] == (fits, len(known), len(seen) - len(known)), fact
        assert fits >= 0.6 * len(known) and len(known) >= 0.6 * len(seen), fact
    assert not {"identity.mfa", "versioning.mfa-delete"} & told.keys(), "most do without it, which is no rule"
    of_buckets = written.partition("- sheet: every identity")[0]
    left = re.findall(r"^  #   ([a-z-]+\.?\S*): .*# (\d+) of (\d+)(?:, (\d+) unknown)?$", of_buckets, re.MULTILINE)
    without = {fact: tuple(int(n or 0) for n in counts) for fact, *counts in left}
    unknown = set(re.findall(r"[a-z-]+(?:\.[a-z-]+)*", of_buckets.partition("it is unknown:\n")[2]))
    entries = [(name, one) for name, one in REGISTER.items() if one.subject == "bucket" and one.safe and one.habit]
    safe = {name.removesuffix("*") + word for name, one in entries for word in one.drafted or ("",)}
    assert {"access.outside", "access.through-roles"} <= first["require"].keys() & safe, "whoever is let in by name"
    assert safe <= first["require"].keys() | without.keys() | unknown, (
        "what is safe is required, or said to be left out"
    )
    assert {"versioning.mfa-delete", "lock.enabled"} <= without.keys() and "network.from" in unknown
    for fact, counts in without.items():
        required = read_comparison(lookup(fact).safe, lookup(fact).scale)
        known = [one for one in (view.fact(fact) for view in views) if one.settled]
        fits = sum(one.value is not None and required.accepts(one.value) for one in known)
        assert counts == (fits, len(known), len(views) - len(known)) and fits < 0.6 * len(known), fact


def test_a_draft_of_nothing_is_refused(workspace: Path) -> None:
    ran = lantern("baseline", "draft", cwd=workspace)
    assert (ran.code, ran.out) == (2, "")


# --- examples

EXAMPLES = """\
examples:
  - example: anyone lists a payroll bucket
    store: harbour
    bucket: {name: payroll-9, tags: {class: personal, steward: x}, region: north-shore, versioning: {state: on},
             encryption: {by: provider-managed}, logging: {target: logs}, acl: [{to: anyone, permission: read}]}
    drifts: [exposure.list]
    holds: [exposure.write, versioning]
    unknown: [logging.target-kind]
  - example: a permit without its lock
    bucket: {name: permit-9, tags: {class: permit}}
    drifts: [lock.enabled]
    also: allowed
"""


@pytest.mark.parametrize("change,code,told", [
    (("", ""), 0, "2 passed, 0 failed"),
    (("drifts: [exposure.list]", "drifts: []"), 1, "exposure.list is drift, expected ok"),
    (("holds: [exposure.write", "holds: [exposure.list"), 1, "exposure.list is drift, expected ok"),
    (("drifts: [lock.enabled]", "drifts: [lock.enabled, region]"), 0, "passed"),
    (("drifts: [lock.enabled]", "drifts: [soft-delete]"), 1, "soft-delete is not required of it"),
    (("drifts: [lock.enabled]", "drifts: [lock.enbled]"), 2, "ex.yaml:11:14: unknown fact"),
    (("bucket: {name: permit-9", "bucket: {nam: permit-9"), 2, "a declared bucket needs a name"),
])  # fmt: skip
def test_examples_pass_or_say_what_is_otherwise(
    lived: Lived, tmp_path: Path, change: tuple[str, str], code: int, told: str
) -> None:
    (tmp_path / "ex.yaml").write_text(EXAMPLES.replace(*change) if change[0] else EXAMPLES)
    ran = lantern("baseline", "test", "ex.yaml", "-w", str(lived.folder), "--as-of", "2026-11-02", cwd=tmp_path)
    assert (ran.code, told in ran.out + ran.err) == (code, True), ran.out + ran.err


def test_requirements_that_cannot_both_hold_are_told(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    (folder / "baseline.yaml").write_text(
        "sheets:\n  - {sheet: a, require: {exposure.read: closed, lock.enabled: on}}\n"
        "  - {sheet: b, require: {exposure.anyone.read: open, versioning: suspended}}\n"
    )
    ran = lantern("baseline", "check", cwd=folder)
    assert ran.code == 1
    assert "exposure.anyone.read: cannot hold together with exposure.read" in ran.out
    assert "versioning: cannot hold together with lock.enabled" in ran.out


def test_editors_get_a_schema_that_knows_the_demo_and_refuses_a_fact_that_is_none(lived: Lived) -> None:
    schema = json.loads((Path(__file__).parent.parent / "docs/schemas/baseline.json").read_text())
    baseline = yaml.safe_load((lived.folder / "baseline.yaml").read_text())
    jsonschema.Draft202012Validator(schema).validate(baseline)
    baseline["sheets"][0]["require"]["exposure.reed"] = "closed"
    with pytest.raises(jsonschema.ValidationError, match=r"exposure\.reed"):
        jsonschema.Draft202012Validator(schema).validate(baseline)


def test_a_folder_of_declared_buckets_is_tried_at_once_and_held_against_reality(lived: Lived, tmp_path: Path) -> None:
    declared = tmp_path / "declared" / "harbour"
    declared.mkdir(parents=True)
    (declared / "payroll-drop.yaml").write_text("name: payroll-drop\npolicy: ''\nversioning: {state: on}\n")
    (declared / "new.yaml").write_text("name: new-one\nacl: [{to: anyone, permission: write}]\n")
    tried = lived.run("try", str(tmp_path / "declared"), "--json")
    rows = {row["bucket"]: row for row in json.loads(tried.out)["tries"]}
    assert tried.code == 1
    assert "exposure.write" in rows["payroll-drop"]["fixed"]
    assert "exposure.write" in rows["new-one"]["new_drift"]
    left = lived.run("changes", "--declared", str(tmp_path / "declared"), "--json")
    changes = json.loads(left.out)["changes"]
    assert left.code == 0
    assert {(c["verb"], c["audience"]) for c in changes if c["change"] == "gained"} == {
        (verb, audience) for verb in ("read", "write") for audience in ("anyone", "any-account")
    }
    assert ("gone", "new-one") in {(c["change"], c["name"]) for c in changes}
    assert ("new", "boat-logs") in {(c["change"], c["name"]) for c in changes}
    (declared / "bad.yaml").write_text("nme: x\n")
    refused = lived.run("try", str(tmp_path / "declared"))
    assert (refused.code, "bad.yaml:1:1" in refused.err) == (2, True)
