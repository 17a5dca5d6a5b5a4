"""How every view of a saved survey begins: what it is about, and what it leaves out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.of_survey import OfSurvey, unread_words
from rusty_lantern.reports.terminal.layout import STYLES, join, line


def heading(screen: Console, title: str, result: OfSurvey, *more: str) -> None:
    """The title of a view, the survey and the moment, and which stores and buckets are missing in it."""
    line(screen, (title, "bold"))
    line(screen, (join([f"survey {result.survey}", f"as of {show_moment(result.as_of)}", *more]), "dim"))
    missing_in_it(screen, result.unread_stores, result.only, result.only_of)
    screen.print()


def missing_in_it(
    screen: Console, unread_stores: Mapping[str, str], only: Sequence[str], only_of: Mapping[str, Sequence[str]]
) -> None:
    """A line for each store that was not read, and for what the survey was limited to."""
    if only:
        line(screen, (f"this survey was limited to {', '.join(only)}", STYLES["unknown"]), hang=2)
    for store, patterns in only_of.items():
        line(screen, (f"estate.yaml limits {store} to {', '.join(patterns)}", STYLES["unknown"]), hang=2)
    for store, reason in unread_stores.items():
        line(screen, (f"store {store} {unread_words(reason)}", STYLES["unknown"]), hang=2)
