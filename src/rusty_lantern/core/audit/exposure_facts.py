"""Verdicts as facts of the register."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from rusty_lantern.core.access.probe_check import LET_IN, worst
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.access.solver.verdict_cache import DecidedRules
from rusty_lantern.core.access.solver.verdict_words import WordedVerdict
from rusty_lantern.core.answer import Answer, Evidence, Fact, Partly
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer


class ExposureFacts(Mapping[str, Fact]):
    """Name → the verdict of one bucket as a fact, made when asked. `let_in`: the verbs that the store let a request
    without credentials do: none of them is closed, whatever is not known."""

    def __init__(self, verdicts: Mapping[str, WordedVerdict], bucket: Bucket, let_in: frozenset[str]) -> None:
        self.verdicts = verdicts
        self.bucket = bucket
        self.let_in = let_in

    def __getitem__(self, name: str) -> Fact:
        level, words, source, verb, least = self.verdicts[name]
        evidence: Evidence = getattr(self.bucket, source).evidence
        if level != "unknown":
            return Answer("known", level, words, evidence)
        if verb in self.let_in:
            return Partly("failed", None, f"{words}; {LET_IN}", evidence, certain="restricted")
        if least != "closed":
            return Partly("failed", None, words, evidence, certain=least)
        return Answer("failed", None, words, evidence)

    def __iter__(self) -> Iterator[str]:
        return iter(self.verdicts)

    def __len__(self) -> int:
        return len(self.verdicts)


def as_tested(decided: DecidedRules, there: DecidedRules, tested: Answer[list[ProbeAnswer]]) -> DecidedRules:
    """What is decided of a bucket's rules, with what the anonymous test refutes. `there`: of the rules that the bucket
    had when it was tested, which are others where a change is proposed. What stands in front of the store (a `web`
    door) is a matter of its own: the fact `front-bypass`."""
    passed = [one for one in tested.value or () if one.let_in and one.door != "web"]
    return decided.but(there.refuted((one.verb for one in passed), (one.verb for one in passed if one.claims)))


def probed_fact(tested: Answer[list[ProbeAnswer]], by_rules: Exposures) -> Fact:
    """How the anonymous test of a bucket compared with the verdicts that its rules alone come to."""
    if not tested.value:
        return Answer("failed" if tested.state == "known" else tested.state, None, tested.note, tested.evidence)
    outcome, why = worst(by_rules, tested.value)
    return Answer("known", outcome, why, tested.evidence)
