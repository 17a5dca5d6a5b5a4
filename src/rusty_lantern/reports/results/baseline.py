"""What a baseline says, its remarks and its examples, as results."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.baseline.evaluation import RequirementInForce
from rusty_lantern.core.baseline.examples import Outcome
from rusty_lantern.core.baseline.lint import LintWarning
from rusty_lantern.core.baseline.loader import Baseline
from rusty_lantern.core.value_types import show_moment


class LintWarningResult(msgspec.Struct, frozen=True, kw_only=True):
    """Something odd about a baseline."""

    line: str
    what: str
    likely_mistake: bool


class BaselineCheck(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern baseline check --json`. `survey` is empty where none was kept yet."""

    baseline: str
    edition: str
    survey: str
    sheets: int
    requirements: int
    warnings: list[LintWarningResult]
    without_requirement: list[str]
    """Facts that nobody requires anything of."""

    @classmethod
    def of(cls, baseline: Baseline, remarks: Sequence[LintWarning], unasked: list[str], survey: str) -> BaselineCheck:
        """The result of a check."""
        return cls(
            baseline=baseline.title,
            edition=baseline.edition,
            survey=survey,
            sheets=len(baseline.sheets),
            requirements=sum(len(sheet.require) for sheet in baseline.sheets),
            warnings=[
                LintWarningResult(line=str(r.place), what=r.what, likely_mistake=r.likely_mistake) for r in remarks
            ],
            without_requirement=unasked,
        )


class EffectiveRow(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement in force on a bucket, with its origin."""

    fact: str
    required: str
    severity: str
    because: str
    remedy: str
    sheet: str
    line: str
    until: str
    depends_on: str
    """What it hangs on whether it applies; empty where it surely does."""
    overrides: list[str]


class EffectiveSheet(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern baseline show --json`."""

    baseline: str
    bucket: str
    as_of: datetime
    required: list[EffectiveRow]

    @classmethod
    def of(
        cls, baseline: Baseline, bucket: str, moment: datetime, required: Sequence[RequirementInForce]
    ) -> EffectiveSheet:
        """The requirements in force on a bucket."""
        rows = [
            EffectiveRow(
                fact=one.requirement.fact,
                required=one.requirement.comparison.words if one.requirement.comparison else "anything",
                severity=one.requirement.severity,
                because=one.requirement.because,
                remedy=one.requirement.remedy,
                sheet=one.requirement.sheet,
                line=str(one.requirement.place),
                until=show_moment(one.requirement.ends) if one.requirement.ends else "",
                depends_on=one.hangs_on,
                overrides=[f"{d.sheet}, {d.place}" for d in one.displaced],
            )
            for one in required
        ]
        return cls(baseline=baseline.title, bucket=bucket, as_of=moment, required=rows)


class ExampleRow(msgspec.Struct, frozen=True, kw_only=True):
    """One example of a baseline. `mismatches`: what is not as it says, each after its place."""

    example: str
    line: str
    store: str
    bucket: str
    mismatches: list[str]


class ExamplesResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern baseline test --json`."""

    passed: int
    failed: int
    examples: list[ExampleRow]

    @classmethod
    def of(cls, outcomes: Sequence[Outcome]) -> ExamplesResult:
        """The result of a run."""
        rows = [
            ExampleRow(
                example=one.example.name,
                line=str(one.example.place),
                store=one.example.store,
                bucket=one.example.bucket.name,
                mismatches=[f"{place}: {what}" for place, what in one.wrong],
            )
            for one in outcomes
        ]
        failed = sum(bool(row.mismatches) for row in rows)
        return cls(passed=len(rows) - failed, failed=failed, examples=rows)
