"""One condition against one request."""

from __future__ import annotations

import base64
import ipaddress
from collections.abc import Callable
from functools import lru_cache

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import FORWARDED, context_key
from rusty_lantern.core.access.policy.document import Condition
from rusty_lantern.core.access.policy.key_names import carried_key, key_name
from rusty_lantern.core.access.policy.language_words import LITERAL_VARIABLES, VARIABLE
from rusty_lantern.core.access.policy.values import NotUnderstood, read_date, read_number

_ESCAPED = {"*": "\ue000", "?": "\ue001"}
_SPECIAL = frozenset((*_ESCAPED, *_ESCAPED.values()))


def with_values(text: str, request: Request, *, wild: bool = False) -> str | None:
    """Put the request's own values in place of variables; None where it does not carry one.

    Wildcard characters that come from a variable stand for themselves; in a pattern they are carried as private
    characters that `glob_fits` turns back.
    """
    if "${" not in text:
        return text
    out, end = "", 0
    for variable in VARIABLE.finditer(text):
        name, _, fallback = (part.strip() for part in variable[1].partition(","))
        if name in LITERAL_VARIABLES:
            value: str | None = LITERAL_VARIABLES[name]
        else:
            values = request.context.get(key_name(name), ())
            row = context_key(key_name(name))
            if row is None or (row.of_bucket and not values):
                raise NotUnderstood(f"it depends on the variable ${{{name[:60]}}}")
            value = values[0] if values else fallback.strip("'\"") or None
        if value is None:
            return None
        shown = "".join(_ESCAPED.get(char, char) for char in value) if wild else value
        out += text[end : variable.start()] + shown
        end = variable.end()
    return out + text[end:]


def glob_fits(pattern: str, text: str) -> bool:
    """Whether `text` matches a glob of `*` and `?`, in time proportional to the product of their lengths."""
    stem = pattern.removesuffix("*")
    if _SPECIAL.isdisjoint(stem):
        return text == stem if stem == pattern else text.startswith(stem)
    p = t = 0
    star, mark = -1, 0
    while t < len(text):
        if p < len(pattern) and pattern[p] == "*":
            star, mark = p, t
            p += 1
        elif p < len(pattern) and (pattern[p] == "?" or _same(pattern[p], text[t])):
            p, t = p + 1, t + 1
        elif star >= 0:
            mark += 1
            p, t = star + 1, mark
        else:
            return False
    return pattern[p:].strip("*") == ""


def fits_early(pattern: str, text: str) -> bool:
    """The same where a star ends as soon as the text goes on with the character that follows the star."""
    p = t = 0
    while p < len(pattern):
        if pattern[p] == "*":
            if p + 1 == len(pattern):
                return True
            if t == len(text) or _same(pattern[p + 1], text[t]):
                p += 1
            else:
                t += 1
        elif t < len(text) and (pattern[p] == "?" or _same(pattern[p], text[t])):
            p, t = p + 1, t + 1
        else:
            return False
    return t == len(text)


def _same(pattern_char: str, char: str) -> bool:
    return pattern_char == char or _ESCAPED.get(char) == pattern_char


def holds(condition: Condition, request: Request, *, variables: bool) -> bool:
    """Whether a condition is true of the request. Raises `NotUnderstood`."""
    row = context_key(condition.key)
    if row is None:
        raise NotUnderstood(f'condition key "{condition.key[:60]}" is not known')
    carried = request.context.get(carried_key(condition.key), ())
    if condition.key == FORWARDED and not carried:
        carried = request.context.get("aws:sourceip", ())
    if row.of_bucket and not carried:
        raise NotUnderstood(f"{row.reason} is not known ({condition.key})")
    if condition.operator == "null":
        wanted = {value.lower() for value in condition.values}
        if not wanted <= {"true", "false"}:
            raise NotUnderstood(f"Null must be true or false ({condition.place})")
        return ("true" if not carried else "false") in wanted
    if row.many and not condition.quantifier:
        raise NotUnderstood(f'"{condition.key}" carries several values and needs ForAllValues or ForAnyValue')
    negated = "not" in condition.operator
    test = _test(condition, row.kind)
    values = [with_values(v, request, wild="like" in condition.operator) if variables else v for v in condition.values]
    if None in values and negated:
        raise NotUnderstood(f"a negated condition on a variable that this caller does not have ({condition.place})")
    wanted_values = [value for value in values if value is not None]
    if not carried:
        for value in wanted_values:
            test(value, _SAMPLE[row.kind])  # a value that cannot be read is not understood, carried or not
        if condition.quantifier == "foranyvalue":
            return condition.if_exists
        return condition.if_exists or negated or condition.quantifier == "forallvalues"
    results = [any(test(value, one) for value in wanted_values) != negated for one in carried]
    return all(results) if condition.quantifier == "forallvalues" or not condition.quantifier else any(results)


