"""How results look on a terminal: one look for every command.

What matters first; columns aligned; a colour always means the same thing and a word always says it too; nothing
wider than the terminal; the last line says what to run next. Text from stores goes through `safe` first, and is
never read as markup.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Collection, Iterable
from datetime import datetime

from rich.console import Console
from rich.text import Text
from rich.theme import Theme

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.reports.escape import plain_marks, safe

_RED, _AMBER, _BLUE, _PINK, _GREEN, _GREY = "#ee0000", "#a86600", "#0080a0", "#d700af", "#00875f", "#767676"
"""Each has a contrast of at least 4.5 on black and on white (WCAG 2.2, 1.4.3); a terminal of fewer colours shows its
nearest."""
STYLES = {
    "critical": f"bold {_RED}",
    "high": _RED,
    "medium": _AMBER,
    "low": _BLUE,
    "open": f"bold {_RED}",
    "restricted": _AMBER,
    "closed": "dim",
    "unknown": _PINK,
    "drift": _RED,
    "ok": _GREEN,
    "waived": _BLUE,
    "no": _PINK,
    "failed": _PINK,
    "yes": _GREEN,
}
"""Word → style, everywhere the same. Without colour the words remain."""

_CALM = {
    "dim": _GREY,
    "bar.complete": "default",
    "bar.finished": _GREEN,
    "progress.elapsed": "dim",
    "progress.remaining": "default",
    "progress.download": "default",
}
"""What is quiet can be read too; progress bars keep to the same meanings: red is kept for what is wrong."""

PIPE_WIDTH = 120


def console(*, error: bool = False) -> Console:
    """A console for stdout or stderr: colour only on a terminal, `NO_COLOR` and `COLUMNS` respected."""
    stream = sys.stderr if error else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    return Console(file=stream, width=width, highlight=False, emoji=False, legacy_windows=False, theme=Theme(_CALM))


def line(screen: Console, *parts: str | tuple[str, str], indent: int = 0, hang: int = 0) -> None:
    """Print one line of text; a part may be (text, style). Long lines wrap under their indent, `hang` deeper."""
    text = Text()
    for part in parts:
        words, style = part if isinstance(part, tuple) else (part, "")
        text.append(plain_marks(screen, safe(words)), style)
    if not indent and not hang:
        screen.print(text)
        return
    for number, row in enumerate(text.wrap(screen, max(20, screen.width - indent - hang))):
        row.rstrip()
        screen.print(Text(" " * (indent + (hang if number else 0))) + row)


def as_it_is(screen: Console, text: str, style: str = "") -> None:
    """Print one line that is to be copied: from the first column on, and never broken, however wide it is."""
    screen.print(Text(plain_marks(screen, safe(text)), style), soft_wrap=True)


Cell = str | tuple[str, str]


def styled(word: str) -> Cell:
    """A word in the style that belongs to it."""
    return word, STYLES.get(word, "")


def terse(required: str) -> str:
    """What is required, short enough for a column of a table.

    >>> terse("at least 7 years"), terse("at most 2 days or absent"), terse("between 30 days and 40 days")
    ('≥ 7 years', '≤ 2 days or absent', '30 days to 40 days')
    """
    for words, mark in (("at least ", "≥ "), ("at most ", "≤ ")):
        if required.startswith(words):
            return mark + required.removeprefix(words)
    span = required.removeprefix("between ")
    return span.replace(" and ", " to ", 1) if span != required else required


def join(parts: Iterable[str]) -> str:
    """Parts with the dot between them that every command uses."""
    return " · ".join(part for part in parts if part)


def verbs_in_short(verbs: Collection[str]) -> str:
    """Verbs in words, as few as possible.

    >>> verbs_in_short(VERBS), verbs_in_short(["list", "read"]), verbs_in_short(VERBS[1:])
    ('all', 'list read', 'all but list')
    """
    missing = [verb for verb in VERBS if verb not in verbs]
    if not missing:
        return "all"
    return " ".join(verbs) if len(missing) > MOST_LEFT_OUT else f"all but {' '.join(missing)}"


MOST_LEFT_OUT = 2


def many(number: int, one: str, more: str = "") -> str:
    """A number with its noun: `1 bucket`, `2 buckets`."""
    return f"{number:,} {one if number == 1 else more or one + 's'}"


LEVELS_LEGEND = "open: anyone  open*: any authenticated account  restricted: under a condition  ?: unknown  ·: closed"
VERBS_LEGEND = "settings+: change settings   bypass: bypass retention   settings: read settings"
VERB_HEADINGS = {"change-settings": "settings+", "bypass-retention": "bypass", "read-settings": "settings"}
"""Verbs whose names are too long for the heading of a narrow column."""


def when(moment: datetime, now: datetime) -> str:
    """A moment's day, with its distance from now.

    >>> from datetime import UTC
    >>> when(datetime(2026, 11, 11, tzinfo=UTC), datetime(2026, 11, 2, tzinfo=UTC))
    '2026-11-11 (in 9 days)'
    """
    days = (moment - now).days
    distance = f"in {many(days, 'day')}" if days > 0 else f"{many(-days, 'day')} ago" if days < 0 else "today"
    return f"{moment:%Y-%m-%d} ({distance})"


def left_out(screen: Console, dropped: Iterable[str]) -> None:
    """Say which columns of a table had no room."""
    names = "; ".join(dropped)
    if names:
        line(screen, (f"left out at this width: {names} (--json has it all)", "dim"))


def next_step(screen: Console, command: str, why: str = "") -> None:
    """The last line of every command: what to run next."""
    screen.print()
    line(screen, ("next: ", "dim"), (command, "bold"), (f"   {why}" if why else "", "dim"))
