"""Verdicts in words, without what is a single bucket's own."""

from __future__ import annotations

from typing import Literal, NamedTuple

from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.exposure import Exposures, Verdict
from rusty_lantern.core.value_types import show_moment

Source = Literal["policy", "acl", "container_acl"]


class Told(NamedTuple):
    """A verdict as the buckets of a shape have it in common: all of a fact but its evidence."""

    level: Level
    words: str
    """What it comes from, or why it is unknown."""
    source: Source
    """The answer that the deciding rule came from."""


def told(verdicts: Exposures) -> dict[str, Told]:
    """`AUDIENCE.VERB` → its verdict, in words."""
    return {f"{audience}.{verb}": _told(verdict) for (audience, verb), verdict in verdicts.items()}


def _told(verdict: Verdict) -> Told:
    because = verdict.because
    source: Source = "policy"
    if because.startswith("ACL grant of"):
        source = "acl"
    elif because.startswith(("container ", "account ACL")):
        source = "container_acl"
    if verdict.level == "unknown":
        return Told("unknown", "; ".join(verdict.doubts), source)
    ends = verdict.until and f"until {show_moment(verdict.until)}"
    within = verdict.restriction and verdict.restriction.words
    return Told(verdict.level, ", ".join(part for part in (because, ends, within) if part), source)
