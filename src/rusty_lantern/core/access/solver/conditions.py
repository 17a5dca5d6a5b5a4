"""Conditions as sets: for which values of its key is a condition true?

Everything turns on the request that does *not* carry the key. A plain operator is false of nothing; a negated
one is true of nothing (it only says "not this"); `…IfExists` and `ForAllValues` are true of nothing; `Null` asks
for it. So every set has *absent* as a member of its own.

One operator table serves each kind of value. A condition that applies an operator to a key of another kind, or
whose values cannot be read, is `NotUnderstood`.
"""

from __future__ import annotations

import base64
import ipaddress
from collections.abc import Callable, Mapping
from fractions import Fraction
from functools import lru_cache
from math import ceil, floor

import msgspec

from rusty_lantern.core.access.policy.condition_keys import ARN, REFERER_HOST, Audience, ContextKey, context_key
from rusty_lantern.core.access.policy.document import Condition
from rusty_lantern.core.access.policy.key_names import key_name
from rusty_lantern.core.access.policy.language_words import LITERAL_VARIABLES, VARIABLE
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.policy.values import NotUnderstood, read_date, read_number
from rusty_lantern.core.access.solver.caller_names import FOLLOWS_FROM_NAME, names_where, names_without
from rusty_lantern.core.access.solver.sets import Budget, OptionalSet
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, NO_TEXTS, TextSet, complement, literals
from rusty_lantern.core.access.solver.sets.intervals import FIRST, LAST, IntervalSet, networks
from rusty_lantern.core.access.solver.sets.matching import matching
from rusty_lantern.core.access.solver.sets.multivalued import Family, MultivalueSet
from rusty_lantern.core.access.solver.sets.patterns import Pattern, early_glob, glob, plain, resource_glob

Truth = OptionalSet[TextSet] | OptionalSet[IntervalSet] | MultivalueSet


HOSTS = complement(matching((glob(".*"),), Budget(1_000)))
"""What a Referer's host can be: none, or a name that does not begin with a dot."""


TIME = "time"
"""The dimension that `aws:CurrentTime` and `aws:EpochTime` share."""


def dimension(key: str) -> str:
    """The dimension that a condition key measures."""
    return TIME if key in ("aws:currenttime", "aws:epochtime") else key


class Frame(msgspec.Struct, frozen=True):
    """Whose requests conditions are read for: an audience, and of some keys what its requests carry."""

    audience: Audience
    fixed: Mapping[str, tuple[str, ...]] = {}
    """Condition key of the bucket's own → its value."""
    identity: Principal | None = None
    by_name: bool = False
    """Whether the caller's resource name represents what follows from it: see `callers`."""

    def carries(self, key: str) -> tuple[str, ...] | None:
        """What every request carries of a key: values, nothing; None where that is not known."""
        own = self.identity.carries(key) if self.identity else None
        return own if own is not None else self.fixed.get(key)

    def dimension(self, key: str) -> str:
        """The dimension that a condition key measures."""
        return ARN if self.by_name and key in FOLLOWS_FROM_NAME else dimension(key)


def truth(condition: Condition, frame: Frame, work: Budget, *, variables: bool) -> Truth:
    """The values of the condition's dimension, *absent* included, for which it is true. Raises `NotUnderstood`."""
    if condition.key == REFERER_HOST:
        return _of_host(condition)
    row = context_key(condition.key)
    if row is None:
        raise NotUnderstood(f'condition key "{condition.key[:60]}" is not known')
    if row.of_bucket and frame.carries(condition.key) is None:
        raise NotUnderstood(f"{row.reason} is not known ({condition.key})")
    if frame.by_name and condition.key in FOLLOWS_FROM_NAME:
        return _of_name(condition, row, frame, work, variables=variables)
    if condition.operator == "null":
        return _null(condition, row)
    if row.many:
        return _of_several(condition, frame, work, variables=variables)
    if row.kind in ("text", "switch", "name"):
        texts = _texts(condition, row, frame, work, variables=variables)
        return OptionalSet(complement(texts) if _negated(condition) else texts, absent=true_of_nothing(condition))
    line = _line(condition, row)
    return OptionalSet(line.outside() if _negated(condition) else line, absent=true_of_nothing(condition))


