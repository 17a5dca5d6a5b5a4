"""The terminal view of a survey that was just taken."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.reports.results.of_survey import unread_words
from rusty_lantern.reports.results.surveys import SurveyResult
from rusty_lantern.reports.terminal.layout import STYLES, Cell, line, many, next_step
from rusty_lantern.reports.terminal.table import Table

MOST_REASONS = 6
"""Of one store, of how many the view says what was not read for them."""


def survey_view(screen: Console, result: SurveyResult) -> None:
    """What was kept, and what could not be read."""
    line(screen, ("saved survey ", ""), (result.survey, "bold"))
    grid = Table("store", "buckets", "answers", "denied", "not read", "not offered", right=(1, 2, 3, 4, 5))
    for store, buckets in result.stores.items():
        states = result.questions.get(store, {})
        answered = sum(states.get(state, 0) for state in ("known", "absent"))
        refused = [states.get("denied", 0), states.get("failed", 0) + states.get("hidden", 0)]
        cells: list[Cell] = [(f"{n:,}", STYLES["unknown"] if n else "dim") for n in refused]
        grid.add(
            store,
            "unread" if buckets is None else f"{buckets:,}",
            f"{answered:,}",
            *cells,
            (f"{states.get('unsupported', 0):,}", "dim"),
        )
    grid.show(screen, indent=2)
    for store in result.stores:
        answers = result.unread_answers.get(store, [])
        for one in answers[:MOST_REASONS]:
            where = f"bucket {one.first}" if one.buckets == 1 else f"{one.buckets:,} buckets"
            unread_of = (f"not read of {where}: {', '.join(one.what)}", STYLES["unknown"])
            line(screen, (f"{store}: ", "bold"), unread_of, (f" ({one.reason})", "dim"), indent=2, hang=2)
        if len(answers) > MOST_REASONS:
            rest = many(len(answers) - MOST_REASONS, "more reason", "more reasons")
            line(screen, (f"{store}: ", "bold"), (f"and {rest}", STYLES["unknown"]), indent=2)
    for store in result.stores:
        if counts := result.also_read.get(store):
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
