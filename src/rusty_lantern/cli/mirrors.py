"""`lantern mirrors`: copies against their originals."""

from __future__ import annotations

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import FailOnOption, end_listing, mirrored_in, opened


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("mirrors", short_help="Show what the second site's copies lack.")(mirrors)


def mirrors(
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Compare every mirrored bucket with its copy: settings, lock, tags, and whether everything has arrived.

    Use it to see whether the second site could take over. Example: lantern mirrors
    """
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.baseline.builtin import NOTHING_REQUIRED
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.replicas import MirrorsResult, mirror_row
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.replicas import mirrors_view

    session = opened(workspace_folder, survey, as_of)
    wanted = session.place.estate().mirrors
    if not wanted:
        remedy = 'mirrors: [{from: harbour, to: skerry, buckets: ["permit-*"], lag: 30 minutes}]'
        raise BadInput(Problem("the estate file names no mirrors", remedy=remedy))
    judge = session.judge() or Judge(NOTHING_REQUIRED, session.when)
    rows = [mirror_row(one, judge) for one in mirrored_in(session.tables(), session.stores, session.place.estate())]
    result = MirrorsResult(**session.about(), mirrors=rows)
    if json:
        emit(encode(result))
    else:
        mirrors_view(console(), result)
    end_listing(
        fail_on, (severity for row in rows for severity in row.against_baseline.drift.values()), result.unread_stores
    )