@lru_cache(maxsize=1024)
def _of_host(condition: Condition) -> OptionalSet[TextSet]:
    """The hosts that an entry of a container ACL means: the ACLs of many containers hold the same few."""
    like = condition.operator in ("stringlike", "stringnotlike")
    patterns = tuple(glob(value) if like else plain(value) for value in condition.values)
    texts = matching(patterns, Budget(10_000))
    return OptionalSet(complement(texts) if _negated(condition) else texts, absent=False)


def _of_name(condition: Condition, row: ContextKey, frame: Frame, work: Budget, *, variables: bool) -> Truth:
    """Turn a condition on the caller's account, sort or user name into a set of resource names."""
    without = names_without(condition.key)
    if condition.operator == "null":
        absent, present = _null_wants(condition)
        names = complement(without) if present else NO_TEXTS
        return OptionalSet(names.join(without, work) if absent else names, absent=False)
    names = names_where(condition.key, _patterns(condition, row, frame, variables=variables))
    if _negated(condition):
        names = complement(names.join(without, work))
    return OptionalSet(names.join(without, work) if true_of_nothing(condition) else names, absent=False)


def _negated(condition: Condition) -> bool:
    return "not" in condition.operator


def true_of_nothing(condition: Condition) -> bool:
    """Whether a condition, other than Null, is true of a request that does not carry its key."""
    if condition.quantifier == "foranyvalue":
        return condition.if_exists
    return condition.if_exists or _negated(condition) or condition.quantifier == "forallvalues"


def _null_wants(condition: Condition) -> tuple[bool, bool]:
    wanted = {value.lower() for value in condition.values}
    if not wanted <= {"true", "false"}:
        raise NotUnderstood(f"Null must be true or false ({condition.place})")
    return "true" in wanted, "false" in wanted


def _null(condition: Condition, row: ContextKey) -> Truth:
    absent, present = _null_wants(condition)
    if row.many:
        families = [Family(every=NO_TEXTS)] * absent + [Family(some=(ALL_TEXTS,))] * present
        return MultivalueSet(tuple(families))
    if row.kind in ("text", "switch", "name"):
        return OptionalSet(ALL_TEXTS if present else NO_TEXTS, absent=absent)
    return OptionalSet(IntervalSet([(FIRST, LAST)]) if present else IntervalSet(), absent=absent)


def _of_several(condition: Condition, frame: Frame, work: Budget, *, variables: bool) -> MultivalueSet:
    if not condition.quantifier:
        raise NotUnderstood(f'"{condition.key}" carries several values and needs ForAllValues or ForAnyValue')
    row = context_key(condition.key)
    assert row is not None
    texts = _texts(condition, row, frame, work, variables=variables)
    texts = complement(texts) if _negated(condition) else texts
    if condition.quantifier == "forallvalues":
        return MultivalueSet((Family(every=texts),))
    nothing = (Family(every=NO_TEXTS),) if condition.if_exists else ()
    return MultivalueSet((Family(some=(texts,)), *nothing))


_PATTERN_OF: dict[str, Callable[[str], Pattern]] = {
    "stringequals": plain,
    "stringequalsignorecase": lambda text: plain(text, fold_case=True),
    "stringlike": glob,
    "arnequals": resource_glob,
    "arnlike": resource_glob,
    "binaryequals": lambda text: plain(of_base64(text)),
}


def of_base64(text: str) -> str:
    """What a value of BinaryEquals means: the operator compares with its base64 form. Raises `NotUnderstood`."""
    try:
        return base64.b64decode(text, validate=True).decode()
    except ValueError:
        raise NotUnderstood("a value of BinaryEquals is not the base64 form of a text") from None


def _texts(condition: Condition, row: ContextKey, frame: Frame, work: Budget, *, variables: bool) -> TextSet:
    operator = condition.operator.replace("not", "")
    if operator == "bool" and row.kind == "switch":
        values = {value.lower() for value in condition.values}
        if not values <= {"true", "false"}:
            raise NotUnderstood(f"Bool must be true or false ({condition.place})")
        return literals(frozenset(values))
    if operator == "stringequals" and not (variables and any("${" in value for value in condition.values)):
        work.spend(sum(map(len, condition.values)))
        return literals(frozenset(condition.values))
    return matching(_patterns(condition, row, frame, variables=variables), work)


