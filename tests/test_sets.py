"""The algebra of sets: laws that hold for every kind, checked on random sets and random members."""

from __future__ import annotations

import ipaddress
import re
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.dialects.glob_expressions import fits_pattern
from rusty_lantern.core.access.evaluator.condition_tests import fits_early, glob_fits
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OptionalSet, OverBudget
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, TextSet, complement, literals
from rusty_lantern.core.access.solver.sets.intervals import FIRST, LAST, IntervalSet, as_networks, networks
from rusty_lantern.core.access.solver.sets.matching import globs, matching
from rusty_lantern.core.access.solver.sets.multivalued import ANY_SEVERAL, Family, MultivalueSet
from rusty_lantern.core.access.solver.sets.patterns import (
    ANY,
    ANY_PART,
    RUN,
    RUN_PART,
    Gap,
    Pattern,
    early_glob,
    glob,
    may_be_empty,
    plain,
    resource_glob,
    rests,
)

WORK = Budget(10**9)
patterns = st.text(alphabet="ab/*?:", max_size=7)
words = st.text(alphabet="abc/:*", max_size=7)


@st.composite
def text_sets(draw: st.DrawFn) -> TextSet:
    made = globs(draw(st.lists(patterns, max_size=3)), WORK)
    if draw(st.booleans()):
        made = complement(made)
    return made.join(literals(frozenset(draw(st.lists(words, max_size=2)))), WORK)


@given(patterns, words)
def test_a_glob_set_holds_what_the_glob_fits(pattern: str, word: str) -> None:
    assert globs([pattern], WORK).holds(word) == glob_fits(pattern, word)


@given(st.text(alphabet="ab/**??", max_size=7), st.text(alphabet="ab/*?", max_size=8), st.data())
def test_stars_that_end_early_are_the_same_to_both_deciders(p: str, word: str, data: st.DataObject) -> None:
    fits = fits_early(p, word)
    assert matching((early_glob(p),), WORK).holds(word) is fits
    assert fits_pattern(p, word, early=True) is fits
    begun = data.draw(st.integers(0, len(word)))
    left = rests(early_glob(p), word[:begun])
    assert any(matching((one,), WORK).holds(word[begun:]) for one in left) is fits
    assert not fits or glob_fits(p, word), "what fits then is a part of what fits else"


tokens = st.sampled_from(
    (ANY, RUN, ANY_PART, RUN_PART, *map(frozenset, ("a", "b", ":", "aA"))),
)


def as_expression(pattern: Pattern) -> re.Pattern[str]:
    """The same pattern for the standard library."""
    parts = (
        ("[^:]" if token.stops else ".") + ("*" if token.run else "")
        if isinstance(token, Gap)
        else f"[{''.join(token)}]"
        for token in pattern
    )
    return re.compile("".join(parts), re.DOTALL)


@given(st.lists(st.lists(tokens, max_size=6).map(tuple), min_size=1, max_size=3), st.text(alphabet="aAb:x", max_size=6))
def test_a_set_of_patterns_holds_what_any_of_them_matches(several: list[Pattern], word: str) -> None:
    matched = any(as_expression(pattern).fullmatch(word) for pattern in several)
    assert matching(tuple(several), WORK).holds(word) == matched


@given(st.lists(tokens, max_size=6).map(tuple), words, words)
def test_what_a_pattern_leaves_behind_a_beginning_matches_the_rest_of_it(p: Pattern, start: str, rest: str) -> None:
    left = rests(p, start)
    assert any(as_expression(one).fullmatch(rest) for one in left) == bool(as_expression(p).fullmatch(start + rest))
    assert any(map(may_be_empty, left)) == bool(as_expression(p).fullmatch(start))


@given(text_sets(), text_sets(), words)
def test_text_sets_obey_their_algebra(a: TextSet, b: TextSet, word: str) -> None:
    inside = a.holds(word), b.holds(word)
    assert a.meet(b, WORK).holds(word) == (inside[0] and inside[1])
    assert a.join(b, WORK).holds(word) == (inside[0] or inside[1])
    assert a.minus(b, WORK).holds(word) == (inside[0] and not inside[1])
    assert a.minus(b, WORK).meet(b, WORK).empty
    assert a.minus(a, WORK).empty
    assert complement(complement(a)).holds(word) == inside[0]


@given(text_sets())
def test_a_picked_text_is_a_shortest_member(texts: TextSet) -> None:
    picked = texts.pick()
    assert (picked is None) == texts.empty
    if picked is not None:
        assert texts.holds(picked)
        assert not any(texts.holds(shorter) for shorter in ["", "a", "b", "/", ":"] if len(shorter) < len(picked))


