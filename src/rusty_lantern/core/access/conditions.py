"""Conditions as sets: for which values of its key is a condition true?

Everything turns on the request that does *not* carry the key. A plain operator is false of nothing; a negated
one is true of nothing (it only says "not this"); `…IfExists` and `ForAllValues` are true of nothing; `Null` asks
for it. So every set has *absent* as a member of its own.

One operator table serves each kind of value. A condition that applies an operator to a key of another kind, or
whose values cannot be read, is `NotUnderstood`.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from datetime import UTC, datetime
from fractions import Fraction

from rusty_lantern.core.access.documents import LITERAL_VARIABLES, VARIABLE, Condition
from rusty_lantern.core.access.keys import Audience, ContextKey, context_key
from rusty_lantern.core.access.sets import Maybe, Work
from rusty_lantern.core.access.sets.line import FIRST, LAST, Line, networks
from rusty_lantern.core.access.sets.several import Family, Several
from rusty_lantern.core.access.sets.texts import (
    ALL_TEXTS,
    NO_TEXTS,
    Pattern,
    TextSet,
    complement,
    glob,
    literals,
    matching,
    plain,
    resource_glob,
)

Truth = Maybe[TextSet] | Maybe[Line] | Several


class NotUnderstood(Exception):
    """A condition or resource whose meaning here is not known; the message says why."""


TIME = "time"
"""The dimension that `aws:CurrentTime` and `aws:EpochTime` share."""


def dimension(key: str) -> str:
    """The dimension that a condition key measures."""
    return TIME if key in ("aws:currenttime", "aws:epochtime") else key


def truth(condition: Condition, audience: Audience, work: Work, *, variables: bool) -> Truth:
    """The values of the condition's key, *absent* included, for which it is true. Raises `NotUnderstood`."""
    row = context_key(condition.key)
    if row is None:
        raise NotUnderstood(f'condition key "{condition.key[:60]}" is not known')
    if condition.operator == "null":
        return _null(condition, row)
    if row.many:
        return _of_several(condition, audience, work, variables=variables)
    if row.kind in ("text", "switch", "name"):
        texts = _texts(condition, row, audience, work, variables=variables)
        return Maybe(complement(texts) if _negated(condition) else texts, absent=_true_of_nothing(condition))
    line = _line(condition, row)
    return Maybe(line.outside() if _negated(condition) else line, absent=_true_of_nothing(condition))


def _negated(condition: Condition) -> bool:
    return "not" in condition.operator


def _true_of_nothing(condition: Condition) -> bool:
    if condition.quantifier == "foranyvalue":
        return condition.if_exists
    return condition.if_exists or _negated(condition) or condition.quantifier == "forallvalues"


def _null(condition: Condition, row: ContextKey) -> Truth:
    wanted = {value.lower() for value in condition.values}
    if not wanted <= {"true", "false"}:
        raise NotUnderstood(f"Null must be true or false ({condition.place})")
    absent, present = "true" in wanted, "false" in wanted
    if row.many:
        families = [Family(every=NO_TEXTS)] * absent + [Family(some=(ALL_TEXTS,))] * present
        return Several(tuple(families))
    if row.kind in ("text", "switch", "name"):
        return Maybe(ALL_TEXTS if present else NO_TEXTS, absent=absent)
    return Maybe(Line([(FIRST, LAST)]) if present else Line(), absent=absent)


def _of_several(condition: Condition, audience: Audience, work: Work, *, variables: bool) -> Several:
    if not condition.quantifier:
        raise NotUnderstood(f'"{condition.key}" carries several values and needs ForAllValues or ForAnyValue')
    row = context_key(condition.key)
    assert row is not None
    texts = _texts(condition, row, audience, work, variables=variables)
    texts = complement(texts) if _negated(condition) else texts
    if condition.quantifier == "forallvalues":
        return Several((Family(every=texts),))
    nothing = (Family(every=NO_TEXTS),) if condition.if_exists else ()
    return Several((Family(some=(texts,)), *nothing))


_PATTERN_OF: dict[str, Callable[[str], Pattern]] = {
    "stringequals": plain,
    "stringequalsignorecase": lambda text: plain(text, fold_case=True),
    "stringlike": glob,
    "arnequals": resource_glob,
    "arnlike": resource_glob,
    "binaryequals": plain,
}


