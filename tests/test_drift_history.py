"""Looking back: since when drift stands, how long it stood, and thinning the archive without breaking its chain."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.archive.chain import history
from rusty_lantern.archive.pruning import PruningRule, plan, prune, read_rule
from rusty_lantern.archive.surveys import load, names, save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.coverage import Coverage, Limits
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.history.drift_history import (
    AuditSummary,
    DriftStart,
    OpenRequirement,
    drift_duration,
    drift_periods,
    drift_starts,
)
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import Lived, lantern

FIRST = datetime(2026, 1, 1, 6, tzinfo=UTC)
KEY = ("s", "bucket", "b", "versioning")


def standing(day: int, status: str, *, unread: bool = False, only: tuple[str, ...] = ()) -> AuditSummary:
    """A survey in which the one requirement stood so; `held` is not written down."""
    stood = [] if status == "ok" else [OpenRequirement("s", "bucket", "versioning", status, "high", "never", ["b"])]
    taken = FIRST + timedelta(days=day)
    return AuditSummary(
        f"{day}",
        taken,
        "",
        1,
        {"unknown": int(status == "unknown")},
        {},
        {},
        0,
        ["s"] if unread else [],
        Coverage(["s"], [("s", "bucket")] if unread else [], Limits(list(only))),
        stood,
    )


STATUSES = st.lists(
    st.sampled_from(["ok", "drift", "waived", "unknown", "unread", "elsewhere"]), min_size=1, max_size=12
)


def _row(statuses: list[str]) -> list[AuditSummary]:
    return [
        standing(day, "ok", unread=True) if status == "unread"
        else standing(day, "ok", only=("other/*",)) if status == "elsewhere"
        else standing(day, status)
        for day, status in enumerate(statuses)
    ]  # fmt: skip


@given(STATUSES)
def test_drift_stands_since_the_first_of_the_unbroken_row(statuses: list[str]) -> None:
    """Against a plain reading: go back while it was not seen to hold; the last drift met begins the row."""
    row = _row([*statuses, "drift"])
    begun = row[-1].taken
    for status, one in zip(reversed(statuses), reversed(row[:-1]), strict=True):
        if status == "ok":
            break
        if status in ("drift", "waived"):
            begun = one.taken
    earlier = list(reversed(row[:-1]))
    assert drift_starts(row[-1], earlier).get(KEY) == DriftStart(begun)
    assert drift_starts(row[-1], earlier, all_seen=False).get(KEY) == DriftStart(begun, or_before="ok" not in statuses)


@given(STATUSES)
def test_spells_tell_the_same_as_since_and_never_overlap(statuses: list[str]) -> None:
    row = _row([*statuses, "drift"])
    found = drift_periods(row)
    still = [spell for spell in found if spell.until is None]
    assert [DriftStart(spell.begun) for spell in still] == [drift_starts(row[-1], list(reversed(row[:-1]))).get(KEY)]
    ordered = sorted(found, key=lambda spell: spell.begun)
    assert all(a.until is not None and a.until <= b.begun for a, b in pairwise(ordered))
    counted = drift_duration(row)
    assert (counted.resolved, counted.open) == (len(found) - 1, 1)


def test_standings_that_are_torn_or_cannot_be_kept_are_worked_out_again(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    kept = (folder / "results").glob("*Z.json")
    assert len(list(kept)) == 2
    first = lantern("audit", "--json", cwd=folder)
    for file in (folder / "results").iterdir():
        file.write_text("torn")
    assert lantern("audit", "--json", cwd=folder).out == first.out  # worked out again
    shutil.rmtree(folder / "results")
    (folder / "results").write_text("in the way")
    assert lantern("audit", "--json", cwd=folder).out == first.out  # …and without anywhere to keep it


def test_another_baseline_is_another_history(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    before = json.loads(lantern("history", "--json", cwd=folder).out)["surveys"]
    (folder / "baseline.yaml").write_text("sheets: [{sheet: s, severity: low, require: {versioning: on}}]\n")
    after = json.loads(lantern("history", "--json", cwd=folder).out)["surveys"]
    assert before[0]["drift_by_severity"] != after[0]["drift_by_severity"]
    assert after[0]["drift_by_severity"]["critical"] == 0


def test_a_bucket_whose_rules_were_not_read_and_one_that_is_not_listed_are_not_counted_as_closed(lived: Lived) -> None:
    whole = next(one for one in load(lived.folder / "surveys").dossiers if one.store == "harbour")
    public = next(bucket for bucket in whole.buckets if bucket.name == "press-kit")
    shut = msgspec.structs.replace(public, policy=Answer("denied", note="AccessDenied"))
    before = msgspec.structs.replace(whole, buckets=[public])
    after = msgspec.structs.replace(whole, buckets=[shut], listing=Answer("failed", note="the second page was refused"))
    folder = lived.folder.parent / "two-moments"
    make(folder, workspace_files("http://127.0.0.1:9"))
    (folder / "baseline.yaml").write_text("sheets: [{sheet: s, severity: low, require: {versioning: on}}]\n")
    for day, dossier in enumerate((before, after)):
        save(folder / "surveys", "x", FIRST + timedelta(days=day), [dossier])
    first, last = json.loads(lantern("history", "--json", cwd=folder).out)["surveys"]
    assert (first["exposed"]["read"], first["exposure_unknown"], first["stores_not_all_listed"]) == (1, 0, [])
    assert (last["exposed"]["read"], last["exposure_unknown"], last["stores_not_all_listed"]) == (0, 1, ["harbour"])
    told = lantern("history", cwd=folder, COLUMNS="200").out
    assert "unknown in 1 bucket" in told and "  not all buckets listed: harbour" in told


# --- pruning


@pytest.fixture
def archive(tmp_path: Path) -> Path:
    """Forty surveys of one small store, a day apart."""
    dossier = saltmarsh.harbour().dossier
    small = msgspec.structs.replace(dossier, buckets=dossier.buckets[:1])
    for day in range(40):
        save(tmp_path / "surveys", "x", FIRST + timedelta(days=day), [small])
    return tmp_path / "surveys"


def test_pruning_follows_its_rules_keeps_the_last_and_the_chain_can_still_be_followed(archive: Path) -> None:
    found = plan(archive, [read_rule("all for 5 days"), read_rule("weekly for 1 year")])
    assert found.stay[-6:] == names(archive)[-6:]
    assert len(found.stay) == 6 + 5
    prune(archive, found.go, "all for 5 days; weekly for 1 year")
    assert names(archive) == found.stay
    rows = history(archive, verify=True)
    assert [row.wrong for row in rows] == [""] * len(rows)
    assert sum(row.pruned_before for row in rows) == len(found.go)
    again = plan(archive, [read_rule("monthly")])
    prune(archive, again.go, "monthly")
    assert [row.wrong for row in history(archive, verify=True)] == ["", ""]


def test_taking_a_survey_away_by_hand_or_altering_the_record_is_noticed(archive: Path) -> None:
    prune(archive, plan(archive, [read_rule("weekly")]).go, "weekly")
    shutil.rmtree(archive / names(archive)[2])
    assert sum(bool(row.wrong) for row in history(archive, verify=True)) == 1
    record = archive / "pruned.jsonl"
    record.write_text(record.read_text().replace('"previous":"', '"previous":"0', 1))
    assert sum(bool(row.wrong) for row in history(archive, verify=True)) == 2


MOMENTS = st.lists(st.integers(0, 2000), min_size=1, max_size=60, unique=True).map(
    lambda days: [FIRST + timedelta(days=day) for day in sorted(days)]
)


@given(MOMENTS, st.sampled_from(["all", "daily", "weekly", "monthly", "yearly"]), st.sampled_from([0, 86_400 * 30]))
def test_a_rule_keeps_the_last_and_one_of_each_period(taken: list[datetime], period: str, seconds: int) -> None:
    kept = PruningRule(period, seconds).keeps(taken)
    assert taken[-1] in kept
    assert kept <= set(taken)
    if period == "monthly" and not seconds:
        assert len(kept) == len({(moment.year, moment.month) for moment in taken})
        assert PruningRule(period, 0).keeps(sorted(kept)) == kept


@pytest.mark.parametrize("written", ["", "hourly", "weekly for", "weekly for 3 moons", "all during 3 days"])
def test_a_rule_that_is_none_is_refused(written: str) -> None:
    with pytest.raises(BadInput):
        read_rule(written)


def test_prune_only_says_what_would_go_until_it_is_told_to_delete(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    ran = lantern("prune", "--keep", "all for 3 days", cwd=folder)
    assert "20261002T060000Z  would be deleted" in ran.out
    assert len(names(folder / "surveys")) == 2
    counted = folder / "results"
    assert list(counted.glob("20261002T060000Z.*")) and list(counted.glob("20261102T060000Z.*"))
    assert lantern("prune", "--keep", "all for 3 days", "--delete", cwd=folder).code == 0
    assert not list(counted.glob("20261002T060000Z.*")), "what was counted of a survey goes with it"
    assert list(counted.glob("20261102T060000Z.*"))
    assert names(folder / "surveys") == ["20261102T060000Z"]
    verified = lantern("history", "--verify", cwd=folder)
    assert (verified.code, "1 survey pruned" in verified.out) == (0, True)
