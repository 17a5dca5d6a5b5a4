"""How far a survey is, as bars in a terminal; elsewhere as a line for each store."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from rich.progress import (
    BarColumn,
    MofNCompleteColumn,
    Progress,
    TaskID,
    TextColumn,
    TimeElapsedColumn,
    TimeRemainingColumn,
)

from rusty_lantern.reports.terminal.layout import console


@dataclass
class Bars:
    """A bar for each store; `note` prints a line beside them."""

    bars: Progress
    note: Callable[[str], None]
    tasks: dict[str, TaskID] = field(default_factory=dict)

    def started(self, store: str, address: str) -> None:
        """A store is begun with."""
        self.tasks[store] = self.bars.add_task(store, total=None, rate="")
        if self.bars.disable:
            self.note(f"reading {store} at {address}")

    def advanced(self, store: str, done: int, total: int, rate: str) -> None:
        """So many buckets of a store are read, of so many, at this rate."""
        self.bars.update(self.tasks[store], completed=done, total=total, rate=rate)

    def noted(self, words: str) -> None:
        """Something that whoever runs the survey should know."""
        self.note(words)


@contextmanager
def survey_progress(note: Callable[[str], None]) -> Iterator[Bars]:
    """Bars on stderr for as long as a survey runs."""
    left = (TimeElapsedColumn(), TextColumn("left"), TimeRemainingColumn(), TextColumn("{task.fields[rate]}"))
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TextColumn("buckets"), *left)
    hidden = not sys.stderr.isatty()
    with Progress(*columns, console=console(error=True), disable=hidden, transient=True) as bars:
        yield Bars(bars, note)
