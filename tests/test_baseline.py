"""The baseline: comparisons, the cascade, and how a requirement is judged."""

from __future__ import annotations

import subprocess
import sys
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.baseline.comparisons import ImpossibleComparison, read_comparison
from rusty_lantern.core.baseline.evaluation import Cascade, evaluate, required_of
from rusty_lantern.core.baseline.finding_words import observed_words
from rusty_lantern.core.baseline.loader import Baseline, read_baseline
from rusty_lantern.core.facts.registry import REGISTER, UnknownFact, lookup
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.core.value_sets import NAMES, WordSet
from rusty_lantern.core.value_types import (
    COUNT,
    DAY,
    DURATION,
    MOMENT,
    SIZE,
    SWITCH,
    TEXT,
    YEAR,
    Levels,
    Scale,
)
from tests.subjects import audited, bucket_said, every_finding

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)

VERB_SETS = WordSet(VERBS)
LEVELS = Levels(("never", "suspended", "on"), ordered=True)


@pytest.mark.parametrize(
    "text,scale,yes,no",
    [
        ("on", LEVELS, ["on"], ["never", "suspended"]),
        ("at least suspended", LEVELS, ["suspended", "on"], ["never"]),
        ("at most suspended", LEVELS, ["never", "suspended"], ["on"]),
        ("at least 7 years", DURATION, [7 * YEAR, 8 * YEAR], [7 * YEAR - 1]),
        ("between 30 days and 90 days", DURATION, [30 * DAY, 90 * DAY], [29 * DAY, 91 * DAY]),
        ("at most 20 MB", SIZE, [20_000_000], [20_000_001]),
        ("at most 1 MiB", SIZE, [1 << 20], [(1 << 20) + 1]),
        ("at least 1,000", COUNT, [1000], [999]),
        ("one of [a, b c]", TEXT, ["a", "b c"], ["b", ""]),
        ('one of ["a, b", c]', TEXT, ["a, b", "c"], ["a"]),
        ("none of [a]", TEXT, ["b"], ["a"]),
        ('matches "[a-z]+-[0-9]"', TEXT, ["ab-1"], ["ab-12", "x"]),
        ("within [list, read]", VERB_SETS, ["", "read", "list read"], ["read write", "change-settings"]),
        ("read list", VERB_SETS, ["list read"], ["read"]),
        ("within [ann, boat-*]", NAMES, ["", "ann", "ann, boat-1"], ["bob", "ann, bob", '"ann, bob"']),
        ('within ["ann, bob", c]', NAMES, ['"ann, bob"', '"ann, bob", c'], ["ann", "ann, bob"]),
        ("none of [bob, boat-*]", NAMES, ["", "ann", "ann, c"], ["bob", "ann, boat-1"]),
        ("nobody", NAMES, [""], ["ann"]),
        ("ann, bob", NAMES, ["ann, bob"], ["ann"]),
        ("present", TEXT, ["", "x"], []),
        ("absent", TEXT, [], ["x"]),
        ("at least 2026-01-01", MOMENT, [datetime(2026, 1, 1, tzinfo=UTC)], [datetime(2025, 12, 31, tzinfo=UTC)]),
    ],
)
def test_comparisons(text: str, scale: Scale, yes: list[object], no: list[object]) -> None:
    comparison = read_comparison(text, scale)
    assert [comparison.accepts(value) for value in yes + no] == [True] * len(yes) + [False] * len(no)  # type: ignore[arg-type]
    assert read_comparison(comparison.words, scale).words == comparison.words


def test_within_is_for_sets_of_words_only() -> None:
    with pytest.raises(ImpossibleComparison, match="compares sets"):
        read_comparison("within [a]", TEXT)
    with pytest.raises(ImpossibleComparison, match='did you mean "read"'):
        read_comparison("within [reed]", VERB_SETS)