@given(text_sets(), words, words)
def test_what_comes_after_a_prefix(texts: TextSet, prefix: str, rest: str) -> None:
    assert texts.after(prefix).holds(rest) == texts.holds(prefix + rest)


@given(words)
def test_plain_text_means_itself_and_may_fold_case(word: str) -> None:
    assert matching((plain(word),), WORK).holds(word)
    assert matching((plain(word.upper(), fold_case=True),), WORK).holds(word.lower())


def test_a_wildcard_in_a_resource_name_stays_in_its_part() -> None:
    names = matching((resource_glob("arn:aws:iam::*:role/x*"),), WORK)
    assert names.holds("arn:aws:iam::123:role/xy:z")
    assert not names.holds("arn:aws:iam::1:2:role/x")


def test_a_hopeless_pattern_ends_in_over_budget_not_in_hanging() -> None:
    with pytest.raises(OverBudget):
        matching((glob("*a" + "?" * 30 + "*b" + "?" * 30),), Budget(200_000))


spans = st.lists(st.tuples(st.integers(0, 40), st.integers(0, 12)), max_size=4)


def _line(parts: list[tuple[int, int]]) -> IntervalSet:
    return IntervalSet(((start, 0), (start + length, 0)) for start, length in parts)


@given(spans, spans, st.integers(-2, 60))
def test_lines_obey_their_algebra(left: list[tuple[int, int]], right: list[tuple[int, int]], value: int) -> None:
    a, b = _line(left), _line(right)
    assert a.holds(value) == any(start <= value < start + length for start, length in left)
    assert a.meet(b, WORK).holds(value) == (a.holds(value) and b.holds(value))
    assert a.join(b, WORK).holds(value) == (a.holds(value) or b.holds(value))
    assert a.minus(b, WORK).holds(value) == (a.holds(value) and not b.holds(value))
    assert a.minus(a, WORK).empty
    assert a.outside().outside().spans == a.spans
    picked = a.pick(value)
    assert (picked is None) == a.empty
    assert picked is None or a.holds(picked)


def test_open_and_closed_ends_of_dense_lines() -> None:
    below = IntervalSet([(FIRST, (Fraction(5), 0))])
    at_most = IntervalSet([(FIRST, (Fraction(5), 1))])
    assert at_most.minus(below, WORK).holds(5)
    assert not at_most.minus(below, WORK).holds(Fraction(51, 10))
    above = IntervalSet([((Fraction(5), 1), LAST)])
    assert above.holds(above.pick(0) or 0)
    assert at_most.meet(above, WORK).empty


def test_two_halves_make_the_whole_internet_and_addresses_print_as_networks() -> None:
    halves = networks(ipaddress.ip_network(net) for net in ("0.0.0.0/1", "128.0.0.0/1"))
    assert halves.count() == 2**32
    assert as_networks(halves) == ["0.0.0.0/0"]
    both = networks(ipaddress.ip_network(net) for net in ("255.255.255.0/24", "::/64"))
    assert as_networks(both) == ["255.255.255.0/24", "::/64"]


@given(st.sets(st.sampled_from("abc")), st.sets(st.sampled_from("abc")), st.booleans(), st.booleans())
def test_absent_is_a_member_of_its_own(left: set[str], right: set[str], absent: bool, other: bool) -> None:
    a = OptionalSet(FiniteSet(left), absent=absent)
    b = OptionalSet(FiniteSet(right), absent=other)
    assert a.meet(b, WORK).absent == (absent and other)
    assert a.join(b, WORK).absent == (absent or other)
    assert a.minus(b, WORK).absent == (absent and not other)
    assert a.minus(b, WORK).meet(b, WORK).empty


@st.composite
def several_sets(draw: st.DrawFn) -> MultivalueSet:
    families = [
        Family(draw(text_sets()), tuple(draw(st.lists(text_sets(), max_size=2))))
        for _ in range(draw(st.integers(1, 2)))
    ]
    return MultivalueSet(tuple(families)).meet(ANY_SEVERAL, WORK)


@given(several_sets(), several_sets(), st.frozensets(words, max_size=3))
def test_sets_of_several_texts_obey_their_algebra(a: MultivalueSet, b: MultivalueSet, values: frozenset[str]) -> None:
    assert a.meet(b, WORK).holds(values) == (a.holds(values) and b.holds(values))
    assert a.join(b, WORK).holds(values) == (a.holds(values) or b.holds(values))
    assert a.minus(b, WORK).holds(values) == (a.holds(values) and not b.holds(values))
    assert a.minus(a, WORK).empty
    assert ALL_TEXTS.everything
