"""Comparisons: what a fact must be. Read from the words of a baseline, checked against the fact's scale.

    >>> from rusty_lantern.core.value_types import DURATION
    >>> comparison = read_comparison("at least 7 years", DURATION)
    >>> comparison.accepts(DURATION.read("10 years")), comparison.words
    (True, 'at least 7 years')

`absent` (asked, and nothing is configured) satisfies `absent`, `none of` and `within`, and whatever ends in
`or absent`; nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import lru_cache

import msgspec

from rusty_lantern.core.answer import Fact
from rusty_lantern.core.value_sets import NAMES, NameSet, WordSet
from rusty_lantern.core.value_types import TEXT, InvalidValue, Levels, Scale, Value

MAX_TEXT = 4_096
"""A longer observed text satisfies no `matches`; it bounds the work of an expression."""


class ImpossibleComparison(ValueError):
    """The words make no comparison on this fact's scale; the message says why and what would."""


class Comparison(msgspec.Struct, frozen=True):
    """One comparison: its words in normal form, and the same taken apart. Plain data: it travels to other processes.

    `how` is the comparison's own word (`is` for a bare value), `values` what follows it; for `matches` the one
    value is the expression.
    """

    words: str
    how: str
    values: tuple[Value, ...] = ()
    scale: Scale = TEXT
    or_absent: bool = False
    """Whether it ends in `or absent`."""

    @property
    def accepts_absent(self) -> bool:
        """Whether it is satisfied where nothing is configured."""
        return self.or_absent or self.how in ("absent", "none of", "within")

    def accepts(self, value: Value) -> bool:
        """Whether a value satisfies it."""
        return _TESTS[self.how](self, value)

    def holds(self, fact: Fact) -> bool:
        """Whether a settled fact satisfies it."""
        return self.accepts_absent if fact.value is None else self.accepts(fact.value)

    def broken_by(self, part: Value) -> bool:
        """Whether a certain part (of a set of words, of a count) breaks it already, whatever else there is.

        Of ordered words, the part is the least that it can be: it breaks what accepts none from there on.
        """
        if isinstance(self.scale, Levels) and self.scale.ordered:
            return not any(self.accepts(level) for level in self.scale.levels[self.scale.rank(part) :])
        shrinking = self.goes_by_member or self.how == "at most" or self.values == ("",)
        return bool(part) and shrinking and not self.accepts(part)

    @property
    def goes_by_member(self) -> bool:
        """Whether it looks at the members of a set one by one."""
        return self.how == "within" or (self.how == "none of" and isinstance(self.scale, NameSet))

    def accepts_member(self, member: str) -> bool:
        """Whether a set may have this member, as far as it goes by members one by one."""
        return self.accepts(NAMES.join([member]) if isinstance(self.scale, NameSet) else member)

    def rank(self, value: Value) -> float:
        """The rank of a value on the scale."""
        return self.scale.rank(value)


def _matched(comparison: Comparison, value: Value) -> bool:
    text = str(value)
    return len(text) <= MAX_TEXT and _compiled(str(comparison.values[0])).fullmatch(text) is not None


def _listed(comparison: Comparison, value: Value) -> Iterator[bool]:
    """Of each member of a set, whether it is one of those that are written."""
    scale = comparison.scale
    assert isinstance(scale, WordSet | NameSet)
    written = [one for value in comparison.values for one in scale.members(value)]
    return (any(scale.fits(member, one) for one in written) for member in scale.members(value))


@lru_cache(maxsize=1_024)
def _compiled(expression: str) -> re.Pattern[str]:
    return re.compile(expression)


_TESTS: dict[str, Callable[[Comparison, Value], bool]] = {
    "is": lambda c, value: value == c.values[0],
    "present": lambda c, value: True,
    "absent": lambda c, value: False,
    "at least": lambda c, value: c.rank(value) >= c.rank(c.values[0]),
    "at most": lambda c, value: c.rank(value) <= c.rank(c.values[0]),
    "between": lambda c, value: c.rank(c.values[0]) <= c.rank(value) <= c.rank(c.values[1]),
    "one of": lambda c, value: value in c.values,
    "none of": lambda c, value: not any(_listed(c, value)) if isinstance(c.scale, NameSet) else value not in c.values,
    "within": lambda c, value: all(_listed(c, value)),
    "matches": _matched,
}
"""The comparison's word → whether a value satisfies it."""


