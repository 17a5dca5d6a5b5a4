"""The verdicts of a bucket in words, and the widest of several, without what is a single bucket's own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.exposure import WIDENING, Exposures, Verdict
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import show_moment

Source = Literal["policy", "acl", "container_acl"]
BEYOND_TRUSTED = "beyond-trusted"


class WordedVerdict(NamedTuple):
    """A verdict as the buckets of a shape have it in common: all of a fact but its evidence."""

    level: Level
    words: str
    """What it comes from, or why it is unknown."""
    source: Source
    """The answer that the deciding rule came from."""
    verb: Verb
    least: Level = "closed"
    """Of `unknown`: what is certain all the same."""


def worded_verdicts(verdicts: Exposures) -> dict[str, WordedVerdict]:
    """`AUDIENCE.VERB` → its verdict; `VERB` → the wider one of both audiences; `beyond-trusted` → the widest of all but
    those that are restricted to networks that the team trusts. What is unknown counts as wider than whatever is not
    open."""
    worded = {f"{audience}.{verb}": _worded(verdict, verb) for (audience, verb), verdict in verdicts.items()}
    trusted = {
        f"{audience}.{verb}"
        for (audience, verb), verdict in verdicts.items()
        if verdict.restriction and verdict.restriction.trusted
    }
    by_verb: dict[str, WordedVerdict] = {
        verb: _widest(worded, [f"{one}.{verb}" for one in AUDIENCES])[1] for verb in VERBS
    }
    elsewhere = {
        f"{audience}.{verb}": worded[f"{audience}.{verb}"]._replace(level="unknown", words="; ".join(verdict.doubts))
        for (audience, verb), verdict in verdicts.items()
        if verdict.level == "restricted" and verdict.doubts
    }
    return {**worded, **by_verb, BEYOND_TRUSTED: _beyond(worded | elsewhere, trusted - elsewhere.keys())}


def _worded(verdict: Verdict, verb: Verb) -> WordedVerdict:
    because = verdict.because
    source: Source = "policy"
    if because.startswith("ACL grant of"):
        source = "acl"
    elif because.startswith(("container ", "account ACL")):
        source = "container_acl"
    if verdict.level == "unknown":
        return WordedVerdict("unknown", "; ".join(verdict.doubts), source, verb, verdict.least)
    ends = verdict.until and f"until {show_moment(verdict.until)}"
    within = verdict.restriction and verdict.restriction.words
    return WordedVerdict(verdict.level, ", ".join(part for part in (because, ends, within) if part), source, verb)


def _widest(worded: Mapping[str, WordedVerdict], names: list[str]) -> tuple[str, WordedVerdict]:
    """The widest of these, with its name; of several, the first."""
    doubted = [name for name in names if worded[name].level == "unknown"]
    known = [name for name in names if worded[name].level != "unknown"]
    widest = max(known, key=lambda name: WIDENING.index(worded[name].level), default="")
    if not doubted or (widest and worded[widest].level == "open"):
        return widest, worded[widest]
    sure = [worded[name].least for name in doubted] + [worded[name].level for name in known]
    return doubted[0], worded[doubted[0]]._replace(least=max(sure, key=WIDENING.index))


def _beyond(worded: Mapping[str, WordedVerdict], trusted: set[str]) -> WordedVerdict:
    # what is certain of an unknown verdict may be certain of trusted networks alone
    left = {name: one._replace(least="closed") for name, one in worded.items() if name not in trusted}
    reaching = [name for name, one in left.items() if one.level != "closed"]
    if not reaching:
        first = next(iter((left or worded).values()))
        return WordedVerdict("closed", "from trusted networks only" if trusted else "", first.source, first.verb)
    name, widest = _widest(left, reaching)
    return widest if widest.level == "unknown" else widest._replace(words=f"{name}: {widest.words}")
