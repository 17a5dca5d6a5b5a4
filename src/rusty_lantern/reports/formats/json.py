"""The result as it is (docs/schemas/audit.json)."""

from __future__ import annotations

from rusty_lantern.reports.results.audit import AuditResult
from rusty_lantern.reports.results.facts import encode


def write(result: AuditResult) -> str:
    """Indented JSON."""
    return encode(result) + "\n"