def read_comparison(text: str, scale: Scale) -> Comparison:
    """Read a comparison. Raises `ImpossibleComparison`."""
    written = text.strip()
    if not written:
        raise ImpossibleComparison("nothing is required here; write a value, or `anything`")
    if written.endswith(" or absent"):
        either = read_comparison(written.removesuffix(" or absent"), scale)
        return msgspec.structs.replace(either, words=f"{either.words} or absent", or_absent=True)
    for prefix, make in _PREFIXES.items():
        if written == prefix or written.startswith(prefix + " "):
            values, words = make(written.removeprefix(prefix).strip(), scale)
            return Comparison(f"{prefix} {words}", prefix, values, scale)
    if written in ("present", "absent"):
        return Comparison(written, written, (), scale)
    wanted = _value(written, scale)
    return Comparison(scale.show(wanted), "is", (wanted,), scale)


Written = tuple[tuple[Value, ...], str]
"""The values of a comparison, and its words after the first."""


def _value(text: str, scale: Scale) -> Value:
    quoted = None if isinstance(scale, NameSet) else re.fullmatch(r'"(.*)"|\'(.*)\'', text)
    try:
        return scale.read((quoted[1] or quoted[2] or "") if quoted else text)
    except InvalidValue as error:
        raise ImpossibleComparison(str(error)) from None


def _ordered(scale: Scale, words: str) -> None:
    if not scale.ordered:
        raise ImpossibleComparison(
            f"`{words}` needs an order, and the scale of this fact ({scale.name}) has none; use "
            + ("`within [...]`" if isinstance(scale, WordSet | NameSet) else "a value or `one of [...]`")
        )


def _at_least(rest: str, scale: Scale) -> Written:
    _ordered(scale, "at least")
    bound = _value(rest, scale)
    return (bound,), scale.show(bound)


def _at_most(rest: str, scale: Scale) -> Written:
    _ordered(scale, "at most")
    bound = _value(rest, scale)
    return (bound,), scale.show(bound)


def _between(rest: str, scale: Scale) -> Written:
    _ordered(scale, "between")
    low_text, separator, high_text = rest.partition(" and ")
    if not separator:
        raise ImpossibleComparison("`between` needs two values: between 1 year and 7 years")
    low, high = _value(low_text.strip(), scale), _value(high_text.strip(), scale)
    if scale.rank(low) > scale.rank(high):
        raise ImpossibleComparison(f"there is nothing between {scale.show(low)} and {scale.show(high)}; swap them")
    return (low, high), f"{scale.show(low)} and {scale.show(high)}"


def _list(rest: str, scale: Scale) -> Written:
    if not (rest.startswith("[") and rest.endswith("]")):
        raise ImpossibleComparison("a list is written in brackets: [a, b]")
    parts = [part.strip() for part in re.split(r""",(?=(?:[^"]*"[^"]*")*[^"]*$)""", rest[1:-1]) if part.strip()]
    if not parts:
        raise ImpossibleComparison("the list is empty")
    values = tuple(_value(part, scale) for part in parts)
    return tuple(dict.fromkeys(values)), "[" + ", ".join(scale.show(value) for value in values) + "]"


def _within(rest: str, scale: Scale) -> Written:
    if not isinstance(scale, WordSet | NameSet):
        raise ImpossibleComparison(f"`within` compares sets, and this fact is measured as {scale.name}")
    return _list(rest, scale)


def _matches(rest: str, scale: Scale) -> Written:
    if scale.ordered or scale.numeric:
        raise ImpossibleComparison(f"`matches` compares texts, and this fact is measured as {scale.name}")
    quoted = re.fullmatch(r'"(.*)"|\'(.*)\'', rest)
    if not quoted:
        raise ImpossibleComparison('an expression is written in quotes: matches "[a-z]+"')
    expression = quoted[1] if quoted[1] is not None else quoted[2]
    if re.search(r"\([^()]*[*+][^()]*\)[*+{]", expression):
        raise ImpossibleComparison("a repeated group that repeats inside itself may take for ever; write it flat")
    try:
        re.compile(expression)
    except (re.error, RecursionError, OverflowError) as error:
        raise ImpossibleComparison(f"not a regular expression: {error}") from None
    return (expression,), f'"{expression}"'


_PREFIXES: dict[str, Callable[[str, Scale], Written]] = {
    "at least": _at_least,
    "at most": _at_most,
    "between": _between,
    "one of": _list,
    "none of": _list,
    "within": _within,
    "matches": _matches,
}
