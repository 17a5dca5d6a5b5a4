"""Requirements that no baseline needs to ask for. A sheet about the same fact has the last word."""

from __future__ import annotations

from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.loader import Baseline, Requirement, Severity
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.catalogue import REGISTER


def _built_in(fact: str, words: str, place: str, sheet: str, severity: Severity = "high") -> Requirement:
    return Requirement(fact, read_comparison(words, REGISTER[fact].scale), severity, "", Place(place), sheet)


OF_PROBED_BUCKETS = (
    _built_in("anonymous-test", "agrees", "built in", "built in"),
    _built_in("front-bypass", "off or absent", "built in", "built in", "critical"),
)
"""A store answers as its rules say, and nothing in front of it hands out what it refuses."""

OF_LOCKED_BUCKETS = (_built_in("lock.way-around", "absent", "built in", "built in", "critical"),)
"""What is locked cannot be deleted all the same."""

OF_MIRRORS = (
    _built_in("mirror.content", "at least within-lag", "estate.yaml", "mirrors"),
    _built_in("mirror.settings", "absent", "estate.yaml", "mirrors"),
)
"""What naming a mirror in the estate file asks for."""

NOTHING_REQUIRED = Baseline("", "", ())
"""For a workspace without a baseline."""