def _texts(condition: Condition, row: ContextKey, audience: Audience, work: Work, *, variables: bool) -> TextSet:
    operator = condition.operator.replace("not", "")
    if operator == "bool" and row.kind == "switch":
        values = {value.lower() for value in condition.values}
        if not values <= {"true", "false"}:
            raise NotUnderstood(f"Bool must be true or false ({condition.place})")
        return literals(frozenset(values))
    make = _PATTERN_OF.get(operator)
    if make is None or (operator.startswith("arn") and row.kind != "name"):
        raise NotUnderstood(f'{condition.operator} does not fit "{condition.key}", which holds a {row.kind}')
    if operator == "stringequals" and not (variables and any("${" in value for value in condition.values)):
        work.spend(sum(map(len, condition.values)))
        return literals(frozenset(condition.values))
    patterns = [expand(value, make, audience) if variables else make(value) for value in condition.values]
    if None in patterns and _negated(condition):
        raise NotUnderstood(f"a negated condition on a variable that this caller does not have ({condition.place})")
    return matching(tuple(p for p in patterns if p is not None), work)


def expand(text: str, make: Callable[[str], Pattern], audience: Audience) -> Pattern | None:
    """Tokens of a text with policy variables in it; None if it can match nothing for this audience.

    A caller without credentials has no identity, so a variable that names one matches nothing. Other callers
    choose theirs, which ties two dimensions together: that is not expressed here, hence `NotUnderstood`.
    """
    if "${" not in text:
        return make(text)
    tokens: Pattern = ()
    end = 0
    for found in VARIABLE.finditer(text):
        tokens += make(text[end : found.start()]) if found.start() > end else ()
        end = found.end()
        name, _, fallback = (part.strip() for part in found[1].partition(","))
        if name in LITERAL_VARIABLES:
            tokens += plain(LITERAL_VARIABLES[name])
            continue
        row = context_key(name.lower())
        if row is not None and row.anonymous and audience == "anyone":
            tokens += plain(row.anonymous)
            continue
        if row is None or row.carried(audience) != "never":
            raise NotUnderstood(f"it depends on the variable ${{{name[:60]}}}")
        if not fallback:
            return None
        tokens += plain(fallback.strip("'\""))
    return tokens + (make(text[end:]) if end < len(text) else ())


def _line(condition: Condition, row: ContextKey) -> Line:
    kind, operator = row.kind, condition.operator.replace("not", "")
    try:
        if kind == "address" and operator == "ipaddress":
            return networks(ipaddress.ip_network(value.strip(), strict=False) for value in condition.values)
        if kind == "date" and operator.startswith("date"):
            return _compare(operator.removeprefix("date"), [read_date(v) for v in condition.values], whole=True)
        if condition.key == "aws:epochtime" and operator.startswith("numeric"):
            return _compare(operator.removeprefix("numeric"), [int(v) for v in condition.values], whole=True)
        if kind == "number" and operator.startswith("numeric"):
            return _compare(operator.removeprefix("numeric"), [read_number(v) for v in condition.values], whole=False)
    except (ValueError, OverflowError, ZeroDivisionError):
        raise NotUnderstood(f"a value of {condition.operator} cannot be read as {kind} ({condition.place})") from None
    raise NotUnderstood(f'{condition.operator} does not fit "{condition.key}", which holds a {kind}')


def read_number(text: str) -> Fraction:
    """A number as the language writes it. Raises `ValueError`."""
    if len(text) > 40 or "/" in text or "e" in text.lower():
        raise ValueError(text)
    return Fraction(text)


def read_date(text: str) -> int:
    """Seconds since 1970 from ISO 8601 text or a count of seconds. Raises `ValueError`."""
    if text.strip().lstrip("-").isdigit():
        return int(text)
    moment = datetime.fromisoformat(text.strip())
    return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())


def _compare(how: str, values: list[int] | list[Fraction], *, whole: bool) -> Line:
    spans = []
    for value in values:
        before = (value, 0)
        behind = (value + 1, 0) if whole else (value, 1)
        spans.append(
            {
                "equals": (before, behind),
                "lessthan": (FIRST, before),
                "lessthanequals": (FIRST, behind),
                "greaterthan": (behind, LAST),
                "greaterthanequals": (before, LAST),
            }[how]
        )
    return Line(spans)
