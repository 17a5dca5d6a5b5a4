"""The result as it is (docs/schemas/audit.json)."""

from __future__ import annotations

from rusty_lantern.reports.results import AuditResult, encode


def write(result: AuditResult) -> str:
    """Indented JSON."""
    return encode(result) + "\n"
