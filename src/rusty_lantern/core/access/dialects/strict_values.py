"""Numbers, moments and networks where software takes one form of each and no other (measured on SeaweedFS 4.48).

A number has no space around it, and may have a sign and an exponent. A moment is a time as RFC 3339 has it, in capital
letters: `2027-01-01T00:00:00Z`, with an offset or a fraction of a second too, and not `2027-01-01`. An IPv6 address in
which an IPv4 address is mapped is that address. Any other value is as if it were not written.
"""

from __future__ import annotations

import ipaddress
import re
from datetime import UTC, datetime
from decimal import Decimal

from rusty_lantern.core.access.dialects.written_values import LONGEST, Kind, Unclear, plain_number

_NUMBER = re.compile(r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]{1,3})?")
_OTHER_NUMBER = re.compile(r"[+-]?(?:0x|[0-9_]+_|inf|nan)", re.IGNORECASE)
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?(?:Z|[+-][0-9]{2}:[0-9]{2})")
_MAPPED_BITS = 96


def of_its_form(values: tuple[str, ...], kind: Kind) -> tuple[str, ...]:
    """The values that count, each as the common language writes it. Raises `Unclear`.

    >>> of_its_form(("2027-01-01", "2027-01-01T00:00:00+02:00"), "moment")
    ('2026-12-31T22:00:00Z',)
    >>> of_its_form(("5", " 5", "5e0", "five"), "number")
    ('5',)
    >>> of_its_form(("10.0.0.1/8", "::ffff:10.0.0.1", "::/0", "x"), "network")
    ('10.0.0.0/8', '10.0.0.1', '::/0')
    """
    forms = {"number": _number, "moment": _moment, "network": _network}
    read = (forms[kind](value) for value in values)
    return tuple(dict.fromkeys(value for value in read if value is not None))


def _number(value: str) -> str | None:
    if len(value) > LONGEST or _OTHER_NUMBER.match(value):
        raise Unclear(f'how this store reads "{value[:LONGEST]}" is not known')
    if not _NUMBER.fullmatch(value):
        return None
    number = Decimal(repr(float(value)))
    if not number.is_finite() or number.adjusted() > LONGEST:
        raise Unclear(f'how this store reads "{value}" is not known')
    return plain_number(number)


def _moment(value: str) -> str | None:
    match = _MOMENT.fullmatch(value)
    if match is None:
        return None
    try:
        moment = datetime.fromisoformat(value.replace(match[1] or "\0", "")).astimezone(UTC)
    except (ValueError, OverflowError):
        return None
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ").rjust(20, "0")


def _network(value: str) -> str | None:
    if "%" in value or re.search(r"/[0-9.]*[^0-9]", value) or value.endswith("/"):
        return None
    try:
        network = ipaddress.ip_network(value, strict=False)
    except ValueError:
        return None
    if isinstance(network, ipaddress.IPv6Network) and network.prefixlen >= _MAPPED_BITS:
        mapped = network.network_address.ipv4_mapped
        if mapped is not None:
            network = ipaddress.ip_network((mapped, network.prefixlen - _MAPPED_BITS), strict=False)
    return str(network.network_address if network.prefixlen == network.max_prefixlen else network)
