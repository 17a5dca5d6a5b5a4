"""The results of audits of saved surveys, kept beside the surveys (`results/`), so that looking back is quick.

Nothing here is a source: a file that is missing, or was judged by another baseline, is worked out again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import msgspec

from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.archive.folder_layout import MANIFEST, SUMMARIES
from rusty_lantern.archive.quick_status import judged_by
from rusty_lantern.archive.surveys import Survey, load
from rusty_lantern.archive.workspace import Workspace
from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.history.drift_history import AuditSummary, audit_summary

Judge = Callable[[Survey], Audit]
"""Audits a survey as of its own moment."""


class AuditSummaries:
    """The summaries of a workspace by its present baseline, estate and waivers."""

    def __init__(self, place: Workspace, judge: Judge, *, fresh: bool = False) -> None:
        self.place = place
        self.fresh = fresh
        """What is kept is not read, and is replaced."""
        self.judge = judge
        self.judged = 0
        """How many had to be worked out."""
        self._texts = place.judging_texts()
        self._sealed = place.sealed
        self._anew: dict[str, AuditSummary] = {}

    def known(self, name: str) -> AuditSummary | None:
        """The summary of a survey, if it is kept and still good."""
        if name in self._anew:
            return self._anew[name]
        if self.fresh:
            return None
        try:
            kept = msgspec.json.decode(self._sealed.read(self._path(name)), type=AuditSummary)
        except (OSError, ValueError):
            return None  # worked out again
        return kept if kept.judged_by == self._digest(name) else None

    def of(self, name: str) -> AuditSummary:
        """The summary of a survey, worked out and kept if it is not known. Raises what `load` raises."""
        return self.known(name) or self.keep(load(self.place.surveys, name))

    def keep(self, survey: Survey, audit: Audit | None = None) -> AuditSummary:
        """Work out the summary of a survey, or take it from its audit, and keep it where the workspace lets us."""
        self.judged += 1
        audit = audit or self.judge(survey)
        by = self._digest(survey.name)
        summary = audit_summary(survey.name, survey.manifest.taken, by, audit, list(self._texts))
        self._anew[survey.name] = summary
        with suppress(CannotWrite, OSError):  # a workspace that cannot be written to only makes it slower
            self._sealed.write(self._path(survey.name), msgspec.json.encode(summary) + b"\n")
        return summary

    def before(self, names: list[str], most: int) -> Iterator[AuditSummary]:
        """The summaries of surveys, latest first, until `most` had to be worked out."""
        for name in reversed(names):
            summary = self.known(name)
            if summary is None and self.judged >= most:
                return
            yield summary or self.of(name)

    def _path(self, name: str) -> Path:
        return self.place.folder / SUMMARIES / f"{name}.json"

    def _digest(self, name: str) -> str:
        """By what a survey is judged: its own manifest, and everything that judging depends on."""
        return judged_by(list(self._texts.values()), (self.place.surveys / name / MANIFEST).read_bytes())
