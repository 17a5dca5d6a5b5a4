"""One recorded event of a store."""

from __future__ import annotations

from datetime import datetime

import msgspec


class Event(msgspec.Struct, frozen=True, order=True):
    """One recorded event. `about`: the identity, credential or key that it was done to; `store` where it is given."""

    time: datetime
    actor: str = ""
    action: str = ""
    bucket: str = ""
    key: str = ""
    address: str = ""
    outcome: str = ""
    about: str = ""
    store: str = ""
    line: str = ""
    """FILE:LINE, as far as it is known."""


class ProtectionWeakened(msgspec.Struct, frozen=True):
    """Protection of versions in a bucket that became weaker, as far as events can show it."""

    store: str
    bucket: str
    what: str
    keys: frozenset[str] = frozenset()


SUCCEEDED = frozenset({"", "ok", "success", "succeeded", "allowed", "true"})


def succeeded(outcome: str) -> bool:
    """Whether an event's outcome says that it was done: a status of 2xx, a word for success, or nothing.

    >>> succeeded("204"), succeeded("AccessDenied"), succeeded("")
    (True, False, True)
    """
    return outcome.lower() in SUCCEEDED or (outcome.isdigit() and len(outcome) == 3 and outcome[0] == "2")
