"""What would put drift right, as a result and on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import show_names
from rusty_lantern.reports.results.remediation import RemedyResult, RemedyRow
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, as_it_is, line, many, next_step, styled

if TYPE_CHECKING:
    from rich.console import Console


MOST_SUBJECTS = 100
"""Of more subjects than these, what to do is shown once, with the names of those that need it."""
MOST_NAMED = 8


def remedy_view(screen: Console, result: RemedyResult, out: Path | None, *, whole: bool) -> None:
    """Per subject: what drifted, what to do, the document, and the proof. Documents only for one subject (`whole`)."""
    heading(screen, "Remedies", result)
    by_title: dict[str, list[RemedyRow]] = {}
    for row in result.remedies:
        by_title.setdefault(_title(row), []).append(row)
    if len(by_title) > MOST_SUBJECTS:
        _by_task(screen, result.remedies)
    else:
        for number, (title, rows) in enumerate(by_title.items()):
            if number:
                screen.print()
            line(screen, (title, "bold"))
            for row in rows:
                _remedy(screen, row, whole=whole)
    if not result.remedies:
        sure = not (result.unread_stores or result.only or result.unknown)
        others = [(f"  {result.unknown:,} unknown", STYLES["unknown"])] * bool(result.unknown)
        others += [(f"  {result.waived:,} waived", STYLES["waived"])] * bool(result.waived)
        words = "no known drift" if result.unread_stores or result.unknown else "no drift"
        line(screen, (words, STYLES["ok"] if sure else ""), *others)
        return
    screen.print()
    documents = sum(len(row.documents) for row in result.remedies)
    line(screen, (f"{many(len(result.remedies), 'remedy', 'remedies')}, {many(documents, 'document')}", "bold"),
         ("  lantern changes nothing itself", "dim"))  # fmt: skip
    if out is not None:
        line(screen, (f"documents are in {out}", ""))
    _next(screen, result.remedies, whole=whole)


def _title(row: RemedyRow) -> str:
    return f"{row.store}/{row.name}" if row.subject == "bucket" else f"{row.store}: {row.subject} {row.name}"


def _by_task(screen: Console, rows: Sequence[RemedyRow]) -> None:
    """What is to be done, the worst first and of that what most need, each with who needs it."""
    tasks: dict[tuple[str, str], list[RemedyRow]] = {}
    for row in rows:
        tasks.setdefault((row.severity, row.words), []).append(row)
    titles = {task: list(dict.fromkeys(map(_title, alike))) for task, alike in tasks.items()}
    order = sorted(tasks, key=lambda task: (SEVERITIES.index(task[0]), -len(titles[task])))
    for number, task in enumerate(order):
        severity, words = task
        if number:
            screen.print()
        facts = dict.fromkeys(fact for row in tasks[task] for fact in row.facts)
        line(screen, styled(severity), f"  {', '.join(facts)}", hang=2)
        line(screen, (words, "bold"), indent=2, hang=2)
        named = show_names(titles[task], MOST_NAMED)
        line(screen, f"on {many(len(titles[task]), 'subject')}: ", (named, "dim"), indent=4, hang=2)


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
        line(screen, ("re-evaluated with this:", "dim"), indent=4)
        for words in row.proof:
            line(screen, words, indent=6, hang=2)


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