@pytest.mark.parametrize(
    "text", ['within ["a]', 'within [a"b]', 'none of ["a\\q"]', 'within [a "b"]', "within [,]", '"']
)
def test_names_that_cannot_be_told_apart_are_refused(text: str) -> None:
    with pytest.raises(ImpossibleComparison, match=r"separate names by commas|the list is empty"):
        read_comparison(text, NAMES)


def test_absent_satisfies_absent_and_none_of_only() -> None:
    accepted = [
        t for t in ("absent", "none of [a]", "present", "a", 'matches ".*"') if read_comparison(t, TEXT).accepts_absent
    ]
    assert accepted == ["absent", "none of [a]"]


@given(st.sets(st.text(min_size=1, max_size=8)), st.sets(st.sampled_from(["ann", "nobody", 'a"b', "a, b", " x", "-"])))
def test_a_set_of_names_is_read_again_whatever_they_are(names: set[str], others: set[str]) -> None:
    value = NAMES.join(names | others)
    assert NAMES.members(value) == names | others
    assert NAMES.read(NAMES.show(value)) == value


@given(st.sampled_from([COUNT, SIZE, DURATION]), st.integers(0, 10**12))
def test_what_a_scale_shows_it_reads_again(scale: Scale, value: int) -> None:
    if scale is SIZE:
        assert abs(int(str(scale.rank(scale.read(scale.show(value))))) - value) <= value * 0.005 + 1
    else:
        assert scale.read(scale.show(value)) == value


@given(st.text(max_size=30))
def test_any_text_is_a_comparison_or_is_refused_with_a_reason(text: str) -> None:
    for scale in (LEVELS, SWITCH, TEXT, DURATION, MOMENT):
        try:
            read_comparison(text, scale)
        except ImpossibleComparison as error:
            assert str(error)


def _baseline(*sheets: str) -> Baseline:
    return read_baseline("title: t\nsheets:\n" + "\n".join(sheets), "baseline.yaml")


FIRST = "  - {sheet: first, require: {versioning: on, region: north}}"
SECOND = '  - {sheet: second, of: {name: "a*"}, require: {versioning: at least suspended}}'
LIFTS = "  - {sheet: lifts, of: {tags.class: scratch}, require: {versioning: anything}}"


def _bucket(name: str = "a", **answers: Answer[object]) -> Bucket:
    return Bucket(name=name, **answers)  # type: ignore[arg-type]


def _required(baseline: Baseline, bucket: Bucket) -> dict[str, str]:
    return {
        r.requirement.fact: r.requirement.sheet for r in required_of(baseline, bucket_said("harbour", bucket)) if r.sure
    }


def test_a_later_sheet_overrides_an_earlier_one_fact_by_fact() -> None:
    tags: Answer[object] = Answer("known", {"class": "scratch"})
    plain: Answer[object] = Answer("known", {})
    both = _baseline(FIRST, SECOND)
    assert _required(both, _bucket("a", tags=plain)) == {"versioning": "second", "region": "first"}
    assert _required(both, _bucket("b", tags=plain)) == {"versioning": "first", "region": "first"}
    assert _required(_baseline(SECOND, FIRST), _bucket("a", tags=plain))["versioning"] == "first"
    assert _required(_baseline(FIRST, LIFTS), _bucket("a", tags=tags)) == {"region": "first"}
    displaced = required_of(both, bucket_said("harbour", _bucket("a", tags=plain)))[0].displaced
    assert [requirement.sheet for requirement in displaced] == ["first"]


def _judged(baseline: Baseline, bucket: Bucket, **facts: Fact) -> list[tuple[str, str, str]]:
    found = evaluate(Cascade(baseline), bucket_said("harbour", bucket, lambda name: facts[name.replace(".", "_")]))
    return [(j.requirement.fact, j.requirement.sheet, j.status) for j in found]


@pytest.mark.parametrize("state", ["denied", "failed", "unsupported"])
def test_what_could_not_be_read_is_unknown_never_held(state: str) -> None:
    unread: Fact = Answer(state, None, "why")  # type: ignore[arg-type]
    found = evaluate(Cascade(_baseline(FIRST)), bucket_said("harbour", _bucket(), lambda _: unread))
    assert {j.status for j in found} == {"unknown"}
    assert all("why" in j.reason for j in found)


