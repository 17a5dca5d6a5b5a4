"""What would put drift right, as a result and on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.reports.results.remediation import RemedyResult, RemedyRow
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, as_it_is, line, many, next_step

if TYPE_CHECKING:
    from rich.console import Console


def remedy_view(screen: Console, result: RemedyResult, out: Path | None, *, whole: bool) -> None:
    """Per subject: what drifted, what to do, the document, and the proof. Documents only for one subject (`whole`)."""
    heading(screen, "Remedies", result)
    last = ""
    for row in result.remedies:
        title = f"{row.store}/{row.name}" if row.subject == "bucket" else f"{row.store}: {row.subject} {row.name}"
        if title != last:
            if last:
                screen.print()
            line(screen, (title, "bold"))
            last = title
        _remedy(screen, row, whole=whole)
    if not result.remedies:
        line(screen, ("no drift", "" if result.unread_stores or result.only else STYLES["ok"]))
        return
    screen.print()
    documents = sum(len(row.documents) for row in result.remedies)
    line(screen, (f"{many(len(result.remedies), 'remedy', 'remedies')}, {many(documents, 'document')}", "bold"),
         ("  lantern changes nothing itself", "dim"))  # fmt: skip
    if out is not None:
        line(screen, (f"documents are in {out}", ""))
    _next(screen, result.remedies, whole=whole)


def _remedy(screen: Console, row: RemedyRow, *, whole: bool) -> None:
    line(screen, (", ".join(row.facts), ""), indent=2, hang=2)
    line(screen, (row.words, "bold" if whole else ""), indent=4, hang=2)
    for document in row.documents:
        if not whole:
            continue
        line(screen, (f"{document.setting}:" if document.text else f"delete the {document.setting}", "dim"), indent=4)
        for text in document.text.splitlines():
            as_it_is(screen, text, STYLES["low"])
    if row.proof and whole:
        line(screen, ("re-evaluated with this: ", "dim"), "; ".join(row.proof), indent=4, hang=2)


def _next(screen: Console, rows: Sequence[RemedyRow], *, whole: bool) -> None:
    with_document = next((row for row in rows if row.documents and row.subject == "bucket"), None)
    if with_document is None:
        return
    where = f"{with_document.store}/{with_document.name}"
    policy = next((d for row in rows for d in row.documents if d.setting == "policy" and d.text), None)
    if whole and policy is not None:
        command = f"lantern remedy {where} --out . && lantern try --bucket {where} --policy {policy.file}"
        next_step(screen, command, "what applying it would do")
    elif not whole:
        next_step(screen, f"lantern remedy {where}", "its documents")
