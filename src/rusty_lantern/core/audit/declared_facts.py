"""Facts that a store's owner declares, where they could not be read."""

from __future__ import annotations

from datetime import datetime

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.config.estate import Stated, Store
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_types import NotOnScale, read_moment


def or_stated(name: str, found: Fact, store: Store | None, moment: datetime) -> Fact:
    """A fact; where it could not be read and the store's owner states it, what is stated."""
    if found.settled or store is None:
        return found
    said = next((s for s in store.stated if s.fact == name), None)
    return _stated(said, found, moment) if said else found


def _stated(said: Stated, found: Fact, moment: datetime) -> Fact:
    if said.until and read_moment(said.until) < moment:
        note = f"{found.note}; the owner's statement ended on {said.until}".removeprefix("; ")
        return Answer(found.state, None, note, found.evidence)
    try:
        value = lookup(said.fact).scale.read(said.value)
    except (KeyError, NotOnScale) as error:
        return Answer("failed", None, f"what the owner declares cannot be used: {error}", found.evidence)
    return Answer("stated", value, said.because, found.evidence)
