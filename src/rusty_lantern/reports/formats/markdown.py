"""The audit as a Markdown page, for a ticket or a wiki."""

from __future__ import annotations

from collections.abc import Iterable

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.escape import markdown
from rusty_lantern.reports.results.audit import AuditResult, FindingResult
from rusty_lantern.reports.results.of_survey import unread_words


def write(result: AuditResult) -> str:
    """Headings and tables (the pipe tables that most renderers know)."""
    counts = ", ".join(f"{number} {word}" for word, number in result.counts.items())
    edition = f", edition {result.edition}" if result.edition else ""
    parts = [
        f"# {markdown(result.baseline)}{markdown(edition)}",
        f"Survey {result.survey}, as of {show_moment(result.as_of)}, {result.buckets:,} buckets: {counts}.",
    ]
    parts += [f"**The survey is too old**: {result.too_old}."] * bool(result.too_old)
    unread = result.unread_stores.items()
    parts += [f"**Store {markdown(store)}** {markdown(unread_words(why))}." for store, why in unread]
    if result.only:
        parts.append(f"The survey was limited to {markdown(', '.join(result.only))}.")
    parts += [f"estate.yaml limits {markdown(s)} to {markdown(', '.join(each))}." for s, each in result.only_of.items()]
    parts += _section("Drift", result.drift)
    parts += _section("Unknown", result.unknown)
    parts += _section("Waived", result.waived)
    return "\n\n".join(parts) + "\n"


def _section(title: str, findings: list[FindingResult]) -> list[str]:
    if not findings:
        return []
    headings = ("severity", "where", "fact", "required", "observed", "since", "why")
    rows = (
        (
            one.severity, f"{one.store}/{one.name}", one.fact, one.required, one.observed,
            f"{one.since:%Y-%m-%d}" if one.since else "", one.reason or one.note or one.because,
        )
        for one in findings
    )  # fmt: skip
    return [f"## {title}", table(headings, rows)]


def table(headings: Iterable[str], rows: Iterable[Iterable[str]]) -> str:
    """A pipe table, every cell made safe."""
    titles = list(headings)
    lines = [titles, ["---"] * len(titles), *([markdown(cell) for cell in row] for row in rows)]
    return "\n".join("| " + " | ".join(line) + " |" for line in lines)
