"""What `lantern dossier check` found, as a result and as a view."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.reports.results.dossier import CheckResult
from rusty_lantern.reports.terminal.layout import STYLES, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Table


def check_view(screen: Console, result: CheckResult) -> None:
    """The faults, fatal ones first; what it holds; what it leaves out."""
    word, style = (
        ("a dossier that can be used", "ok") if result.usable else ("a dossier that cannot be used", "critical")
    )
    line(screen, (result.file, "bold"), "  ", (word, STYLES[style]))
    contains = [
        many(number, name.replace("_", " ").removesuffix("s")) for name, number in result.contains.items() if number
    ]
    if contains:
        line(screen, (join(contains).replace("identitys", "identities"), "dim"))
    if result.faults:
        screen.print()
        grid = Table("where", "what is wrong", "remedy", shrink=(0, 1, 2), floors={0: 14, 1: 20, 2: 20})
        for fault in sorted(result.faults, key=lambda f: not f.fatal):
            grid.add((fault.pointer, "bold"), (fault.what, STYLES["high" if fault.fatal else "medium"]), fault.hint)
        grid.show(screen)
    if result.left_out:
        screen.print()
        line(
            screen,
            ("These are missing, so they will be unknown: ", STYLES["unknown"]),
            ", ".join(result.left_out),
        )
    if result.usable:
        next_step(screen, "lantern survey", "once estate.yaml has `reads: dossier` and `at: FILE`")
