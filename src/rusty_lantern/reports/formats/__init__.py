"""An audit in the formats that other programs read: one module each, a function from the result to its text.

    FORMATS["sarif"](result) -> text

Each is deterministic: the same result gives the same bytes. Adding one is a module and a line in this table.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

    from rusty_lantern.reports.results.audit import AuditResult

FORMATS = ("json", "csv", "sarif", "junit", "openmetrics", "markdown")
"""Names of formats, each that of its module."""


def writer(name: str) -> Callable[[AuditResult], str]:
    """What writes a format; loaded when it is asked for."""
    write: Callable[[AuditResult], str] = import_module(f"{__name__}.{name}").write
    return write
