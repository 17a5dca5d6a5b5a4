"""Choosing a part of an audit: by store, by a tag of buckets, by severity, by fact."""

from __future__ import annotations

from fnmatch import fnmatchcase

import msgspec

from rusty_lantern.core.baseline.loader import SEVERITIES, Requirement, Severity
from rusty_lantern.core.baseline.selectors import Subject


class Choice(msgspec.Struct, frozen=True):
    """What is asked for; what is empty chooses everything."""

    stores: tuple[str, ...] = ()
    tag: str = ""
    value: str = ""
    severity: str = ""
    """Only drift of this severity or worse; what is unknown or waived likewise."""
    fact: str = ""
    """A pattern of names of facts."""

    def has_subject(self, subject: Subject) -> bool:
        """Whether a subject is chosen: by a tag, buckets alone. One whose tags were not read may be the owner's, so it
        is."""
        if self.stores and subject.store not in self.stores:
            return False
        if not self.tag:
            return True
        if subject.kind != "bucket" or subject.tags.unread:
            return subject.kind == "bucket"
        return fnmatchcase((subject.tags.value or {}).get(self.tag, ""), self.value)

    def has_requirement(self, requirement: Requirement) -> bool:
        """Whether what is found of a requirement on a chosen subject is chosen."""
        return self.has(requirement.fact, requirement.severity)

    def has(self, fact: str, severity: Severity) -> bool:
        """Whether what is found of a fact is chosen, where it has this severity."""
        worst = not self.severity or SEVERITIES.index(severity) <= SEVERITIES.index(self.severity)
        return worst and (not self.fact or fnmatchcase(fact, self.fact))
