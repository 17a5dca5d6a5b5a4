"""Numbers, moments and networks as an object gateway reads the values of a condition (measured on release 16.2).

A number is what the C library takes for one, `0x10` and `1e3` too. A moment is such a number of seconds, or a date of
one form: `2027`, `2027-01`, `2027-01-01`, or with a time that ends in `Z`. Every other value, a time without a zone or
with an offset among them, is left out as if it were not written, so that a condition of such values alone never holds.
Moments are counted in nanoseconds in 64 bits: past 2554-07-21 they begin anew at 1970. Addresses of both families are
compared as numbers, so that `::/0` has every address in it; `10.0.0.1/` is a network of every address too.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from decimal import Decimal
from typing import Literal

Kind = Literal["number", "moment", "network"]


class Unclear(ValueError):
    """How the software reads this was not measured."""


_NUMBER = re.compile(r"[ \t\n\v\f\r]*([+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]{1,3})?)")
_NUMBER_OF_C = re.compile(r"[ \t\n\v\f\r]*[+-]?(0x|inf|nan)", re.IGNORECASE)
_NETWORK = re.compile(r"([^/]*)(?:/[ \t\n\v\f\r]*\+?([0-9]{0,9}))?")
_MOMENT = re.compile(
    r"([0-9]{4})-([0-9]{2})(?:-([0-9]{2})(?:T([0-9]{2})(?::([0-9]{2})(?::([0-9]{2})(?:\.[0-9]{1,9})?)?)?Z)?)?"
)
FIRST_YEAR = 1970
NANOSECONDS, CALENDAR = 10**9, 2**64
LONGEST = 40
"""Characters of a value that is looked at."""


def as_read(values: tuple[str, ...], kind: Kind) -> tuple[str, ...]:
    """The values that count, each as the common language writes it: a decimal number, a date, a network. Raises
    `Unclear`.

    >>> as_read(("2027-01-01", "2027-01-01T00:00:00+02:00", "1e3"), "moment")
    ('2027-01-01T00:00:00Z', '1970-01-01T00:16:40Z')
    >>> as_read(("5", "05", "five", "5.50"), "number")
    ('5', '5.5')
    >>> as_read(("10.0.0.1", "10.0.0.1/8", " 10.0.0.1", "10.0.0.1/", "::/0"), "network")
    ('10.0.0.1', '10.0.0.0/8', '0.0.0.0/0', '::/0')
    """
    if kind == "network":
        return tuple(dict.fromkeys(network for value in values for network in _networks(value)))
    read = (_read(value, kind) for value in values)
    return tuple(dict.fromkeys(value for value in read if value is not None))


def _read(value: str, kind: Kind) -> str | None:
    """One value; None where it does not count."""
    if len(value) > LONGEST or _NUMBER_OF_C.match(value):
        raise Unclear(f'how this store reads "{value[:LONGEST]}" is not known')
    match = _NUMBER.fullmatch(value)
    if match:
        number = Decimal(repr(float(match[1])))
        if not number.is_finite() or number.adjusted() > LONGEST:
            raise Unclear(f'how this store reads "{value}" is not known')
        return plain_number(number) if kind == "number" else _moment(number, value)
    return _date(value) if kind == "moment" else None


def plain_number(number: Decimal) -> str:
    """
    >>> plain_number(Decimal("5.0")), plain_number(Decimal("1E+3")), plain_number(Decimal("-0.0"))
    ('5', '1000', '0')
    """
    text = f"{number:f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text == "-0" else text


def _moment(seconds: Decimal, value: str) -> str:
    if not 0 <= seconds < CALENDAR:
        raise Unclear(f'how this store reads the moment "{value}" is not known')
    return _on_calendar(int(seconds))


def _on_calendar(seconds: int) -> str:
    return datetime.fromtimestamp(seconds * NANOSECONDS % CALENDAR // NANOSECONDS, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _date(value: str) -> str | None:
    match = _MOMENT.fullmatch(value)
    if match is None or int(match[1]) < FIRST_YEAR:
        return None
    year, month, day, hour, minute, second = (int(part) if part else None for part in match.groups())
    try:
        moment = datetime(
            year or 0, month or 0, 1 if day is None else day, hour or 0, minute or 0, second or 0, tzinfo=UTC
        )
    except ValueError:  # it counts on: month 13 is the next January, and what else it does was not measured
        raise Unclear(f'how this store reads the moment "{value}" is not known') from None
    return _on_calendar(int(moment.timestamp()))


def _networks(value: str) -> Iterator[str]:
    """The networks that a value stands for; none where it does not count."""
    match = _NETWORK.fullmatch(value)
    if match is None and re.search(r"/[ \t\n\v\f\r]*-", value):
        raise Unclear(f'how this store reads the network "{value[:LONGEST]}" is not known')
    family = ipaddress.IPv6Address if ":" in value else ipaddress.IPv4Address
    try:
        address = family(match[1] if match and "%" not in value else "")
    except ValueError:
        return
    bits = int(match[2] or 0) if match and match[2] is not None else address.max_prefixlen
    if bits > address.max_prefixlen:
        return
    yield str(address) if bits == address.max_prefixlen else str(ipaddress.ip_network((address, bits), strict=False))
    left = address.max_prefixlen - bits
    if address.version == 6 and int(address) >> max(left, 32) == 0:
        mapped = ipaddress.ip_network((int(address) & 0xFFFFFFFF, max(0, 32 - left)), strict=False)
        yield str(mapped if mapped.prefixlen < 32 else mapped.network_address)
