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
from collections.abc import Callable

import msgspec

from rusty_lantern.core.value_types import NotOnScale, Parts, Scale, Value

MAX_TEXT = 4_096
"""A longer observed text satisfies no `matches`; it bounds the work of an expression."""


class ImpossibleComparison(ValueError):
    """The words make no comparison on this fact's scale; the message says why and what would."""


class Comparison(msgspec.Struct, frozen=True):
    """One comparison: its words in normal form, what it accepts, and the same taken apart.

    `how` is the comparison's own word (`is` for a bare value), `values` what stands after it; for `matches` the one
    value is the expression.
    """

    words: str
    accepts: Callable[[Value], bool]
    accepts_absent: bool = False
    how: str = "is"
    values: tuple[Value, ...] = ()

    def broken_by(self, part: Value) -> bool:
        """Whether a certain part (of a set of words, of a count) breaks it already, whatever else there is."""
        return bool(part) and (self.how in ("within", "at most") or self.values == ("",)) and not self.accepts(part)


def read_comparison(text: str, scale: Scale) -> Comparison:
    """Read a comparison. Raises `ImpossibleComparison`."""
    written = text.strip()
    if not written:
        raise ImpossibleComparison("nothing is required here; write a value, or `anything`")
    if written.endswith(" or absent"):
        either = read_comparison(written.removesuffix(" or absent"), scale)
        return msgspec.structs.replace(either, words=f"{either.words} or absent", accepts_absent=True)
    for prefix, make in _PREFIXES.items():
        if written == prefix or written.startswith(prefix + " "):
            return make(written.removeprefix(prefix).strip(), scale)
    if written == "present":
        return Comparison("present", lambda _: True, how="present")
    if written == "absent":
        return Comparison("absent", lambda _: False, accepts_absent=True, how="absent")
    wanted = _value(written, scale)
    return Comparison(scale.show(wanted), lambda value: value == wanted, values=(wanted,))


def _value(text: str, scale: Scale) -> Value:
    quoted = re.fullmatch(r'"(.*)"|\'(.*)\'', text)
    try:
        return scale.read((quoted[1] or quoted[2] or "") if quoted else text)
    except NotOnScale as error:
        raise ImpossibleComparison(str(error)) from None


def _ordered(scale: Scale, words: str) -> None:
    if not scale.ordered:
        raise ImpossibleComparison(
            f"`{words}` needs an order, and {scale.name} has none; use a value or `one of [...]`"
        )


def _at_least(rest: str, scale: Scale) -> Comparison:
    _ordered(scale, "at least")
    least = _value(rest, scale)
    words = f"at least {scale.show(least)}"
    return Comparison(words, lambda value: scale.rank(value) >= scale.rank(least), how="at least", values=(least,))


def _at_most(rest: str, scale: Scale) -> Comparison:
    _ordered(scale, "at most")
    most = _value(rest, scale)
    words = f"at most {scale.show(most)}"
    return Comparison(words, lambda value: scale.rank(value) <= scale.rank(most), how="at most", values=(most,))


def _between(rest: str, scale: Scale) -> Comparison:
    _ordered(scale, "between")
    low_text, found, high_text = rest.partition(" and ")
    if not found:
        raise ImpossibleComparison("`between` needs two values: between 1 year and 7 years")
    low, high = _value(low_text.strip(), scale), _value(high_text.strip(), scale)
    if scale.rank(low) > scale.rank(high):
        raise ImpossibleComparison(f"nothing lies between {scale.show(low)} and {scale.show(high)}; turn them round")
    words = f"between {scale.show(low)} and {scale.show(high)}"
    return Comparison(
        words, lambda value: scale.rank(low) <= scale.rank(value) <= scale.rank(high), how="between", values=(low, high)
    )


def _list(rest: str, scale: Scale) -> tuple[frozenset[Value], str]:
    if not (rest.startswith("[") and rest.endswith("]")):
        raise ImpossibleComparison("a list stands in brackets: one of [a, b]")
    parts = [part.strip() for part in re.split(r""",(?=(?:[^"]*"[^"]*")*[^"]*$)""", rest[1:-1]) if part.strip()]
    if not parts:
        raise ImpossibleComparison("the list is empty")
    values = [_value(part, scale) for part in parts]
    return frozenset(values), "[" + ", ".join(scale.show(value) for value in values) + "]"


def _one_of(rest: str, scale: Scale) -> Comparison:
    values, words = _list(rest, scale)
    return Comparison(f"one of {words}", lambda value: value in values, how="one of", values=tuple(values))


def _none_of(rest: str, scale: Scale) -> Comparison:
    values, words = _list(rest, scale)
    return Comparison(
        f"none of {words}", lambda value: value not in values, accepts_absent=True, how="none of", values=tuple(values)
    )


def _within(rest: str, scale: Scale) -> Comparison:
    if not isinstance(scale, Parts):
        raise ImpossibleComparison(f"`within` compares sets of words, and this fact is measured as {scale.name}")
    values, words = _list(rest, scale)
    allowed = {word for value in values for word in str(value).split()}
    return Comparison(
        f"within {words}", lambda value: set(str(value).split()) <= allowed, accepts_absent=True, how="within"
    )


def _matches(rest: str, scale: Scale) -> Comparison:
    if scale.ordered or scale.numeric:
        raise ImpossibleComparison(f"`matches` compares texts, and this fact is measured as {scale.name}")
    quoted = re.fullmatch(r'"(.*)"|\'(.*)\'', rest)
    if not quoted:
        raise ImpossibleComparison('an expression stands in quotes: matches "[a-z]+"')
    expression = quoted[1] if quoted[1] is not None else quoted[2]
    if re.search(r"\([^()]*[*+][^()]*\)[*+{]", expression):
        raise ImpossibleComparison("a repeated group that repeats inside itself may take for ever; write it flat")
    try:
        compiled = re.compile(expression)
    except (re.error, RecursionError, OverflowError) as error:
        raise ImpossibleComparison(f"not a regular expression: {error}") from None
    return Comparison(
        f'matches "{expression}"',
        lambda value: len(str(value)) <= MAX_TEXT and compiled.fullmatch(str(value)) is not None,
        how="matches",
        values=(expression,),
    )


_PREFIXES: dict[str, Callable[[str, Scale], Comparison]] = {
    "at least": _at_least,
    "at most": _at_most,
    "between": _between,
    "one of": _one_of,
    "none of": _none_of,
    "within": _within,
    "matches": _matches,
}
