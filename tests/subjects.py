"""Subjects of which only what a test says is known, and an audit of dossiers that asks no files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.audit import Audit, Judge, audit
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import Baseline
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Table, Versions
from rusty_lantern.core.model.dossier import Dossier


def nothing_known(name: str) -> Fact:
    return Answer("failed", None, f"{name} is not known here")


@dataclass(frozen=True)
class Said:
    """A subject whose facts are what a test says."""

    kind: str
    store: str
    name: str
    tags: Answer[dict[str, str]] = Answer("absent")  # noqa: RUF009  (frozen)
    facts: Callable[[str], Fact] = nothing_known
    unseen: bool = False
    table: Answer[Table] = Answer("unsupported")  # noqa: RUF009
    left_out: str = ""
    old_versions: Answer[Versions] = Answer("unsupported")  # noqa: RUF009

    @property
    def label(self) -> str:
        return self.name

    def fact(self, name: str) -> Fact:
        return self.facts(name)


def bucket_said(store: str, bucket: Bucket, facts: Callable[[str], Fact] = nothing_known) -> Said:
    return Said("bucket", store, bucket.name, bucket.tags, facts)


def audited(dossiers: list[Dossier], baseline: Baseline, moment: datetime) -> Audit:
    """The dossiers held against a baseline, in no estate."""
    return audit(store_subjects(dossiers, None, moment), Judge(baseline, moment))


def every_finding(found: Audit) -> list[Finding]:
    """All findings of an audit, what is ok too, by what they are about."""
    return sorted([*found.findings, *found.met.findings()], key=lambda one: (one.key, one.requirement.place.line))
