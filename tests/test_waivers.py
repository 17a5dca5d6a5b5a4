"""Waivers: drift accepted in writing, until it ends, gets worse, or lasts too long."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.waiver_file import read_waivers
from rusty_lantern.core.audit.waivers import apply, is_worse, observed_now, written
from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.errors import BadInput, Place
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_types import DAY, Value
from tests.conftest import Demo, Ran, lantern

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)


def drifted(fact: str, required: str, observed: Value | None, name: str = "press-kit") -> Finding:
    comparison = read_comparison(required, lookup(fact).scale)
    asked = Requirement(fact, comparison, "high", "", Place("baseline.yaml", 6), "every bucket")
    seen: Answer[Value] = Answer("known", observed) if observed is not None else Answer("absent")
    return Finding("harbour", name, asked, seen, "drift")


@pytest.mark.parametrize("fact,required,accepted,now,worse", [
    ("exposure.read", "closed", "restricted", "open", True),
    ("exposure.read", "closed", "open", "restricted", False),
    ("exposure.read", "closed", "open", "open", False),
    ("versioning", "on", "suspended", "never", True),
    ("lock.default-retention", "at least 7 years", "5 years", 4 * 365 * DAY, True),
    ("lock.default-retention", "at least 7 years", "5 years", 6 * 365 * DAY, False),
    ("lock.default-retention", "at least 7 years", "5 years", None, True),
    ("lock.default-retention", "between 30 days and 90 days", "100 days", 120 * DAY, True),
    ("lock.default-retention", "between 30 days and 90 days", "20 days", 10 * DAY, True),
    ("lock.default-retention", "between 30 days and 90 days", "20 days", 25 * DAY, False),
    ("access.outside", "within [read]", "read write", "write", False),
    ("access.outside", "within [read]", "read write", "read delete", True),
    ("access.outside", "within [read]", "write", "read write", False),
    ("principals.delete", "within [ann, boat-*]", "bob", "ann, bob", False),
    ("principals.delete", "within [ann, boat-*]", "bob, eve", "boat-2, bob", False),
    ("principals.delete", "within [ann, boat-*]", "bob", "bob, eve", True),
    ("principals.delete", "none of [bob, eve]", "bob", "ann, bob", False),
    ("principals.delete", "nobody", "bob", "ann, bob", True),
    ("region", "north", "south", "east", True),
    ("tags.steward", "present", "absent", None, False),
    ("logging.target-exposure", "none of [restricted, open]", "restricted", "open", True),
])  # fmt: skip
def test_worse_is_further_from_what_is_required(
    fact: str, required: str, accepted: str, now: Value | None, worse: bool
) -> None:
    assert is_worse(drifted(fact, required, now), accepted) is worse


FILE = """waivers:
  - {of: harbour/press-*, fact: exposure.list, observed: open, because: the press, by: outreach,
     since: 2026-10-01, until: %s}
"""


@pytest.mark.parametrize("until,longest,status,of_waiver,words", [
    ("2027-09-30", 0, "waived", "in force", "until 2027-09-30, by outreach: the press"),
    ("2026-11-20", 0, "waived", "ends soon", ""),
    ("2026-11-01", 0, "drift", "ended", "it ended on 2026-11-01"),
    ("2027-09-30", 90 * DAY, "drift", "too long", "longer than the baseline allows"),
])  # fmt: skip
def test_a_waiver_covers_drift_until_it_ends(until: str, longest: int, status: str, of_waiver: str, words: str) -> None:
    waivers = read_waivers(FILE % until, "waivers.yaml")
    (finding,), (stands,) = apply([drifted("exposure.list", "closed", "open")], waivers, NOW, longest)
    assert (finding.status, stands.status) == (status, of_waiver)
    assert words in finding.reason
    (other,), (unused,) = apply([drifted("exposure.list", "closed", "open", "gallery")], waivers, NOW, longest)
    assert (other.status, unused.covers) == ("drift", 0)


def test_what_could_not_be_told_is_never_waived() -> None:
    import msgspec

    unknown = msgspec.structs.replace(drifted("exposure.list", "closed", None), status="unknown")
    (finding,), (stands,) = apply([unknown], read_waivers(FILE % "2027-09-30", "w"), NOW)
    assert (finding.status, stands.status) == ("unknown", "unused")


@pytest.mark.parametrize("change,place,words", [
    (("by: outreach,", ""), "w:2:5", 'a waiver needs "by"'),
    (("exposure.list", "exposure.lists"), "w:2", 'did you mean "exposure.list"?'),
    (("observed: open", "observed: ajar"), "w:2", "is none of closed, restricted, open"),
    (("since: 2026-10-01", "since: 2028-01-01"), "w:3", "it ends before it begins"),
    (("until: 2027-09-30", "until: some day"), "w:3", "is not a date"),
    (("because", "becuase"), "w:2", 'did you mean "because"?'),
])  # fmt: skip
def test_a_waiver_that_says_too_little_is_refused_by_its_place(change: tuple[str, str], place: str, words: str) -> None:
    with pytest.raises(BadInput) as refused:
        read_waivers((FILE % "2027-09-30").replace(*change), "w")
    assert place in str(refused.value) and words in str(refused.value)


@given(name=st.text(min_size=1, max_size=20), because=st.text(min_size=1, max_size=40), days=st.integers(1, 4000))
def test_what_is_written_is_read_again_and_covers_exactly_that(name: str, because: str, days: int) -> None:
    drift = drifted("exposure.list", "closed", "open", name)
    until = NOW + timedelta(days)
    (waiver,) = read_waivers("waivers:\n" + written(drift, because, "keepers", NOW, until), "w")
    assert (waiver.because, waiver.by, waiver.until, waiver.observed) == (
        because,
        "keepers",
        until,
        observed_now(drift),
    )
    assert waiver.applies_to(drift)
    assert not waiver.applies_to(drifted("exposure.list", "closed", "open", name + "x"))


@pytest.fixture
def folder(demo: Demo, tmp_path: Path) -> Path:
    """The demo's workspace, to be written in."""
    return Path(shutil.copytree(demo.folder, tmp_path / "ws"))


