"""The terminal view of one bucket: its facts, what is required, the evidence."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.facts import FactResult, RequiredResult, ShowResult
from rusty_lantern.reports.terminal.audit import line_of
from rusty_lantern.reports.terminal.buckets import STATUS_ORDER
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, styled
from rusty_lantern.reports.terminal.table import Table


def show_view(screen: Console, result: ShowResult, *, evidence: bool = False) -> None:
    """Every fact of one bucket; with `--required`, what is required of it; with `evidence`, who said what."""
    line(screen, (f"{result.store}/{result.bucket}", "bold"))
    line(screen, (join([f"survey {result.survey}", f"as of {show_moment(result.as_of)}"]), "dim"))
    screen.print()
    facts = _without_repeats(result.facts)
    if result.required is not None:
        _required_table(screen, result.required)
        required_facts = {r.fact for r in result.required}
        facts = [row for row in facts if row.fact not in required_facts]
        screen.print()
        line(screen, ("Not required", "bold"))
    headings = ("fact", "value", "why", *(("evidence",) if evidence else ()))
    grid = Table(*headings, shrink=(1, 2, 3), floors={1: 10, 2: 16, 3: 16})
    names_by_reason: dict[str, list[str]] = {reason: [] for reason in UNTOLD}
    for row in facts:
        if row.note in names_by_reason and row.state in ("unsupported", "failed"):
            names_by_reason[row.note].append(row.fact)
            continue
        cells: list[Cell] = [row.fact, (row.words, STYLES.get(row.words, "")), row.note]
        grid.add(*cells, *([(_evidence(row, result.bucket), "dim")] if evidence else []))
    grid.show(screen)
    for reason, names in names_by_reason.items():
        if names:
            screen.print()
            line(screen, (f"{reason}: ", STYLES["unknown"]), (", ".join(names), "dim"), hang=2)


UNTOLD = ("not offered by this store", "not in the dossier")
"""Reasons that say nothing of one fact in particular: their facts are named together, after the others."""


def _without_repeats(facts: list[FactResult]) -> list[FactResult]:
    """The facts without the rows of one audience where they say what the row of the whole public says."""
    whole = {one.fact.removeprefix("exposure."): (one.words, one.note) for one in facts}
    kept = []
    for one in facts:
        parts = one.fact.split(".")
        repeated = len(parts) == 3 and parts[0] == "exposure" and whole.get(parts[2]) == (one.words, one.note)
        kept += [] if repeated else [one]
    return kept


def _required_table(screen: Console, required: list[RequiredResult]) -> None:
    """What is required, the worst first; below, the reasons in full."""
    grid = Table("status", "severity", "fact", "required", "observed", "set by (line, sheet)", shrink=(5, 3, 4, 2),
                floors={2: 20})  # fmt: skip
    for row in sorted(required, key=lambda r: (STATUS_ORDER.index(r.status), SEVERITIES.index(r.severity))):
        severity: Cell = styled(row.severity) if row.status == "drift" else ""
        origin = f"{line_of(row.line)} {row.sheet}"
        grid.add(styled(row.status), severity, row.fact, row.required, (row.observed, "bold"), (origin, "dim"))
    grid.show(screen)
    open_points = [r for r in required if r.status != "ok"]
    notes: dict[str, list[str]] = {}
    for row in open_points:
        why = "; ".join(part for part in (row.note, row.because) if part)
        if why:
            notes.setdefault(why, []).append(row.fact)
    overriding = [r for r in required if r.overrides]
    if notes or overriding:
        screen.print()
    for why, facts in notes.items():
        line(screen, (", ".join(facts) + ": ", "bold"), why, indent=2)
    for row in overriding:
        sheet, _, place = row.overrides[-1].rpartition(", ")
        line(screen, (f"{row.fact}: ", "bold"), f"overrides {sheet}, line {line_of(place)}", indent=2)


def _evidence(row: FactResult, bucket: str) -> str:
    """Question and answer; the bucket's own name is left out, since the whole page is about it."""
    if not row.evidence.question:
        return ""
    return f"{row.evidence.question.replace(f'/{bucket}', '', 1)} → {row.evidence.answer}"
