"""`lantern show`: everything about one bucket."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.counting import VersionTables
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import find_view, opened


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("show", short_help="Show every fact of one bucket.")(show)


def show(
    bucket: Annotated[
        str, typer.Argument(help="STORE/BUCKET.", metavar="STORE/BUCKET", autocompletion=completing.buckets)
    ],
    required: Annotated[bool, typer.Option("--required", help="Add what the baseline requires, and where.")] = False,
    evidence: Annotated[bool, typer.Option("--evidence", help="Add each question and the store's answer.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show every fact of one bucket, with its state; --evidence adds the questions and answers.

    Use it to see why something drifts. Example: lantern show harbour/press-kit --required
    """
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.reports.results.facts import encode, show_result
    from rusty_lantern.reports.terminal.facts import show_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of)
    place, taken, when, seen = session.place, session.survey, session.when, session.views
    view = find_view(seen, bucket, taken)
    judge = Judge(place.baseline(), when, tuple(place.waivers())) if required else None
    judged = judge.findings(view, VersionTables(place, taken, when).tallies(judge, [view])) if judge else None
    result = show_result(taken, view, judged, judge.cascade.baseline if judge else None)
    if json:
        emit(encode(result))
    else:
        show_view(console(), result, evidence=evidence)
