"""`lantern prune`: thin the archive by a stated rule."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.options import WorkspaceOption
from rusty_lantern.cli.session import workspace


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("prune", short_help="Delete old surveys by a rule.")(prune)


def prune(
    keep: Annotated[
        list[str], typer.Option(help="'all for 30 days', 'daily for …', 'weekly for 1 year', 'monthly'; repeat it.")
    ],
    delete: Annotated[bool, typer.Option("--delete", help="Delete them; default: only list them.")] = False,
    workspace_folder: WorkspaceOption = None,
) -> None:
    """Take old surveys away: all but the last of each period that a rule keeps, and never the latest.

    Use it in a cron line. What goes is written down with its hash, and the chain stays whole. Example:
    lantern prune --keep 'all for 30 days' --keep 'weekly for 1 year' --keep monthly
    """
    from rusty_lantern.archive.pruning import plan, read_rule
    from rusty_lantern.archive.pruning import prune as take_away
    from rusty_lantern.archive.surveys import sole
    from rusty_lantern.reports.terminal.layout import console, line, many, next_step

    place = workspace(workspace_folder)
    rules = [read_rule(written) for written in keep]
    screen = console()
    with sole(place.surveys):
        planned = plan(place.surveys, rules)
        if delete:
            take_away(place.surveys, planned.go, "; ".join(keep), place.signer)
    word = "deleted" if delete else "would be deleted"
    for name in planned.go:
        line(screen, (name, ""), (f"  {word}", "yellow"))
    stay = many(len(planned.stay), "survey stays", "surveys stay")
    line(screen, (f"{stay}, {len(planned.go):,} {'deleted' if delete else 'would be deleted'}", "bold"))
    if planned.go and not delete:
        rule = " ".join(f"--keep '{written}'" for written in keep)
        next_step(screen, f"lantern prune {rule} --delete", "delete them")
    elif delete:
        next_step(screen, "lantern history --verify", "the chain is followed through what was pruned")
