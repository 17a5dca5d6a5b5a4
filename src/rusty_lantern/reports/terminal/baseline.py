"""What `lantern baseline` prints: remarks on a baseline, and the effective sheet of one bucket."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.baseline import BaselineCheck, EffectiveSheet, ExamplesResult
from rusty_lantern.reports.terminal.layout import STYLES, join, line, many, next_step, styled
from rusty_lantern.reports.terminal.table import Table


def check_view(screen: Console, result: BaselineCheck) -> None:
    """The remarks in the order of the file; then what nobody asks."""
    line(screen, (result.baseline + (f", edition {result.edition}" if result.edition else ""), "bold"))
    held = f"held against survey {result.survey}" if result.survey else "no survey is saved yet to compare it with"
    line(screen, (join([many(result.sheets, "sheet"), many(result.requirements, "requirement"), held]), "dim"))
    screen.print()
    for remark in result.warnings:
        style = STYLES["medium"] if remark.likely_mistake else "dim"
        line(screen, (remark.line, "bold"), "  ", (remark.what, style), hang=4)
    if not result.warnings:
        line(screen, ("no problems found", STYLES["ok"]))
    if result.without_requirement:
        screen.print()
        line(screen, (f"facts without any requirement ({len(result.without_requirement)}): ", "dim"),
             (", ".join(result.without_requirement), "dim"), hang=2)  # fmt: skip
    next_step(screen, "lantern audit", "hold a survey against it")


def sheet_view(screen: Console, result: EffectiveSheet) -> None:
    """One line a requirement, in the order in which facts were first required."""
    line(screen, (result.bucket, "bold"), f"  {result.baseline}")
    line(screen, (f"as of {show_moment(result.as_of)}", "dim"))
    screen.print()
    grid = Table("fact", "required", "severity", "set by (sheet, line)", "overrides", shrink=(1, 3, 4),
                floors={1: 12, 3: 16, 4: 12})  # fmt: skip
    for row in result.required:
        name = row.line.split(":")
        origin = f"{row.sheet}, line {name[-2]}" if len(name) > 2 else row.sheet
        instead = "; ".join(other.rpartition(", ")[0] for other in row.overrides)
        grid.add((row.fact, "bold"), row.required, styled(row.severity), (origin, "dim"), (instead, "dim"))
    grid.show(screen)
    for row in result.required:
        words = "; ".join(
            part
            for part in (row.because, row.remedy and f"to do: {row.remedy}", row.until and f"until {row.until}",
                         row.depends_on and f"perhaps: it depends on {row.depends_on}")
            if part
        )  # fmt: skip
        if words:
            line(screen, (f"{row.fact}: ", "bold"), words, indent=2, hang=2)
    next_step(screen, f"lantern show {result.bucket} --required", "what was observed, and the status of each")


def examples_view(screen: Console, result: ExamplesResult) -> None:
    """One line an example, and under it what is not as it says."""
    for row in result.examples:
        word = ("fails ", STYLES["critical"]) if row.mismatches else ("passes", STYLES["ok"])
        line(screen, word, "  ", (row.example, "bold" if row.mismatches else ""), (f"  {row.line}", "dim"))
        for wrong in row.mismatches:
            line(screen, wrong, indent=8, hang=2)
    screen.print()
    line(screen, (f"{result.passed} passed, {result.failed} failed", "bold"))
