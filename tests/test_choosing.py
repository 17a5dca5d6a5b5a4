"""Which subjects a sheet speaks of, when its requirements are in force, and what is odd about a baseline."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.baseline.evaluation import required_of
from rusty_lantern.core.baseline.loader import in_force, read_baseline
from rusty_lantern.core.baseline.selectors import All, Match, NameMatches, Not, Part, Some, Subject
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.model.bucket import Bucket
from tests.conftest import Demo, lantern
from tests.subjects import Said, bucket_said

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)
FACTS: dict[str, Fact] = {
    "created": Answer("known", datetime(2019, 5, 1, tzinfo=UTC)),
    "bytes": Answer("known", 2 * 10**9),
    "exposure.read": Answer("known", "open"),
    "region": Answer("denied", None, "AccessDenied"),
    "tenant": Answer("absent"),
}
TAGS: Answer[dict[str, str]] = Answer("known", {"class": "permit"})


def _fit(of: str) -> Match:
    sheets = f"title: t\nsheets: [{{sheet: s, of: {of}, require: {{versioning: on}}}}]\n"
    bucket = Bucket(name="gallery-web", tags=TAGS)
    return read_baseline(sheets, "b").sheets[0].of.match(bucket_said("harbour", bucket, lambda name: FACTS[name]))


@pytest.mark.parametrize("of,fits", [
    ("{name: gallery-*}", True),
    ("{name: [press-*, gallery-web], store: harb*}", True),
    ("{name: gallery-*, store: skerry}", False),
    ("{created: at most 2020-01-01}", True),
    ("{created: at least 2020-01-01}", False),
    ("{bytes: at least 1 TB}", False),
    ("{exposure.read: open, bytes: at least 1 GB}", True),
    ("{tenant: absent}", True),
    ("{tenant: north}", False),
    ("{not: {tags.class: scratch}}", True),
    ("{not: {tags.class: per*}}", False),
    ("{any of: [{name: x}, {exposure.read: open}]}", True),
    ("{any of: [{name: x}, {region: north}]}", None),
    ("{any of: [{name: gallery-*}, {region: north}]}", True),
    ("{all of: [{name: gallery-*}, {region: north}]}", None),
    ("{all of: [{name: x}, {region: north}]}", False),
    ("{not: {region: north}}", None),
    ("{credential.age: at most 1 year}", False),
])  # fmt: skip
def test_a_sheet_chooses_by_names_tags_facts_and_combinations(of: str, fits: bool | None) -> None:
    found = _fit(of)
    assert found.yes is fits
    assert ("region, denied to this credential: AccessDenied" in found.hangs_on) is (fits is None)


@pytest.mark.parametrize("of,where,words", [
    ("{colour: red}", "b:2", 'a sheet cannot choose by "colour"'),
    ("{created: soon}", "b:2", '"soon" is not a date'),
    ("{any of: {name: x}}", "b:2", "needs a list"),
    ("{objects.size: at least 1 MB}", "b:2", "cannot choose by objects.size"),
    ("{not: x}", "b:2", "must be a mapping"),
])  # fmt: skip
def test_a_choice_that_makes_no_sense_is_told_by_its_place(of: str, where: str, words: str) -> None:
    with pytest.raises(BadInput) as refused:
        _fit(of)
    assert where in str(refused.value) and words in str(refused.value)


class _Said(NameMatches, frozen=True):
    """A part whose answer is given."""

    def match(self, subject: Subject) -> Match:
        return Match({"y": True, "n": False, "?": None}[self.what])


parts: st.SearchStrategy[Part] = st.recursive(
    st.sampled_from("yn?").map(lambda said: _Said(said, ())),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3).map(lambda found: All(tuple(found))),
        st.lists(inner, max_size=3).map(lambda found: Some(tuple(found))),
        inner.map(Not),
    ),
    max_leaves=8,
)
ANY = Said("bucket", "s", "b")


@given(st.lists(parts, max_size=4))
def test_not_any_is_all_not_whatever_is_known(found: list[Part]) -> None:
    negated = All(tuple(Not(part) for part in found))
    assert Not(Some(tuple(found))).match(ANY).yes is negated.match(ANY).yes


@given(parts)
def test_what_may_fit_is_settled_only_by_what_would_settle_it(part: Part) -> None:
    assert Not(Not(part)).match(ANY).yes is part.match(ANY).yes
    assert Some((part, _Said("y", ()))).match(ANY).yes is True
    assert All((part, _Said("n", ()))).match(ANY).yes is False


TIMED = """title: t
sheets:
  - sheet: first
    require:
      versioning: {is: on, until: 2026-10-01, remedy: switch it on}
      region: {is: north, from: 2027-01-01}
      encryption.at-rest: {is: at least provider-managed, from: 2026-01-01, until: 2027-01-01}
  - {sheet: second, off: the second site is being moved, require: {region: south}}
"""


def test_requirements_and_sheets_are_in_force_only_when_they_say_so() -> None:
    baseline = read_baseline(TIMED, "b")

    def facts(year: int) -> set[str]:
        standing = in_force(baseline, datetime(year, 6, 1, tzinfo=UTC))
        return {r.requirement.fact for r in required_of(standing, ANY)}

    assert facts(2026) == {"versioning", "encryption.at-rest"}
    assert facts(2027) == {"region"}
    with pytest.raises(BadInput, match="ends before it begins"):
        read_baseline(TIMED.replace("until: 2027-01-01", "until: 2025-01-01"), "b")
    with pytest.raises(BadInput, match="switched off without a reason"):
        read_baseline(TIMED.replace("off: the second site is being moved", "off: ''"), "b")


def test_baseline_check_names_what_is_odd_and_show_what_is_in_force(demo: Demo, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(demo.folder, tmp_path / "ws"))
    assert lantern("baseline", "check", cwd=folder).code == 0
    more = """
  - {sheet: nobody, of: {name: no-such-*}, require: {versioning: on}}
  - {sheet: moved, off: the site is being moved, require: {region: x}}
  - {sheet: never shown, require: {soft-delete: at least 30 days, quota.bytes: present}}
  - {sheet: over, require: {tier: {is: warm, until: 2026-01-01}}}
  - {sheet: last, require: {exposure.read-settings: closed}}
"""
    with (folder / "baseline.yaml").open("a") as stream:
        stream.write(more)
    ran = lantern("baseline", "check", "--json", cwd=folder)
    told = [remark["what"] for remark in json.loads(ran.out)["warnings"]]
    assert ran.code == 1
    assert told == [
        "exposure.read-settings: never in force; later sheets override it on everything that it applies to",
        'sheet "nobody" applies to nothing that was surveyed',
        'sheet "moved" is switched off: the site is being moved',
        "quota.bytes: no surveyed store can show it, so it is always unknown",
        "soft-delete: no surveyed store can show it, so it is always unknown",
        "tier: not required since 2026-01-01",
    ]
    rows = json.loads(lantern("baseline", "show", "harbour/press-kit", "--json", cwd=folder).out)["required"]
    reading = next(row for row in rows if row["fact"] == "exposure.read")
    assert (reading["required"], reading["sheet"]) == ("open", "public pictures")
    assert reading["overrides"][0].startswith("every bucket, baseline.yaml:6")
    assert "press-kit" in lantern("baseline", "show", "harbour/press-kit", cwd=folder).out
