"""`lantern audit`: drift from the baseline."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import note, printed
from rusty_lantern.cli.session import Floor, judge_kept, kept, moment, since_when, workspace
from rusty_lantern.reports.formats import FORMATS

Form = StrEnum("Form", FORMATS)  # type: ignore[misc]
"""A format for other programs; see `reports/formats`."""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("audit", short_help="Drift from the baseline, worst first.")(audit)


def audit(
    fail_on: Annotated[
        Floor, typer.Option(help="Drift below this severity does not make the exit code 1.")
    ] = Floor.low,
    fail_on_unknown: Annotated[
        bool, typer.Option("--fail-on-unknown", help="End with 3 if anything is unknown, and no such drift.")
    ] = False,
    form: Annotated[
        Form | None, typer.Option("--format", help="Print it for another program.", show_default=False)
    ] = None,
    out: Annotated[
        Path | None, typer.Option(help="Write it to this file, whole or not at all.", show_default=False)
    ] = None,
    quiet: Annotated[bool, typer.Option("--quiet", "-q", help="Print nothing if the exit code is 0.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Hold a survey against the baseline: drift, worst first, and everything that could not be told.

    Use it after each survey; it asks no store. In a cron line, --quiet prints nothing when the exit code is 0.
    Example: lantern audit --fail-on high
    """
    from rusty_lantern.reports.formats import writer
    from rusty_lantern.reports.results.audit import audit_result
    from rusty_lantern.reports.terminal.audit import audit_view

    place = workspace(workspace_folder)
    baseline = place.baseline()
    taken = kept(place, survey)
    when = moment(as_of, taken.manifest.taken)
    found = judge_kept(place, taken, when)
    result = audit_result(taken, when, baseline, found, since_when(place, taken, found, when))
    code = found.exit_code(fail_on.value, unknown_counts=fail_on_unknown)
    written = form or (Form("json") if json else None)
    if not (quiet and not code):
        printed(writer(written.value)(result) if written else None, lambda screen: audit_view(screen, result), out)
        for idle in found.idle_sheets:
            note(idle)
    raise typer.Exit(code)
