"""Everything that did not simply hold, one line each, for a spreadsheet.

A cell that a spreadsheet would take for a formula begins with an apostrophe; control characters are written out.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.escape import cell
from rusty_lantern.reports.results.audit import AuditResult, FindingResult

COLUMNS = (
    "status", "severity", "store", "subject", "name", "fact", "required", "observed", "since", "reason", "because",
    "remedy", "sheet", "line", "question", "answer",
)  # fmt: skip


def write(result: AuditResult) -> str:
    """RFC 4180, with a heading."""
    kinds = (("drift", result.drift), ("unknown", result.unknown), ("waived", result.waived))
    return lines(COLUMNS, (row(status, finding) for status, kept in kinds for finding in kept))


def row(status: str, finding: FindingResult) -> tuple[object, ...]:
    """One judgement."""
    since = show_moment(finding.since) if finding.since else ""
    evidence = finding.evidence
    return (
        status, finding.severity, finding.store, finding.subject, finding.name, finding.fact, finding.required,
        finding.observed, since, finding.reason or finding.note, finding.because, finding.remedy, finding.sheet,
        finding.line, evidence.question, evidence.answer,
    )  # fmt: skip


def lines(headings: Iterable[str], rows: Iterable[Iterable[object]]) -> str:
    """A table as text, every cell made safe."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(headings)
    writer.writerows([cell("" if value is None else str(value)) for value in row] for row in rows)
    return out.getvalue()
