"""Verdicts as facts of the register."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.exposure import Verdict
from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import show_moment

NAMES = {(audience, verb): f"{audience}.{verb}" for audience in AUDIENCES for verb in VERBS}
"""Audience and verb → `AUDIENCE.VERB`."""


@lru_cache(maxsize=4096)
def by_level(levels: tuple[tuple[Verb, Level], ...]) -> dict[Level, frozenset[Verb]]:
    """Level → the verbs that have it for one of the audiences."""
    found: dict[Level, set[Verb]] = {}
    for verb, level in levels:
        found.setdefault(level, set()).add(verb)
    return {level: frozenset(verbs) for level, verbs in found.items()}


def exposure_fact(verdict: Verdict, bucket: Bucket, let_in: str = "") -> Fact:
    """A verdict as a fact of the register; its evidence is the answer that the deciding rule came from.

    `let_in`: that the store let such a request in, where it did: it is not closed then, whatever is not known.
    """
    told: Answer[Any] = bucket.policy
    if verdict.because.startswith("ACL grant of"):
        told = bucket.acl
    elif verdict.because.startswith(("container ", "account ACL")):
        told = bucket.container_acl
    asked = told.evidence
    if verdict.level == "unknown":
        doubts = "; ".join(verdict.doubts)
        return (
            Partly("failed", None, f"{doubts}; {let_in}", asked, certain="restricted")
            if let_in
            else (Answer("failed", None, doubts, asked))
        )
    note = verdict.because
    if verdict.until:
        note = f"{note}, until {show_moment(verdict.until)}"
    if verdict.restriction:
        note = f"{note}, {verdict.restriction.words}" if note else verdict.restriction.words
    return Answer("known", verdict.level, note, asked)
