"""Facts that a store's owner declares, where they could not be read."""

from __future__ import annotations

from datetime import datetime

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.config.estate import Attestation, StoreConfig
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_types import InvalidValue, read_moment


def or_stated(name: str, derived: Fact, store: StoreConfig | None, moment: datetime) -> Fact:
    """A fact; where it could not be read and the store's owner states it, what is stated."""
    if derived.settled or store is None:
        return derived
    said = next((s for s in store.stated if s.fact == name), None)
    return _stated(said, derived, moment) if said else derived


def _stated(said: Attestation, derived: Fact, moment: datetime) -> Fact:
    if said.until and read_moment(said.until) < moment:
        note = f"{derived.note}; the owner's statement ended on {said.until}".removeprefix("; ")
        return Answer(derived.state, None, note, derived.evidence)
    try:
        value = lookup(said.fact).scale.read(said.value)
    except (KeyError, InvalidValue) as error:
        return Answer("failed", None, f"what the owner declares cannot be used: {error}", derived.evidence)
    return Answer("stated", value, said.because, derived.evidence)
