"""The demo's two moments, through the installed program: every kind of change, who did it, and since when."""

from __future__ import annotations

import json
import re
import shutil
from collections import Counter
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Lived, lantern
from tests.saltmarsh_answers import (
    ALL_VERBS,
    CAME_AND_WENT,
    GAINED,
    IDENTITIES_GAINED,
    LOST,
    TURNS,
    WAIVED,
    WEAKENED,
)


@pytest.fixture(scope="module")
def changed(lived: Lived) -> dict[str, Any]:
    ran = lived.run("changes", "--events", "events.jsonl", "--json")
    assert ran.code == 0
    found: dict[str, Any] = json.loads(ran.out)
    return found


def _by(row: dict[str, Any]) -> str | None:
    assert row["causes"] is not None
    return row["causes"][0]["actor"] if row["causes"] else None


def test_access_is_gained_and_lost_and_the_record_tells_by_whom(changed: dict[str, Any]) -> None:
    for sort, expected in (("gained", GAINED), ("lost", LOST)):
        rows = [row for row in changed["changes"] if row["change"] == sort and row["subject"] == "bucket"]
        assert {(f"{row['store']}/{row['name']}", row["verb"]): _by(row) for row in rows} == expected
        assert all(row["witness"] for row in rows)


def test_what_identities_gained_is_told_with_the_buckets(changed: dict[str, Any]) -> None:
    rows = [row for row in changed["changes"] if row["change"] in ("gained", "lost") and row["subject"] == "identity"]
    assert all(row["change"] == "gained" and row["causes"] == [] for row in rows)
    verbs = {" ".join(ALL_VERBS): "all"}
    assert {
        (row["store"], row["name"], verbs.get(row["verb"], row["verb"])):
        (row["before"], row["after"], len(row["buckets"])) for row in rows
    } == IDENTITIES_GAINED  # fmt: skip


def test_a_name_that_neither_survey_has_is_not_told_to_be_unchanged(lived: Lived) -> None:
    ran = lived.run("changes", "--only", "skerry/permitt-scans")
    assert (ran.code, ran.out) == (2, "")
    assert 'did you mean "skerry/permit-scans"?' in ran.err


def test_changes_of_some_buckets_tell_who_gained_access_to_those(lived: Lived) -> None:
    found = json.loads(lived.run("changes", "--only", "skerry/permit-*", "--json").out)["changes"]
    assert [(row["name"], row["verb"], row["buckets"]) for row in found if row["change"] == "gained"] == [
        ("ferry$ticket-counter", "list read", ["permit-archive", "permit-scans"])
    ]


def test_what_came_and_went_is_told_with_who_did_it(changed: dict[str, Any]) -> None:
    rows = [r for r in changed["changes"] if r["change"] in ("new", "gone") and r["subject"] != "link"]
    assert {(r["change"], r["subject"], r["name"]): _by(r) for r in rows} == CAME_AND_WENT
    notes = {r["name"]: r["note"] for r in rows}
    assert notes["volunteer-forms"] == "looks like volunteer-sheets under another name"
    assert notes["ringing-sync SMTR…0700"] == "now: disabled"
    links = [r for r in changed["changes"] if r["subject"] == "link"]
    assert [(r["change"], r["causes"]) for r in links] == [("new", None)]  # a link is signed without asking anybody


def test_weaker_protection_is_told_version_by_version(changed: dict[str, Any]) -> None:
    assert {(r["bucket"], r["what"]): (r["versions"], _by(r)) for r in changed["weakened"]} == WEAKENED
    deleted = next(r for r in changed["weakened"] if r["what"].startswith("deleted"))
    assert deleted["causes"][0]["key"] == "permits/00044-a.pdf"


def test_drift_opens_gets_worse_closes_is_waived_and_goes_dark(changed: dict[str, Any]) -> None:
    turns = {(row["change"], row["store"], row["name"], row["fact"]) for row in changed["drift"]}
    assert turns >= TURNS


def test_what_the_record_does_not_explain_is_counted_and_refused_attempts_explain_nothing(
    changed: dict[str, Any],
) -> None:
    unexplained = [r for r in (*changed["changes"], *changed["weakened"]) if r["causes"] == []]
    assert changed["events"]["unexplained"] == len(unexplained) == 21
    actors = {event["actor"] for row in changed["changes"] for event in row["causes"] or ()}
    assert "permit-clerk" not in actors  # it tried to change a policy, and was refused