def _waive(folder: Path, *words: str) -> Ran:
    return lantern("waive", *words, cwd=folder)


GIVEN = ("--because", "until the new site is up", "--by", "head of outreach", "--until", "2027-03-31")


def _audit(folder: Path) -> dict[str, Any]:
    return dict(json.loads(lantern("audit", "--json", cwd=folder).out))


def test_waive_adds_what_the_audit_then_leaves_out_of_the_drift(folder: Path) -> None:
    before = _audit(folder)
    (folder / "waivers.yaml").write_text("# kept by the keepers\nwaivers:\n")
    assert _waive(folder, "harbour/press-kit", "exposure.list", *GIVEN).code == 0
    assert _waive(folder, "harbour/grant-ledger", "objects.current-version", *GIVEN).code == 0
    after = _audit(folder)
    assert (folder / "waivers.yaml").read_text().startswith("# kept by the keepers\nwaivers:\n  - of:")
    assert after["counts"]["drift"] == before["counts"]["drift"] - 2
    assert [(w["name"], w["fact"]) for w in after["waived"]] == [
        ("grant-ledger", "objects.current-version"),
        ("press-kit", "exposure.list"),
    ]
    assert [(w["status"], w["observed"]) for w in after["waivers"]] == [("in force", "open"), ("in force", "40")]
    shown = lantern("audit", "--all", cwd=folder).out
    assert "waived" in shown and "by head of outreach: until the new site is up" in shown
    required = json.loads(lantern("show", "harbour/press-kit", "--required", "--json", cwd=folder).out)["required"]
    assert {r["status"] for r in required if r["fact"] == "exposure.list"} == {"waived"}
    late = json.loads(lantern("audit", "--json", "--as-of", "2027-04-01", cwd=folder).out)
    assert late["waived"] == [] and {w["status"] for w in late["waivers"]} == {"ended"}


@pytest.mark.parametrize("words,told", [
    (("harbour/gallery-web", "exposure.read", *GIVEN), "has no drift: it is ok"),
    (("harbour/press-kitt", "exposure.list", *GIVEN), 'did you mean "harbour/press-kit"?'),
    (("harbour/press-kit", "exposure.lst", *GIVEN), 'did you mean "exposure.list"?'),
    (("harbour/press-kit", "exposure.list", *GIVEN[:4]), "until when?"),
    (("harbour/press-kit", "exposure.list", *GIVEN[:4], "--until", "2026-01-01"), "is over already"),
    (("harbour/press-kit", "exposure.list", *GIVEN[:4], "--until", "2036-01-01"), "at the latest 2027-05-01"),
])  # fmt: skip
def test_waive_refuses_what_is_no_drift_or_has_no_end(folder: Path, words: tuple[str, ...], told: str) -> None:
    baseline = folder / "baseline.yaml"
    baseline.write_text(baseline.read_text().replace("edition: 4\n", "edition: 4\nlongest-waiver: 180 days\n"))
    ran = _waive(folder, *words)
    assert ran.code == 2 and told in ran.err, ran.err
    assert not (folder / "waivers.yaml").exists()
