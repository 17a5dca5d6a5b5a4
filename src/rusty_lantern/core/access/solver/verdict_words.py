"""The verdicts of a bucket in words, and the widest of several, without what is a single bucket's own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.exposure import Exposures, Verdict
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import show_moment

Source = Literal["policy", "acl", "container_acl"]
BEYOND_TRUSTED = "beyond-trusted"
_WIDE: tuple[Level, ...] = ("closed", "restricted", "open")


class Told(NamedTuple):
    """A verdict as the buckets of a shape have it in common: all of a fact but its evidence."""

    level: Level
    words: str
    """What it comes from, or why it is unknown."""
    source: Source
    """The answer that the deciding rule came from."""
    verb: Verb


def told(verdicts: Exposures) -> dict[str, Told]:
    """`AUDIENCE.VERB` → its verdict; `VERB` → the wider one of both audiences; `beyond-trusted` → the widest of all but
    those that are restricted to networks that the team trusts. What is unknown counts as wider than whatever is not
    open."""
    found = {f"{audience}.{verb}": _told(verdict, verb) for (audience, verb), verdict in verdicts.items()}
    trusted = {
        f"{audience}.{verb}"
        for (audience, verb), verdict in verdicts.items()
        if verdict.restriction and verdict.restriction.trusted
    }
    by_verb: dict[str, Told] = {verb: found[_widest(found, [f"{one}.{verb}" for one in AUDIENCES])] for verb in VERBS}
    return {**found, **by_verb, BEYOND_TRUSTED: _beyond(found, trusted)}


def _told(verdict: Verdict, verb: Verb) -> Told:
    because = verdict.because
    source: Source = "policy"
    if because.startswith("ACL grant of"):
        source = "acl"
    elif because.startswith(("container ", "account ACL")):
        source = "container_acl"
    if verdict.level == "unknown":
        return Told("unknown", "; ".join(verdict.doubts), source, verb)
    ends = verdict.until and f"until {show_moment(verdict.until)}"
    within = verdict.restriction and verdict.restriction.words
    return Told(verdict.level, ", ".join(part for part in (because, ends, within) if part), source, verb)


def _widest(found: Mapping[str, Told], names: list[str]) -> str:
    """The name of the widest of these; of several, the first."""
    doubted = [name for name in names if found[name].level == "unknown"]
    known = [name for name in names if found[name].level != "unknown"]
    widest = max(known, key=lambda name: _WIDE.index(found[name].level), default="")
    return doubted[0] if doubted and (not widest or found[widest].level != "open") else widest


def _beyond(found: Mapping[str, Told], trusted: set[str]) -> Told:
    left = [name for name in found if name not in trusted]
    reaching = [name for name in left if found[name].level != "closed"]
    if not reaching:
        first = found[next(iter(left or found))]
        return Told("closed", "from trusted networks only" if trusted else "", first.source, first.verb)
    name = _widest(found, reaching)
    widest = found[name]
    return widest if widest.level == "unknown" else widest._replace(words=f"{name}: {widest.words}")
