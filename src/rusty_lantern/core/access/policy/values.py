"""Values as the policy language writes them: numbers, moments, and what is not understood."""

from __future__ import annotations

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
    """Seconds since 1970 from ISO 8601 text or a count of seconds. Raises `ValueError`."""
    if text.strip().lstrip("-").isdigit():
        return int(text)
    moment = datetime.fromisoformat(text.strip())
    return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())
