"""`lantern` alone: where one is, and what comes next."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from datetime import datetime

    from rich.console import Console

    from rusty_lantern.archive.quick_status import SavedResult

WIDE = 12


def show_status(as_of: str | None) -> None:
    """Print the workspace, the last survey with its age and result, and the next step. Nothing is judged anew."""
    from datetime import UTC, datetime

    from rusty_lantern.archive.folder_layout import SURVEYS, names, unfinished, upwards
    from rusty_lantern.archive.quick_status import saved_result
    from rusty_lantern.reports.terminal.layout import console, line, next_step

    now, screen = _moment(as_of), console()
    folder = upwards(Path.cwd())
    if folder is None:
        line(screen, ("no workspace here", "bold"), "  (no estate.yaml in this folder or above it)")
        next_step(screen, "lantern init FOLDER", "make one; or lantern demo, to see everything on a made-up estate")
        return
    _row(screen, "workspace", str(folder))
    kept, stopped = names(folder / SURVEYS), unfinished(folder / SURVEYS)
    if stopped:
        _row(screen, "stopped", f"the survey {stopped[-1]} is not whole", "magenta")
    if not kept:
        _row(screen, "surveys", "none yet")
        next_step(
            screen, "lantern survey --resume" if stopped else "lantern reach", "" if stopped else "then: lantern survey"
        )
        return
    taken = datetime.strptime(kept[-1], "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
    _row(screen, "surveys", f"{len(kept):,}, the last {_age(taken, now)}: {taken:%Y-%m-%dT%H:%M:%SZ}")
    summary = saved_result(folder, kept[-1])
    if summary is None:
        _row(screen, "drift", "not audited with the present baseline yet")
        next_step(screen, "lantern audit", "check it against the baseline")
        return
    _print_result(screen, summary)
    drift = summary.counts.get("drift", 0)
    if summary.unread:
        next_step(screen, "lantern reach", "whether the stores that were not read answer")
    if stopped:
        next_step(screen, "lantern survey --resume", "ask only what is missing")
    elif drift or summary.counts.get("unknown", 0):
        worst = summary.worst()
        for store, name, facts in worst[:3]:
            _row(screen, "worst", f"{store}/{name}: {', '.join(facts)}", "bold")
        if worst:
            next_step(screen, f"lantern remedy {worst[0][0]}/{worst[0][1]}", "the exact fix")
        next_step(screen, "lantern audit", "what to do first, and everything else")
    else:
        next_step(screen, "lantern survey", "see whether it is still so")


def _row(screen: Console, heading: str, words: str, style: str = "") -> None:
    from rusty_lantern.reports.terminal.layout import line

    line(screen, (f"{heading:<{WIDE}}", "dim"), (words, style))


def _print_result(screen: Console, summary: SavedResult) -> None:
    from rusty_lantern.reports.terminal.layout import STYLES, line

    parts: list[tuple[str, str]] = []
    unknown = summary.counts.get("unknown", 0)
    for severity, number in summary.drift_by_severity.items():
        if number:
            parts += [(f"{number} ", "bold"), (f"{severity}  ", STYLES[severity])]
    line(
        screen,
        (f"{'drift':<{WIDE}}", "dim"),
        *(parts or [("none", "" if unknown or summary.unread else STYLES["ok"])]),
    )
    unread = f", not read: {', '.join(summary.unread)}" if summary.unread else ""
    _row(screen, "unknown", f"{unknown}{unread}", STYLES["unknown"] if unknown or unread else "dim")
    waived = summary.counts.get("waived", 0)
    if waived:
        _row(screen, "waived", f"{waived:,}")


def _moment(as_of: str | None) -> datetime:
    from datetime import UTC, datetime

    if as_of is None:
        return datetime.now(UTC)
    from rusty_lantern.cli.session import moment

    return moment(as_of, datetime.now(UTC))


def _age(taken: datetime, now: datetime) -> str:
    """How long ago, in its largest unit."""
    seconds = int((now - taken).total_seconds())
    for size, word in ((86_400, "day"), (3_600, "hour"), (60, "minute")):
        if seconds >= size:
            number = seconds // size
            return f"{number} {word}{'' if number == 1 else 's'} ago"
    return "just now" if seconds >= 0 else "later than this moment"
