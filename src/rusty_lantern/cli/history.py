"""`lantern history`: the kept surveys."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.common import JsonOption, WorkspaceOption, emit, workspace


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("history", short_help="The kept surveys, and whether they are as they were written.")(history)


def history(
    verify: Annotated[bool, typer.Option("--verify", help="Hash every file and follow the chain of surveys.")] = False,
    workspace_folder: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """List the kept surveys, oldest first, with their hashes.

    Use it to see what there is, and to show that nothing was altered. Example: lantern history --verify
    """
    from rusty_lantern.archive import surveys
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.survey_results import HistoryResult, history_row
    from rusty_lantern.reports.terminal import console
    from rusty_lantern.reports.views import history_view

    place = workspace(workspace_folder)
    kept = surveys.history(place.surveys, verify=verify)
    stopped = surveys.unfinished(place.surveys)
    result = HistoryResult(verified=verify, surveys=[history_row(one) for one in kept], unfinished=stopped)
    if json:
        emit(encode(result))
    else:
        history_view(console(), result)
    raise typer.Exit(2 if any(one.wrong for one in kept) else 0)