def test_a_sheet_that_may_apply_is_unknown_where_it_would_drift_and_held_where_it_would_not() -> None:
    sheets = (FIRST, "  - {sheet: maybe, of: {tags.class: permit}, require: {region: south}}")
    unread = _bucket(tags=Answer("denied", None, "AccessDenied"))
    north: dict[str, Fact] = {"versioning": Answer("known", "on"), "region": Answer("known", "north")}
    assert _judged(_baseline(*sheets), unread, **north) == [
        ("versioning", "first", "ok"),
        ("region", "first", "ok"),
        ("region", "maybe", "unknown"),
    ]


def test_a_tag_selects_only_buckets_that_have_it() -> None:
    sheet = '  - {sheet: s, of: {tags.class: ["per*", seal], store: harb*}, require: {region: x}}'
    fits = [
        bool(required_of(_baseline(sheet), bucket_said(store, _bucket(tags=tags))))
        for store, tags in (
            ("harbour", Answer[object]("known", {"class": "permit"})),
            ("harbour", Answer[object]("known", {"class": "other"})),
            ("harbour", Answer[object]("absent")),
            ("skerry", Answer[object]("known", {"class": "seal"})),
        )
    ]
    assert fits == [True, False, False, False]


def test_every_fact_of_the_register_is_found_by_its_name_and_a_near_miss_is_hinted_at() -> None:
    assert all(lookup(name).name == name for name in REGISTER if not name.endswith(".*"))
    assert lookup("tags.any thing.at all").name == "tags.*"
    with pytest.raises(UnknownFact) as caught:
        lookup("lock.default-retentoin")
    assert caught.value.hint == 'did you mean "lock.default-retention"?'
    with pytest.raises(UnknownFact):
        lookup("tags.")


def test_every_fact_of_an_unread_bucket_is_unsettled_or_absent() -> None:
    from rusty_lantern.core.audit.bucket_subject import BucketSubject

    view = BucketSubject(
        Bucket(name="x"), Dossier(store="s", taken=datetime(2026, 1, 1, tzinfo=UTC)), datetime(2026, 1, 1, tzinfo=UTC)
    )
    assert {name: fact.state for name, fact in view.facts().items() if fact.settled} == {"name": "known"}


def test_a_baseline_is_read_in_a_process_that_did_nothing_else() -> None:
    """As a cluster's worker does: the register is filled by whoever looks something up in it."""
    program = (
        "from rusty_lantern.core.baseline.loader import read_baseline\n"
        "made = read_baseline('title: t\\nsheets:\\n  - sheet: s\\n    require: {versioning: on}\\n', 'b.yaml')\n"
        "print(made.sheets[0].require[0].fact)"
    )
    ended = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=600, check=False)
    assert ended.stdout == "versioning\n", ended.stderr


@pytest.mark.parametrize(
    "required,status",
    [
        ("none of [root]", "ok"), ("one of [person, service]", "ok"), ("service", "unknown"), ("root", "drift"),
        ("none of [person]", "unknown"), ("role", "drift"),
    ],
)  # fmt: skip
def test_what_is_known_to_be_one_of_two_is_held_against_both(required: str, status: str) -> None:
    """A gateway's user is a person or a service, and the gateway does not say which."""
    someone = Identity(name="warden", kind="user")
    dossier = Dossier(store="s", taken=NOW, listing=Answer("known", 0), identities=Answer("known", [someone]))
    sheets = read_baseline(f"title: t\nsheets: [{{sheet: s, require: {{identity.kind: '{required}'}}}}]\n", "b")
    [found] = [one for one in every_finding(audited([dossier], sheets, NOW)) if one.kind == "identity"]
    assert (found.status, observed_words(found)) == (status, "person or service")
