"""What every result about a saved survey begins with."""

from __future__ import annotations

from datetime import datetime

import msgspec

from rusty_lantern.core.model.dossier import NOT_ALL_LISTED


def unread_words(why: str) -> str:
    """What is said of a store whose buckets could not all be listed; `why`: the reason."""
    return why if why.startswith(NOT_ALL_LISTED) else f"was not read: {why}"


class OfSurvey(msgspec.Struct, frozen=True, kw_only=True):
    """A result about a saved survey."""

    survey: str
    as_of: datetime
    unread_stores: dict[str, str] = {}
    """Stores whose buckets could not be listed, or not all of them, and why: nothing here is about those. Empty, where
    the result is about something that was named."""
    only: list[str] = []
    """The patterns of STORE/BUCKET that the survey was limited to; empty, where it was not."""
    only_of: dict[str, list[str]] = {}
    """Store → the patterns of its buckets that the estate file limited it to."""

    @property
    def missing(self) -> str:
        """What a figure's caption says last: which stores and buckets are not in it; empty, where none is missing."""
        parts = [f"; not read: {', '.join(self.unread_stores)}"] * bool(self.unread_stores)
        limited = [*self.only, *(f"{store}/{one}" for store, patterns in self.only_of.items() for one in patterns)]
        return "".join([*parts, *[f"; limited to {', '.join(limited)}"] * bool(limited)])
