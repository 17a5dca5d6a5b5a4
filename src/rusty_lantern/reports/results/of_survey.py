"""What every result about a saved survey begins with."""

from __future__ import annotations

from datetime import datetime

import msgspec


class OfSurvey(msgspec.Struct, frozen=True, kw_only=True):
    """A result about a saved survey."""

    survey: str
    as_of: datetime
    unread_stores: dict[str, str] = {}
    """Stores whose buckets could not be listed, and why: nothing here speaks of them. Empty, where the result is about
    something that was named."""
    only: list[str] = []
    """The patterns of STORE/BUCKET that the survey was limited to; empty, where it was not."""

    @property
    def missing(self) -> str:
        """What a figure's caption says last: which stores and buckets are not in it; empty, where none is missing."""
        parts = [f"; not read: {', '.join(self.unread_stores)}"] * bool(self.unread_stores)
        return "".join([*parts, *[f"; limited to {', '.join(self.only)}"] * bool(self.only)])
