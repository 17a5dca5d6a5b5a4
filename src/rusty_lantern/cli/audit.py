"""`lantern audit`: drift from the baseline."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    kept,
    missing_in,
    moment,
    note,
    tallied,
    workspace,
)


class Floor(StrEnum):
    """The least severity that makes the exit code 1."""

    critical = "critical"
    high = "high"
    medium = "medium"
    low = "low"


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("audit", short_help="Drift from the baseline, worst first.")(audit)


def audit(
    severity: Annotated[
        Floor, typer.Option(help="Drift below this severity does not make the exit code 1.")
    ] = Floor.low,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Hold a survey against the baseline: drift, worst first, and everything that could not be told.

    Use it after each survey; it asks no store. Example: lantern audit --severity high
    """
    from rusty_lantern.core.assess import audit
    from rusty_lantern.reports.results import audit_result, encode
    from rusty_lantern.reports.terminal import console
    from rusty_lantern.reports.views import audit_view

    place = workspace(workspace_folder)
    baseline = place.baseline()
    taken = kept(place, survey)
    when = moment(as_of, taken.manifest.taken)
    found = audit(
        taken.dossiers, baseline, place.estate(), when, tallied(taken, when), missing_in(taken), place.waivers()
    )
    result = audit_result(taken, when, baseline, found)
    if json:
        emit(encode(result))
    else:
        audit_view(console(), result)
    for idle in found.idle_sheets:
        note(idle)
    raise typer.Exit(found.exit_code(severity.value))