def _patterns(condition: Condition, row: ContextKey, frame: Frame, *, variables: bool) -> tuple[Pattern, ...]:
    operator = condition.operator.replace("not", "")
    make = early_glob if condition.stars_end_early and operator == "stringlike" else _PATTERN_OF.get(operator)
    if make is None or (operator.startswith("arn") and row.kind != "name"):
        raise NotUnderstood(f'{condition.operator} does not fit "{condition.key}", which holds a {row.kind}')
    patterns = [expand(value, make, frame) if variables else make(value) for value in condition.values]
    if None in patterns and _negated(condition):
        raise NotUnderstood(f"a negated condition on a variable that this caller does not have ({condition.place})")
    return tuple(p for p in patterns if p is not None)


def expand(text: str, make: Callable[[str], Pattern], frame: Frame) -> Pattern | None:
    """Tokens of a text with policy variables in it; None if it can match nothing for this audience.

    A caller without credentials has no identity, so a variable that names one matches nothing. Other callers
    choose theirs, which ties two dimensions together: that is not expressed here, hence `NotUnderstood`.
    """
    if "${" not in text:
        return make(text)
    tokens: Pattern = ()
    end = 0
    for variable in VARIABLE.finditer(text):
        tokens += make(text[end : variable.start()]) if variable.start() > end else ()
        end = variable.end()
        name, _, fallback = (part.strip() for part in variable[1].partition(","))
        value = LITERAL_VARIABLES.get(name) or _variable(name, frame) or fallback.strip("'\"")
        if not value:
            return None
        tokens += plain(value)
    return tokens + (make(text[end:]) if end < len(text) else ())


def _variable(name: str, frame: Frame) -> str:
    """The value of a variable; empty where no request carries it. Raises `NotUnderstood` where callers choose it."""
    key = key_name(name)
    row = context_key(key)
    known = frame.carries(key)
    if known is not None:
        return known[0] if known else ""
    if row is not None and row.anonymous and frame.audience == "anyone":
        return row.anonymous
    if row is None or row.of_bucket or row.carried(frame.audience) != "never":
        raise NotUnderstood(f"it depends on the variable ${{{name[:60]}}}")
    return ""


def _line(condition: Condition, row: ContextKey) -> IntervalSet:
    kind, operator = row.kind, condition.operator.replace("not", "")
    try:
        if kind == "address" and operator == "ipaddress":
            return networks(ipaddress.ip_network(value.strip(), strict=False) for value in condition.values)
        if kind == "date" and operator.startswith("date"):
            return _compare(operator.removeprefix("date"), [read_date(v) for v in condition.values], whole=True)
        if condition.key == "aws:epochtime" and operator.startswith("numeric"):
            return _compare(operator.removeprefix("numeric"), [int(v) for v in condition.values], whole=True)
        if kind == "number" and operator.startswith("numeric"):
            numbers = [read_number(v) for v in condition.values]
            return _compare(operator.removeprefix("numeric"), numbers, whole=row.whole)
    except (ValueError, OverflowError, ZeroDivisionError):
        raise NotUnderstood(f"a value of {condition.operator} cannot be read as {kind} ({condition.place})") from None
    raise NotUnderstood(f'{condition.operator} does not fit "{condition.key}", which holds a {kind}')


def _compare(how: str, values: list[int] | list[Fraction], *, whole: bool) -> IntervalSet:
    """The values for which a comparison is true; `whole`: only whole numbers are values."""
    spans = []
    for value in values:
        before = (ceil(value), 0) if whole else (value, 0)
        behind = (floor(value) + 1, 0) if whole else (value, 1)
        spans.append(
            {
                "equals": (before, behind),
                "lessthan": (FIRST, before),
                "lessthanequals": (FIRST, behind),
                "greaterthan": (behind, LAST),
                "greaterthanequals": (before, LAST),
            }[how]
        )
    return IntervalSet(spans)
