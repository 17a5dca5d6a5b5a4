"""What was seen of a fact, or of the objects of a bucket, in words."""

from __future__ import annotations

from rusty_lantern.core.access.probe_check import LET_IN
from rusty_lantern.core.answer import Fact, Partly
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.object_rules.sampling import bound, words
from rusty_lantern.core.object_rules.tally import tally_words
from rusty_lantern.core.value_sets import NAMES
from rusty_lantern.core.value_types import DURATION, show_names


def observed_words(finding: Finding) -> str:
    """What was seen, in words."""
    tally = finding.tally
    if tally is None:
        return _too_many(finding) or show_fact(finding.requirement.fact, finding.observed)
    if not tally.unsampled or not tally.checked:
        return tally_words(tally, finding.confidence)
    unseen = f", {tally.unseen:,} not inspected" if tally.unseen else ""
    share = words(bound(tally.failed, tally.checked, finding.confidence), finding.confidence)
    return f"{tally.failed:,} of {tally.checked:,} sampled fail, {share.rpartition(' at ')[0]}{unseen}"


def _too_many(finding: Finding) -> str:
    """Of drift of a set of names: those that are not to be in it, and how many others are; empty for anything else."""
    comparison, seen = finding.requirement.comparison, finding.observed
    value = seen.certain if isinstance(seen, Partly) else seen.value
    if comparison is None or comparison.scale != NAMES or finding.status != "drift" or not value:
        return ""
    names = sorted(NAMES.members(value))
    wrong = [name for name in names if not comparison.accepts_member(name)]
    others = len(names) - len(wrong)
    if not wrong or not others:
        return ""
    return f"{AT_LEAST if isinstance(seen, Partly) else ''}{show_names(wrong, MOST_NAMES)} (and {others} as required)"


MOST_NAMES = 12
"""How many names are shown of a set; JSON has them all."""

AT_LEAST = "at least "
"""Stands before what is known of a fact in part."""
WHEN_TESTED = " (let in)"
"""Stands behind what the anonymous test alone shows."""


def show_fact(name: str, fact: Fact) -> str:
    """A fact's value in words, or its state."""
    if isinstance(fact, Partly) and fact.among:
        return " or ".join(lookup(name).scale.show(value) for value in fact.among)
    if isinstance(fact, Partly) and fact.certain:
        tested = WHEN_TESTED if fact.note.endswith(LET_IN) else ""
        return AT_LEAST + lookup(name).scale.show(fact.certain) + tested
    if fact.value is None:
        return fact.state if fact.settled else "unknown"
    entry = lookup(name)
    text = DURATION.roughly(fact.value) if entry.grows and entry.scale == DURATION else entry.scale.show(fact.value)
    return f"{text} (declared)" if fact.state == "stated" else text
