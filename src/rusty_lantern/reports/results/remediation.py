"""Remedies as a result."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.core.file_names import file_name
from rusty_lantern.core.remediation.remedy import Remedy
from rusty_lantern.reports.results.of_survey import OfSurvey

if TYPE_CHECKING:
    pass


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


class RemedyResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern remedy --json`."""

    remedies: list[RemedyRow]
    unknown: int
    """How many requirements on the same subjects are unknown: no remedy is for them."""
    waived: int
    """How many drift, and are waived; likewise."""


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
    kind = {"<": "xml", "P": "txt"}.get(text[:1], "json")  # a document, or a request
    return f"{store}.{file_name(name)}.{setting.replace(' ', '-')}.{kind}"
