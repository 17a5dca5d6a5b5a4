"""A condition as a store's software reads it, written in the common language.

It becomes alternatives, each a list of conditions of the common language that hold together: none where it never holds,
one empty list where it always does.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Iterable, Iterator
from decimal import Decimal
from functools import partial

import msgspec

from rusty_lantern.core.access.dialects.caller_values import parameter_of, with_further_value
from rusty_lantern.core.access.dialects.glob_expressions import fits_pattern
from rusty_lantern.core.access.dialects.strict_values import of_its_form
from rusty_lantern.core.access.dialects.written_values import Kind, Unclear, as_read
from rusty_lantern.core.access.policy.condition_keys import FORWARDED, SORT, USER
from rusty_lantern.core.access.policy.document import Condition
from rusty_lantern.core.model.dialect import Readings

TRANSPORT, EPOCH, SOURCE = "aws:securetransport", "aws:epochtime", "aws:sourceip"
Alternatives = list[tuple[Condition, ...]]
ALWAYS: Alternatives = [()]
NEVER: Alternatives = []


def signed(place: str, *, negated: bool) -> Condition:
    """That a request is sent without credentials, or not."""
    return Condition(f"string{'not' if negated else ''}equals", SORT, ("Anonymous",), place)


def alternatives(condition: Condition, readings: Readings, effect: str, *, variables: bool) -> Alternatives:
    """What a condition of a statement with this effect becomes. Raises `Unclear`."""
    key = condition.key
    constants = dict(readings.always_carried)
    family = key[: key.find("/") + 1]  # of a tag: it is named by that
    never = key in readings.never_carried or family in readings.never_carried
    if never or (condition.misspelled and readings.condition_keys_are_case_sensitive):
        return ALWAYS if _of_nothing(condition, readings) else NEVER
    if condition.operator.startswith("numeric") and key == EPOCH and readings.moments_are_no_numbers:
        return NEVER
    if condition.operator.startswith("arn") and readings.resource_names_fit_nothing:
        return [(Condition("null", key, ("true",), condition.place),)] if condition.if_exists else NEVER
    if key in constants:
        return ALWAYS if _of_value(condition, constants[key], readings, variables=variables) else NEVER
    if key in readings.carried_by_all and not condition.quantifier:
        return _of_all(condition, readings, effect)
    if key == SOURCE and readings.addresses_are_what_is_said:
        condition = msgspec.structs.replace(condition, key=FORWARDED)
    carried = _by_key(condition, readings, effect, variables=variables)
    parameter = parameter_of(key) if readings.parameters_are_values else ""
    return with_further_value(condition, carried, parameter) if parameter else carried


def _by_key(condition: Condition, readings: Readings, effect: str, *, variables: bool) -> Alternatives:
    """A condition on a key that some requests carry; some keys are carried in a way of their own."""
    key = condition.key
    if key == TRANSPORT and readings.transport_is_known_over_tls_only:
        return _by_transport(condition, readings, variables=variables)
    of_nobody: bool | None = None
    somebody: Iterable[tuple[Condition, ...]] = _plain(condition, readings)
    if key == USER and readings.name_of_nobody:
        of_nobody = _of_value(condition, readings.name_of_nobody, readings, variables=variables)
        somebody = _of_all(condition, readings, effect)
    elif key in readings.empty_of_unsigned:
        of_nobody = _of_value(condition, "", readings, variables=variables)
    elif key in readings.carried_by_signed:
        of_nobody = _of_nothing(condition, readings)
    if of_nobody is not None:
        by_nobody, by_somebody = (signed(condition.place, negated=negated) for negated in (False, True))
        return [*([(by_nobody,)] if of_nobody else []), *((*one, by_somebody) for one in somebody)]
    if key in readings.absent_is_empty:
        return _with_absent_as_empty(condition, readings, variables=variables)
    if key in readings.empty_is_absent:
        return _with_empty_as_absent(condition, readings)
    usual = dict(readings.usual_and_most).get(key)
    if usual is not None and not condition.quantifier and condition.operator.startswith(("numeric", "null")):
        return _with_usual_and_most(condition, usual, readings)
    return list(_plain(condition, readings))


def _of_all(condition: Condition, readings: Readings, effect: str) -> Alternatives:
    """A condition on a key that every request carries. In the common language a request may not: such a one, which
    nobody can send, is let in by no Allow, and refused by a Deny."""
    if condition.operator == "null":
        return NEVER if _of_nothing(condition, readings) else ALWAYS
    absent, carried = (Condition("null", condition.key, (value,), condition.place) for value in ("true", "false"))
    if condition.quantifier:
        sent = [(*one, carried) for one in _plain(condition, readings)]
        return [*sent, (absent,)] if effect == "Deny" else sent
    sent = list(_plain(msgspec.structs.replace(condition, if_exists=False), readings))
    if effect != "Deny":
        return sent
    sent = [tuple(part for part in together if part != carried) for together in sent]
    return sent if any("not" in part.operator for together in sent for part in together) else [*sent, (absent,)]


def _with_empty_as_absent(condition: Condition, readings: Readings) -> Alternatives:
    """A condition on a parameter whose empty value is none."""
    gone = Condition("stringequals", condition.key, ("",), condition.place, if_exists=True)
    there = (
        Condition("null", condition.key, ("false",), condition.place),
        Condition("stringnotequals", condition.key, ("",), condition.place),
    )
    absent: Alternatives = [(gone,)] if _of_nothing(condition, readings) else []
    if condition.operator == "null":
        return absent or [there]
    return [*((*one, *there) for one in _plain(condition, readings)), *absent]


def _with_absent_as_empty(condition: Condition, readings: Readings, *, variables: bool) -> Alternatives:
    """A condition on a header that counts as sent and empty where it is not sent."""
    of_empty = _of_value(condition, "", readings, variables=variables)
    if condition.operator == "null":
        return ALWAYS if of_empty else NEVER
    absent, there = (Condition("null", condition.key, (value,), condition.place) for value in ("true", "false"))
    return [*([(absent,)] if of_empty else []), *((*one, there) for one in _plain(condition, readings))]


def _with_usual_and_most(condition: Condition, usual: str, readings: Readings) -> Alternatives:
    """A condition on a number that every request carries: where it is not sent, or is more, the usual one."""
    if condition.operator == "null":
        return ALWAYS if not _of_nothing(condition, readings) else NEVER
    within = Condition("numericlessthanequals", condition.key, (usual,), condition.place)
    beyond = Condition("numericgreaterthan", condition.key, (usual,), condition.place, if_exists=True)
    sent = list(_plain(condition, readings))
    values = [Decimal(value) for value in _with_read_values(condition, "number", readings).values]
    test = _COMPARES[condition.operator.removeprefix("numeric").replace("not", "")]
    fits = [test(Decimal(usual), value) for value in values]
    if "not" in condition.operator:
        takes_any = readings.negated_with_several_values_takes_any
        usual_fits = bool(fits) and (not all(fits) if takes_any else not any(fits))
    else:
        usual_fits = any(fits)
    return [*((*one, within) for one in sent), *([(beyond,)] if usual_fits else [])]


_COMPARES: dict[str, Callable[[Decimal, Decimal], bool]] = {
    "equals": operator.eq, "lessthan": operator.lt, "lessthanequals": operator.le,
    "greaterthan": operator.gt, "greaterthanequals": operator.ge,
}  # fmt: skip


def _plain(condition: Condition, readings: Readings) -> Iterator[tuple[Condition, ...]]:
    """A condition on a key that means the same there."""
    if condition.operator == "null":
        asks = readings.null_asks_for_absence
        yield (msgspec.structs.replace(condition, values=("true",)) if asks else condition,)
        return
    if condition.operator == "binaryequals" and readings.binary_is_decoded_on_both_sides:
        condition = _as_text(condition)
        if condition.values:
            yield (condition,)
        elif condition.if_exists:
            yield (Condition("null", condition.key, ("true",), condition.place),)
        return
    if (kind := _written(condition.operator, readings)) is not None:
        condition = _with_read_values(condition, kind, readings)
        if not condition.values and readings.values_of_another_form_fit_nothing and "not" in condition.operator:
            yield ()
            return
        if not condition.values:
            if condition.operator == "notipaddress":  # it is in none of them
                yield (Condition("null", condition.key, ("false",), condition.place),)
            if condition.if_exists:
                yield (Condition("null", condition.key, ("true",), condition.place),)
            return
    if "not" not in condition.operator or condition.quantifier:
        yield (condition,)
        return
    several = readings.negated_with_several_values_takes_any and condition.operator.startswith(_TAKING_ANY)
    carried = Condition("null", condition.key, ("false",), condition.place)
    more = (carried,) if readings.negated_on_absent_key_is_false and not condition.if_exists else ()
    for values in [(value,) for value in dict.fromkeys(condition.values)] if several else [condition.values]:
        one = condition if values == condition.values else msgspec.structs.replace(condition, values=values)
        yield (one, *more)


_TAKING_ANY = ("string", "numeric", "date")


def _written(operator: str, readings: Readings) -> Kind | None:
    """What the values of an operator are read as; None where they are what is written."""
    strictly = readings.values_of_another_form_fit_nothing
    if (readings.networks_are_numbers or strictly) and operator in ("ipaddress", "notipaddress"):
        return "network"
    if not readings.other_numbers_and_moments_are_left_out and not strictly:
        return None
    return "number" if operator.startswith("numeric") else "moment" if operator.startswith("date") else None


def _with_read_values(condition: Condition, kind: Kind, readings: Readings) -> Condition:
    strictly = readings.values_of_another_form_fit_nothing
    values = of_its_form(condition.values, kind) if strictly else as_read(condition.values, kind)
    return condition if values == condition.values else msgspec.structs.replace(condition, values=values)


def _by_transport(condition: Condition, readings: Readings, *, variables: bool) -> Alternatives:
    """A condition on the transport: over TLS its key is `true`, over plain http no request carries it."""
    over_tls = _of_value(condition, "true", readings, variables=variables)
    over_http = _of_nothing(condition, readings)
    if over_tls == over_http:
        return ALWAYS if over_tls else NEVER
    return [(Condition("bool", TRANSPORT, ("true" if over_tls else "false",), condition.place),)]


def _as_text(condition: Condition) -> Condition:
    """A condition on binary values as one on texts, where both sides are decoded: what is no base64 fits nothing."""
    values = tuple(value for value in condition.values if _BASE64.fullmatch(value))
    return msgspec.structs.replace(condition, operator="stringequals", values=values)


_BASE64 = re.compile(r"(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2,3}=*)?")


def _of_nothing(condition: Condition, readings: Readings) -> bool:
    """Whether a condition holds for a request that does not carry its key."""
    if condition.operator == "null":
        return readings.null_asks_for_absence or "true" in {value.lower() for value in condition.values}
    if condition.if_exists or condition.quantifier == "forallvalues":
        return True
    negated = "not" in condition.operator and condition.quantifier != "foranyvalue"
    return negated and not readings.negated_on_absent_key_is_false


def _of_value(condition: Condition, carried: str, readings: Readings, *, variables: bool) -> bool:
    """Whether a condition holds for a request that carries this value of its key. Raises `Unclear`."""
    if condition.operator == "null":
        return not readings.null_asks_for_absence and "false" in {value.lower() for value in condition.values}
    if variables and any("${" in value for value in condition.values):
        raise Unclear("it depends on a variable that this store fills in by its own rule")
    operator = condition.operator.replace("not", "")
    test = _FITS.get(operator)
    if operator == "binaryequals" and readings.binary_is_decoded_on_both_sides:
        return carried in _as_text(condition).values
    if test is None:
        raise Unclear(f'{condition.operator} does not fit "{condition.key}"')
    if operator == "bool" and not {carried.lower(), *map(str.lower, condition.values)} <= {"true", "false"}:
        raise Unclear(f'what Bool makes of "{condition.key}" is not known')
    if operator == "stringlike" and condition.stars_end_early:
        test = partial(fits_pattern, early=True)
    fits = [test(value, carried) for value in condition.values]
    if "not" not in condition.operator:
        return any(fits)
    return not all(fits) if readings.negated_with_several_values_takes_any else not any(fits)


_FITS: dict[str, Callable[[str, str], bool]] = {
    "stringequals": lambda wanted, carried: wanted == carried,
    "stringequalsignorecase": lambda wanted, carried: wanted.lower() == carried.lower(),
    "stringlike": fits_pattern,
    "bool": lambda wanted, carried: wanted.lower() == carried.lower(),
}
