"""Holding what a store answers without credentials against what its rules say. A disagreement is a finding of its own:
the store reads the rules differently, something stands in front of it, or we are wrong."""

from __future__ import annotations

from typing import Literal

from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.model.bucket import ProbeAnswer

Outcome = Literal["disagrees", "ambiguous", "agrees"]
"""How an answer stands to a verdict, worst first."""

SHUT_OUT_IS_LET_IN = "the store allows what the rules deny"
LET_IN_IS_SHUT_OUT = "the store denies what the rules allow: it reads them differently, or something is in front"


def compare(level: str, answer: ProbeAnswer) -> tuple[Outcome, str]:
    """One answer against the verdict for `anyone`, and why."""
    if answer.let_in is None:
        return "ambiguous", "neither allowed nor denied"
    if level == "closed":
        return ("disagrees", SHUT_OUT_IS_LET_IN) if answer.let_in else ("agrees", "")
    if level == "open":
        return ("agrees", "") if answer.let_in else ("disagrees", LET_IN_IS_SHUT_OUT)
    if level == "restricted":
        return "agrees", "allowed from here as well" if answer.let_in else "denied from here, as the condition says"
    return (
        "ambiguous",
        f"{'let in' if answer.let_in else 'refused'} from here; there is no verdict to hold that against",
    )


def worst(verdicts: Exposures, answers: list[ProbeAnswer]) -> tuple[Outcome, str]:
    """The worst outcome of a bucket's anonymous tests, and what it was."""
    compared = [(*compare(verdicts["anyone", answer.verb].level, answer), answer) for answer in answers]
    order: tuple[Outcome, ...] = ("disagrees", "ambiguous", "agrees")
    outcome, why, answer = min(compared, key=lambda one: order.index(one[0]))
    return outcome, f"{answer.asked} was answered {answer.answer}" + (f": {why}" if why else "")
