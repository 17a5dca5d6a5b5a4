"""The terminal view of a survey that was just taken."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.reports.results.of_survey import unread_words
from rusty_lantern.reports.results.surveys import SurveyResult
from rusty_lantern.reports.terminal.layout import STYLES, Cell, line, many, next_step
from rusty_lantern.reports.terminal.table import Table


def survey_view(screen: Console, result: SurveyResult) -> None:
    """What was kept, and what could not be read."""
    line(screen, ("saved survey ", ""), (result.survey, "bold"))
    grid = Table("store", "buckets", "answers", "denied", "failed", "not offered", right=(1, 2, 3, 4, 5))
    for store, buckets in result.stores.items():
        states = result.questions.get(store, {})
        answered = sum(states.get(state, 0) for state in ("known", "absent"))
        refused = [states.get(state, 0) for state in ("denied", "failed")]
        cells: list[Cell] = [(f"{n:,}", STYLES["unknown"] if n else "dim") for n in refused]
        grid.add(
            store,
            "unread" if buckets is None else f"{buckets:,}",
            f"{answered:,}",
            *cells,
            (f"{states.get('unsupported', 0):,}", "dim"),
        )
    grid.show(screen, indent=2)
    for store, counts in result.also_read.items():
        if counts:
            words = ", ".join(many(number, *ONE_AND_MORE[name]) for name, number in counts.items())
            line(screen, (f"{store}: ", "bold"), words, indent=2)
    for store, unread in result.also_unread.items():
        by_reason: dict[str, list[str]] = {}
        for words, reason in unread.items():
            by_reason.setdefault(reason, []).append(words)
        for reason, what in by_reason.items():
            line(screen, (f"{store}: not read: {', '.join(what)} ({reason})", STYLES["unknown"]), indent=2, hang=2)
    for store, reason in result.unread_stores.items():
        line(screen, (f"store {store} {unread_words(reason)}", STYLES["unknown"]), indent=2)
    next_step(screen, "lantern audit", "check it against the baseline")


ONE_AND_MORE = {
    "identities": ("identity", "identities"),
    "groups": ("group", "groups"),
    "credentials": ("credential", "credentials"),
    "encryption_keys": ("encryption key", "encryption keys"),
    "links": ("link", "links"),
}