def test_an_audit_tells_since_when_and_what_is_accepted(lived: Lived) -> None:
    result = json.loads(lived.run("audit", "--json").out)
    since = {(d["name"], d["fact"]): d["since"][:10] for d in result["drift"] if d["store"] == "harbour"}
    assert since["payroll-drop", "exposure.read"] == "2026-10-02"
    assert since["boat-logs", "versioning"] == "2026-11-02"
    assert {(w["name"], w["fact"]) for w in result["waived"]} == WAIVED
    assert {w["status"] for w in result["waivers"]} == {"in force", "ends soon"}


def test_the_parts_of_an_audit_add_up_to_the_whole(lived: Lived) -> None:
    def counted(*words: str) -> Counter[str]:
        found = json.loads(lived.run("audit", "--json", *words).out)
        turned = {word: number for word, number in found["overview"]["since"].items() if isinstance(number, int)}
        return Counter(turned | found["counts"] | found["drift_by_severity"])

    whole = counted()
    rows = json.loads(lived.run("audit", "--json").out)
    rows = [*rows["drift"], *rows["unknown"], *rows["waived"], *json.loads(lived.run("changes", "--json").out)["drift"]]
    stores, kinds = {row["store"] for row in rows}, {re.sub(r"[.].*", ".*", row["fact"]) for row in rows}
    assert min(whole["new"], whole["worse"], whole["resolved"]) > 5
    assert sum((counted("--store", store) for store in stores), Counter()) == +whole
    by_kind = sum((counted("--fact", kind) for kind in kinds), Counter())
    assert by_kind - Counter(ok=by_kind["ok"]) == whole - Counter(ok=whole["ok"])
    some = [counted("--severity", severity) for severity in ("critical", "high", "medium", "low")]
    assert all(fewer <= more for fewer, more in pairwise(some))
    assert +some[-1] == +whole


def test_drift_that_reaches_further_comes_first_within_its_severity(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    file = folder / "baseline.yaml"
    file.write_text(file.read_text().replace("edition: 4\n", "edition: 4\nsensitive: {tags.class: personal}\n"))
    rows = [d for d in json.loads(lantern("audit", "--json", cwd=folder).out)["drift"] if d["reach"]]
    severities = [row["severity"] for row in rows]
    assert severities == sorted(severities, key=("critical", "high", "medium", "low").index)
    critical = [row for row in rows if row["severity"] == "critical"]
    assert {row["name"] for row in critical[:3]} == {"payroll-drop", "volunteer-forms"}
    public = [
        ("closed", "restricted", "open").index(row["reach"]["public"])
        for row in critical
        if not row["reach"]["sensitive"]
    ]
    assert public == sorted(public, reverse=True)


def test_history_counts_drift_by_severity_and_says_how_long_it_stood(lived: Lived) -> None:
    ran = lived.run("history", "--json")
    result = json.loads(ran.out)
    audit = json.loads(lived.run("audit", "--json").out)
    rows = result["surveys"]
    assert [row["survey"][:8] for row in rows] == ["20261002", "20261102"]
    assert rows[1]["drift_by_severity"] == audit["drift_by_severity"]
    assert (rows[1]["unknown"], rows[1]["waived"]) == (audit["counts"]["unknown"], audit["counts"]["waived"])
    assert rows[1]["exposed"]["write"] == 3
    assert result["drift_duration"]["median_days_resolved"] == 31
    assert result["drift_duration"]["oldest_since"].startswith("2026-10-02")


@pytest.mark.parametrize("suffix", [".png", ".svg", ".pdf"])
def test_the_trend_is_drawn_the_same_each_time(lived: Lived, tmp_path: Path, suffix: str) -> None:
    drawn = []
    for name in ("one", "two"):
        assert lived.run("history", "--figure", str(tmp_path / f"{name}{suffix}")).code == 0
        drawn.append((tmp_path / f"{name}{suffix}").read_bytes())
    assert drawn[0] == drawn[1]
    assert lived.run("history", "--figure", str(tmp_path / "x.txt")).code == 2


def test_quiet_prints_nothing_where_the_exit_code_is_0(lived: Lived, tmp_path: Path) -> None:
    assert lived.run("audit", "--quiet").out == lived.run("audit").out
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    (folder / "baseline.yaml").write_text("sheets: [{sheet: s, require: {name: present}}]\n")
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text().partition("mirrors:")[0])
    ran = lantern("audit", "--quiet", cwd=folder)
    assert (ran.code, ran.out) == (0, "")
    assert lantern("audit", cwd=folder).out
