"""Mirrors as a result."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.replicas import MirrorSubject
from rusty_lantern.reports.results.identities import AgainstBaseline, against_baseline
from rusty_lantern.reports.results.of_survey import OfSurvey


class MirrorRow(msgspec.Struct, frozen=True, kw_only=True):
    """One mirrored bucket."""

    source: str
    target: str
    bucket: str
    content: str
    words: str
    behind: int
    lag: int
    differences: list[DifferenceResult]
    unknown: dict[str, str]
    against_baseline: AgainstBaseline


class DifferenceResult(msgspec.Struct, frozen=True, kw_only=True):
    """A fact that is not the same in the copy."""

    fact: str
    here: str
    there: str


class MirrorsResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern mirrors --json`."""

    mirrors: list[MirrorRow]


def mirror_row(subject: MirrorSubject, judge: Judge) -> MirrorRow:
    """One mirrored bucket as a result."""
    compared = subject.compared
    return MirrorRow(
        source=compared.mirror.source,
        target=compared.mirror.target,
        bucket=compared.bucket,
        content=compared.content or "unknown",
        words=compared.words,
        behind=compared.behind,
        lag=compared.mirror.lag,
        differences=[DifferenceResult(fact=d.fact, here=d.here, there=d.there) for d in compared.differences],
        unknown=dict(compared.unknown),
        against_baseline=against_baseline(judge, subject),
    )
