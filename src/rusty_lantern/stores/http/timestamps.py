"""Moments as answers write them."""

from __future__ import annotations

from datetime import UTC, datetime


def read_time(written: str) -> datetime | None:
    """A moment from an answer; None if it is not one."""
    try:
        moment = datetime.fromisoformat(written)
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)
    except (ValueError, OverflowError):  # no date, or one past the calendar once its time zone is applied
        return None
