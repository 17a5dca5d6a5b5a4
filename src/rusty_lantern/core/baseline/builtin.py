"""Requirements that no baseline needs to ask for."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.loader import Requirement, Severity
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.replicas import mirror_content, mirror_settings

if TYPE_CHECKING:
    pass

DOORS = Requirement(
    "doors", read_comparison("agrees", REGISTER["doors"].scale), "high", "", Place("built in"), "built in"
)
"""What no baseline needs to ask for: that a store answers as its rules say."""


def _built_in(name: str, words: str, severity: Severity) -> Requirement:
    return Requirement(
        name, read_comparison(words, REGISTER[name].scale), severity, "", Place("estate.yaml"), "mirrors"
    )


ASKED = (
    (_built_in("mirror.content", "at least catching-up", "high"), mirror_content),
    (_built_in("mirror.settings", "absent", "high"), mirror_settings),
)
"""What naming a mirror in the estate file asks for; no baseline needs to."""
