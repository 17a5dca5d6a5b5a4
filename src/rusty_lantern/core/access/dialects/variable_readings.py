"""Variables of a statement (`${aws:username}`) as a store's software fills them in.

Where it does so by who asks, or by what is sent, the statement becomes several, each with conditions of the common
language that tell those requests apart.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator
from functools import partial

import msgspec

from rusty_lantern.core.access.dialects.condition_readings import signed
from rusty_lantern.core.access.policy.condition_keys import context_key
from rusty_lantern.core.access.policy.document import Condition, Fault, Statement
from rusty_lantern.core.access.policy.key_names import is_misspelled, key_name
from rusty_lantern.core.access.policy.language_words import LITERAL_VARIABLES, VARIABLE
from rusty_lantern.core.model.dialect import Readings

Parts = list[tuple[Statement, tuple[Condition, ...]]]
"""Statements, each with conditions that narrow what it becomes."""
Axis = list[tuple[tuple[Condition, ...], frozenset[str]]]
"""Conditions of which one holds of every request, each with the variables that are not filled in then."""
_USER = "aws:username"
_BY_SIGNATURE = frozenset({_USER, "aws:userid"})
_BY_HEADER = frozenset({"aws:Referer", "aws:UserAgent"})
_BY_ALL = frozenset({"aws:SourceIp", "aws:SecureTransport", "aws:CurrentTime"})


def variables_as_read(statement: Statement, readings: Readings) -> Parts:
    """What a statement becomes by its variables; itself where they mean the same there."""
    if statement.variables and any("${" in text for text in _texts(statement)):
        if readings.variables_are_whole_values:
            return _of_whole_values(statement, readings)
        if readings.unfilled_variables_are_text:
            return list(_by_what_is_filled(statement))
    return [(statement, ())]


def _texts(statement: Statement) -> Iterator[str]:
    yield from statement.resources
    for condition in statement.conditions:
        yield from condition.values


def _by_what_is_filled(statement: Statement) -> Iterator[tuple[Statement, tuple[Condition, ...]]]:
    """A statement in which a variable is text where the request has no value of it."""
    names = {name for text in _texts(statement) for name in VARIABLE.findall(text)}
    place, always_text = statement.place, frozenset(filter(_is_text, names))
    axes: list[Axis] = []
    if by_signature := frozenset(names & _BY_SIGNATURE):
        axes.append([((signed(place, negated=True),), frozenset()), ((signed(place, negated=False),), by_signature)])
    for name in sorted(names & _BY_HEADER):
        sent, left_out = (Condition("null", key_name(name), (value,), place) for value in ("false", "true"))
        axes.append([((sent,), frozenset()), ((left_out,), frozenset({name}))])
    others = sorted(names - always_text - _BY_SIGNATURE - _BY_HEADER - _BY_ALL)
    faults = tuple(Fault(place, f"whether this store fills in ${{{name[:60]}}} is not known") for name in others)
    for together in itertools.product(*axes):
        unfilled = always_text.union(*(without for _, without in together))
        if unfilled == names:
            read = msgspec.structs.replace(statement, variables=False)
        else:
            read = _with_texts(statement, partial(_as_text, names=unfilled))
        only = tuple(condition for conditions, _ in together for condition in conditions)
        yield msgspec.structs.replace(read, faults=statement.faults + faults), only


def _is_text(name: str) -> bool:
    """Whether a variable is filled in for no request: `${*}`, and whatever is no name of a key to the letter."""
    return name in LITERAL_VARIABLES or not _NAME.fullmatch(name) or is_misspelled(name)


_NAME = re.compile(r"\w+:[^\s,]+")


def _as_text(text: str, names: frozenset[str]) -> str:
    """A text in which these variables are none, as the common language writes it.

    >>> _as_text("home/${aws:username}/*", frozenset({"aws:username"}))
    'home/${$}{aws:username}/*'
    """
    return VARIABLE.sub(lambda match: f"${{$}}{{{match[1]}}}" if match[1] in names else match[0], text)


def _with_texts(statement: Statement, read: Callable[[str], str]) -> Statement:
    conditions = (msgspec.structs.replace(one, values=tuple(map(read, one.values))) for one in statement.conditions)
    resources = tuple(map(read, statement.resources))
    return msgspec.structs.replace(statement, resources=resources, conditions=tuple(conditions))


def _of_whole_values(statement: Statement, readings: Readings) -> Parts:
    """A statement in which only the value of a condition can be a variable, and the last value of a condition that has
    one is the only one that counts."""
    if not any(map(_has_variable, statement.conditions)):
        return [(msgspec.structs.replace(statement, variables=False), ())]
    conditions: list[Condition] = []
    texts, faults = list(statement.resources), list(statement.faults)
    for condition in statement.conditions:
        if not _has_variable(condition):
            conditions.append(condition)
            texts += condition.values
            continue
        conditions.append(whole := _of_last_value(condition, readings))
        if not whole.values or "${" not in whole.values[0] or whole.values[0] in _FILLED:
            continue
        faults.append(Fault(condition.place, f"whether this store fills in {whole.values[0][:60]} is not known"))
    if any("${" in text for text in texts):
        faults.append(Fault(statement.place, "what this store takes for text stands beside a variable"))
    read = msgspec.structs.replace(statement, conditions=tuple(conditions), faults=tuple(faults))
    user = f"${{{_USER}}}"
    if not any(user in one.values for one in conditions):
        return [(read, ())]
    if readings.name_of_nobody:
        nobody = _with_texts(read, lambda text: text.replace(user, readings.name_of_nobody))
    else:
        unnamed = tuple(_fitting_nothing(one) if user in one.values else one for one in conditions)
        nobody = msgspec.structs.replace(read, conditions=unnamed)
    by_nobody, by_somebody = (signed(statement.place, negated=negated) for negated in (False, True))
    return [(nobody, (by_nobody,)), (read, (by_somebody,))]


_FILLED = frozenset(f"${{{name}}}" for name in _BY_ALL - {"aws:SecureTransport"} | {_USER})
"""The variables that are filled in for every request."""


def _has_variable(condition: Condition) -> bool:
    return condition.operator.startswith("string") and any(value.startswith("${") for value in condition.values)


def _of_last_value(condition: Condition, readings: Readings) -> Condition:
    """A condition whose value is what the request has of the key that its last value names, letter by letter, but for
    two letters before and one behind. A request that has none of it does not fit, whatever the operator."""
    name = condition.values[-1][2:-1]
    key = key_name(name)
    value: tuple[str, ...] = (f"${{{name}}}",)
    if key in dict(readings.always_carried):
        value = (dict(readings.always_carried)[key],)
    if is_misspelled(name) or context_key(key) is None or key in readings.never_carried:
        return _fitting_nothing(condition)
    return msgspec.structs.replace(condition, values=value)


def _fitting_nothing(condition: Condition) -> Condition:
    """A condition that no value fits, of a negated operator too."""
    return msgspec.structs.replace(condition, values=(), operator=condition.operator.replace("not", ""))
