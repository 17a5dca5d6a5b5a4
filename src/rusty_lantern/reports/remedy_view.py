"""What would put drift right, as a result and on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.core.file_names import file_name
from rusty_lantern.core.remedies import Remedy
from rusty_lantern.reports.terminal import as_it_is, line, many, next_step

if TYPE_CHECKING:
    from rich.console import Console


class DocumentResult(msgspec.Struct, frozen=True, kw_only=True):
    """A document to apply. An empty text: the setting is to be deleted."""

    setting: str
    text: str
    file: str
    """Its name in a folder of documents (`--out`)."""


class RemedyRow(msgspec.Struct, frozen=True, kw_only=True):
    """One remedy. `proof`: what deciding again with the documents in place showed."""

    store: str
    subject: str
    name: str
    severity: str
    facts: list[str]
    words: str
    documents: list[DocumentResult]
    proof: list[str]


class RemedyResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern remedy --json`."""

    survey: str
    as_of: datetime
    remedies: list[RemedyRow]


def remedy_row(store: str, subject: str, name: str, severity: str, remedy: Remedy) -> RemedyRow:
    """One remedy as a result."""
    documents = [
        DocumentResult(setting=d.setting, text=d.text, file=_file_name(store, name, d.setting, d.text))
        for d in remedy.documents
    ]
    return RemedyRow(
        store=store,
        subject=subject,
        name=name,
        severity=severity,
        facts=list(remedy.facts),
        words=remedy.words,
        documents=documents,
        proof=list(remedy.proof),
    )


def _file_name(store: str, name: str, setting: str, text: str) -> str:
    kind = "xml" if text.startswith("<") else "json"
    return f"{store}.{file_name(name)}.{setting.replace(' ', '-')}.{kind}"


def remedy_view(screen: Console, result: RemedyResult, out: Path | None, *, whole: bool) -> None:
    """Per subject: what drifted, what to do, the document, and the proof. Documents only for one subject (`whole`)."""
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
        line(screen, ("nothing drifts there", "green"))
        return
    screen.print()
    documents = sum(len(row.documents) for row in result.remedies)
    line(screen, (f"{many(len(result.remedies), 'remedy', 'remedies')}, {many(documents, 'document')}", "bold"),
         ("  lantern applies nothing", "dim"))  # fmt: skip
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
            as_it_is(screen, text, "cyan")
    if row.proof and whole:
        line(screen, ("decided again: ", "dim"), "; ".join(row.proof), indent=4, hang=2)


def _next(screen: Console, rows: Sequence[RemedyRow], *, whole: bool) -> None:
    with_document = next((row for row in rows if row.documents), rows[0])
    where = f"{with_document.store}/{with_document.name}"
    policy = next((d for row in rows for d in row.documents if d.setting == "policy" and d.text), None)
    if whole and policy is not None:
        command = f"lantern remedy {where} --out . && lantern try --bucket {where} --policy {policy.file}"
        next_step(screen, command, "what applying it would do")
    elif not whole:
        next_step(screen, f"lantern remedy {where}", "its documents")
