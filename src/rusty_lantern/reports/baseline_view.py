"""What `lantern baseline` prints: remarks on a baseline, and the effective sheet of one bucket."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import msgspec
from rich.console import Console

from rusty_lantern.core.baseline.checking import Remark
from rusty_lantern.core.baseline.examples import Outcome
from rusty_lantern.core.baseline.judge import Required
from rusty_lantern.core.baseline.sheets import Baseline
from rusty_lantern.core.scales import show_moment
from rusty_lantern.reports.terminal import STYLES, Grid, join, line, many, next_step, styled


class RemarkResult(msgspec.Struct, frozen=True, kw_only=True):
    """Something odd about a baseline."""

    place: str
    what: str
    odd: bool


class BaselineCheck(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern baseline check --json`. `survey` is empty where none was kept yet."""

    baseline: str
    edition: str
    survey: str
    sheets: int
    requirements: int
    remarks: list[RemarkResult]
    unasked: list[str]
    """Facts that nobody requires anything of."""

    @classmethod
    def of(cls, baseline: Baseline, remarks: Sequence[Remark], unasked: list[str], survey: str) -> BaselineCheck:
        """The result of a check."""
        return cls(
            baseline=baseline.title,
            edition=baseline.edition,
            survey=survey,
            sheets=len(baseline.sheets),
            requirements=sum(len(sheet.require) for sheet in baseline.sheets),
            remarks=[RemarkResult(place=str(r.place), what=r.what, odd=r.odd) for r in remarks],
            unasked=unasked,
        )


class EffectiveRow(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement in force on a bucket, with its origin."""

    fact: str
    required: str
    severity: str
    because: str
    remedy: str
    sheet: str
    place: str
    until: str
    perhaps: str
    """What it hangs on whether it applies; empty where it surely does."""
    displaced: list[str]


class EffectiveSheet(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern baseline show --json`."""

    baseline: str
    bucket: str
    as_of: datetime
    required: list[EffectiveRow]

    @classmethod
    def of(cls, baseline: Baseline, bucket: str, moment: datetime, required: Sequence[Required]) -> EffectiveSheet:
        """The requirements in force on a bucket."""
        rows = [
            EffectiveRow(
                fact=one.requirement.fact,
                required=one.requirement.comparison.words if one.requirement.comparison else "anything",
                severity=one.requirement.severity,
                because=one.requirement.because,
                remedy=one.requirement.remedy,
                sheet=one.requirement.sheet,
                place=str(one.requirement.place),
                until=show_moment(one.requirement.ends) if one.requirement.ends else "",
                perhaps=one.hangs_on,
                displaced=[f"{d.sheet}, {d.place}" for d in one.displaced],
            )
            for one in required
        ]
        return cls(baseline=baseline.title, bucket=bucket, as_of=moment, required=rows)


def check_view(screen: Console, result: BaselineCheck) -> None:
    """The remarks in the order of the file; then what nobody asks."""
    line(screen, (result.baseline + (f", edition {result.edition}" if result.edition else ""), "bold"))
    held = f"held against survey {result.survey}" if result.survey else "no survey is kept yet to hold it against"
    line(screen, (join([many(result.sheets, "sheet"), many(result.requirements, "requirement"), held]), "dim"))
    screen.print()
    for remark in result.remarks:
        style = STYLES["medium"] if remark.odd else "dim"
        line(screen, (remark.place, "bold"), "  ", (remark.what, style), hang=4)
    if not result.remarks:
        line(screen, ("nothing odd was found", STYLES["held"]))
    if result.unasked:
        screen.print()
        line(screen, (f"nobody requires anything of {many(len(result.unasked), 'fact')}: ", "dim"),
             (", ".join(result.unasked), "dim"), hang=2)  # fmt: skip
    next_step(screen, "lantern audit", "hold a survey against it")


def sheet_view(screen: Console, result: EffectiveSheet) -> None:
    """One line a requirement, in the order in which facts were first required."""
    line(screen, (result.bucket, "bold"), f"  {result.baseline}")
    line(screen, (f"as of {show_moment(result.as_of)}", "dim"))
    screen.print()
    grid = Grid("fact", "required", "severity", "asked by", "instead of", shrink=(4, 3, 1), drop=(4,), keep=24)
    for row in result.required:
        name = row.place.split(":")
        origin = f"{row.sheet}, line {name[-2]}" if len(name) > 2 else row.sheet
        instead = "; ".join(other.rpartition(", ")[0] for other in row.displaced)
        grid.add((row.fact, "bold"), row.required, styled(row.severity), (origin, "dim"), (instead, "dim"))
    grid.show(screen)
    for row in result.required:
        words = "; ".join(
            part
            for part in (row.because, row.remedy and f"to do: {row.remedy}", row.until and f"until {row.until}",
                         row.perhaps and f"perhaps: it hangs on {row.perhaps}")
            if part
        )  # fmt: skip
        if words:
            line(screen, (f"{row.fact}: ", "bold"), words, indent=2, hang=2)
    next_step(screen, f"lantern show {result.bucket} --required", "what was observed, and judged")


class ExampleRow(msgspec.Struct, frozen=True, kw_only=True):
    """One example of a baseline. `wrong`: what is not as it says, each after its place."""

    example: str
    place: str
    store: str
    bucket: str
    wrong: list[str]


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
                place=str(one.example.place),
                store=one.example.store,
                bucket=one.example.bucket.name,
                wrong=[f"{place}: {what}" for place, what in one.wrong],
            )
            for one in outcomes
        ]
        failed = sum(bool(row.wrong) for row in rows)
        return cls(passed=len(rows) - failed, failed=failed, examples=rows)


def examples_view(screen: Console, result: ExamplesResult) -> None:
    """One line an example, and under it what is not as it says."""
    for row in result.examples:
        word = ("fails ", STYLES["critical"]) if row.wrong else ("passes", STYLES["held"])
        line(screen, word, "  ", (row.example, "bold" if row.wrong else ""), (f"  {row.place}", "dim"))
        for wrong in row.wrong:
            line(screen, wrong, indent=8, hang=2)
    screen.print()
    line(screen, (f"{result.passed} passed, {result.failed} failed", "bold"))
