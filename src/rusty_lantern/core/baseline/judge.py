"""Judging: each requirement that speaks of a bucket, held against what was observed.

`unknown` is never `held`: a requirement whose fact has no settled answer, or whose sheet may or may not speak of
the bucket, is unknown with its reason, and is counted wherever drift is.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import msgspec

from rusty_lantern.core.baseline.sheets import Baseline, Requirement
from rusty_lantern.core.dossier import Bucket
from rusty_lantern.core.facts import Fact, lookup

Status = Literal["held", "drifted", "waived", "unknown"]
STATUSES: tuple[Status, ...] = ("held", "drifted", "waived", "unknown")


class Required(msgspec.Struct, frozen=True):
    """A requirement in force on a bucket, and what it displaced. `sure`: whether its sheet certainly applies."""

    requirement: Requirement
    sure: bool = True
    displaced: tuple[Requirement, ...] = ()


class Judgement(msgspec.Struct, frozen=True):
    """One requirement on one bucket: what was asked, what was seen, and what follows."""

    store: str
    bucket: str
    requirement: Requirement
    observed: Fact
    status: Status
    reason: str = ""


def required_of(baseline: Baseline, store: str, bucket: Bucket) -> list[Required]:
    """The requirements in force on a bucket, after the cascade, in the order in which facts were first required."""
    force: dict[str, list[Required]] = {}
    for sheet in baseline.sheets:
        fits = sheet.of.fits(store, bucket)
        if fits is False:
            continue
        for requirement in sheet.require:
            earlier = force.get(requirement.fact, [])
            displaced = tuple(r.requirement for r in earlier)
            mine = Required(requirement, bool(fits), displaced)
            force[requirement.fact] = [mine] if fits else [*earlier, mine]
    return [required for stack in force.values() for required in stack if required.requirement.comparison is not None]


def judge(baseline: Baseline, store: str, bucket: Bucket, observe: Callable[[str], Fact]) -> list[Judgement]:
    """Judge every requirement in force on a bucket. `observe` yields a fact of it by name."""
    judgements = []
    for required in required_of(baseline, store, bucket):
        fact = observe(required.requirement.fact)
        status, reason = _status(required, fact, bucket)
        judgements.append(Judgement(store, bucket.name, required.requirement, fact, status, reason))
    return judgements


def _status(required: Required, fact: Fact, bucket: Bucket) -> tuple[Status, str]:
    comparison = required.requirement.comparison
    assert comparison is not None
    if not fact.settled:
        return "unknown", fact.reason
    holds = comparison.accepts_absent if fact.value is None else comparison.accepts(fact.value)
    if holds:
        return "held", ""
    if not required.sure:
        return "unknown", f"whether the sheet applies hangs on tags, {bucket.tags.reason}"
    return "drifted", ""


def show_fact(name: str, fact: Fact) -> str:
    """A fact's value in words, or its state."""
    if fact.value is None:
        return fact.state if fact.settled else "unknown"
    text = lookup(name).scale.show(fact.value)
    return f"{text} (stated)" if fact.state == "stated" else text