_SAMPLE = {
    "text": "", "switch": "true", "name": "", "address": "192.0.2.1", "number": "0", "date": "0",
}  # fmt: skip


Test = Callable[[str, str], bool]


def _test(condition: Condition, kind: str) -> Test:
    operator = condition.operator.replace("not", "")
    fits = _FITS.get(operator) or _order_test(operator)
    if condition.stars_end_early and operator == "stringlike":
        fits = (_TEXTS, fits_early)
    epoch = operator.startswith("numeric") and condition.key == "aws:epochtime"
    if fits is None or (kind not in fits[0] and not epoch):
        raise NotUnderstood(f'{condition.operator} does not fit "{condition.key}", which holds a {kind}')

    def guarded(wanted: str, carried: str) -> bool:
        try:
            return fits[1](wanted, carried)
        except (ValueError, OverflowError, ZeroDivisionError):
            raise NotUnderstood(
                f"a value of {condition.operator} cannot be read as {kind} ({condition.place})"
            ) from None

    return guarded


def _name_fits(pattern: str, name: str) -> bool:
    left, right = pattern.split(":", 5), name.split(":", 5)
    return len(left) == len(right) and all(glob_fits(a, b) for a, b in zip(left, right, strict=True))


def _within(network: str, address: str) -> bool:
    return parsed_address(address) in _network(network)


@lru_cache(maxsize=4_096)
def parsed_address(written: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    """An address that a request carries, which many conditions look at. Raises `ValueError`."""
    return ipaddress.ip_address(written)


@lru_cache(maxsize=4_096)
def _network(written: str) -> ipaddress.IPv4Network | ipaddress.IPv6Network:
    """A network of a policy, which many requests are held against."""
    return ipaddress.ip_network(written.strip(), strict=False)


def _same_switch(wanted: str, carried: str) -> bool:
    if wanted.lower() not in ("true", "false"):
        raise ValueError(wanted)
    return wanted.lower() == carried.lower()


_TEXTS = ("text", "switch", "name")


_FITS: dict[str, tuple[tuple[str, ...], Test]] = {
    "stringequals": (_TEXTS, str.__eq__),
    "stringequalsignorecase": (_TEXTS, lambda wanted, carried: wanted.lower() == carried.lower()),
    "stringlike": (_TEXTS, glob_fits),
    "binaryequals": (_TEXTS, lambda wanted, carried: base64.b64decode(wanted, validate=True) == carried.encode()),
    "arnequals": (("name",), _name_fits),
    "arnlike": (("name",), _name_fits),
    "bool": (("switch",), _same_switch),
    "ipaddress": (("address",), _within),
}


def _order_test(operator: str) -> tuple[tuple[str, ...], Test] | None:
    for family, kinds, read in (("numeric", ("number",), read_number), ("date", ("date",), read_date)):
        if operator.startswith(family):
            compare = _ORDER[operator.removeprefix(family)]
            return kinds, lambda wanted, carried, c=compare, r=read: c(r(carried), r(wanted))
    return None


_ORDER: dict[str, Callable[[object, object], bool]] = {
    "equals": lambda a, b: a == b,
    "lessthan": lambda a, b: a < b,  # type: ignore[operator]
    "lessthanequals": lambda a, b: a <= b,  # type: ignore[operator]
    "greaterthan": lambda a, b: a > b,  # type: ignore[operator]
    "greaterthanequals": lambda a, b: a >= b,  # type: ignore[operator]
}
