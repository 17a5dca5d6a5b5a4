"""`lantern exposure`: who can get in, and how."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    find_view,
    kept,
    moment,
    workspace,
)


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("exposure")(exposure)


def exposure(
    buckets: Annotated[
        list[str] | None, typer.Argument(help="STORE/BUCKET; otherwise all.", metavar="STORE/BUCKET")
    ] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show who can get in: buckets by verbs, then each open or narrow door with a request that would pass it.

    Use it when something is said to be public, or is meant to be. Example: lantern exposure harbour/payroll-drop
    """
    from rusty_lantern.core.assess import views
    from rusty_lantern.reports.exposure_view import exposure_view
    from rusty_lantern.reports.results import ExposureResult, encode, exposure_row
    from rusty_lantern.reports.terminal import console

    place = workspace(workspace_folder)
    taken = kept(place, survey)
    when = moment(as_of, taken.manifest.taken)
    seen = views(taken.dossiers, place.estate(), when)
    chosen = [find_view(seen, wanted) for wanted in buckets] if buckets else seen
    result = ExposureResult(survey=taken.name, as_of=when, buckets=[exposure_row(view) for view in chosen])
    if json:
        emit(encode(result))
    else:
        exposure_view(console(), result)
