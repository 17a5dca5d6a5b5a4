"""Values as the policy language writes them: numbers, moments, and what is not understood."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from fractions import Fraction


class NotUnderstood(Exception):
    """A condition or resource whose meaning here is not known; the message says why."""


def read_number(text: str) -> Fraction:
    """A number as the language writes it. Raises `ValueError`."""
    if len(text) > 40 or "/" in text or "e" in text.lower():
        raise ValueError(text)
    return Fraction(text)


def read_date(text: str) -> int:
    """Seconds since 1970 from a moment as the language has it: a date of one of the forms of W3C's note, whose times
    have a zone, or a count of seconds. Raises `ValueError`.

    >>> read_date("2027-01-01"), read_date("2027-01-01T02:00+02:00"), read_date("1798761600")
    (1798761600, 1798761600, 1798761600)

    Four digits may be a year or a count of seconds, and a time without a zone may be of any.
    """
    written = text.strip()
    if _SECONDS.fullmatch(written):
        return int(written)
    match = _MOMENT.fullmatch(written)
    if match is None:
        raise ValueError(text)
    moment = datetime.fromisoformat(written if match["day"] else f"{written}-01")
    return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())


_SECONDS = re.compile(r"-?(?:[0-9]{1,3}|[0-9]{5,20})")
_MOMENT = re.compile(
    r"[0-9]{4}-[0-9]{2}(?P<day>-[0-9]{2}(T[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,9})?)?(Z|[+-][0-9]{2}:[0-9]{2}))?)?"
)
