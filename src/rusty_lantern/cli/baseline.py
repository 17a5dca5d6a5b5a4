"""`lantern baseline`: check it, and show what it asks of one subject."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    find_view,
    opened,
    opened_stores,
    workspace,
)

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from rusty_lantern.core.baseline.choosing import Spoken

baselines = typer.Typer(no_args_is_help=True, help="Check the baseline, and show what it asks of one bucket.")


def register(app: typer.Typer) -> None:
    """Enter the commands."""
    app.add_typer(baselines, name="baseline", short_help="Check the baseline; show what it asks of one bucket.")


@baselines.command("check", short_help="Is the baseline sound, and what is odd about it?")
def check(
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Read the baseline, and hold it against the latest survey, if there is one.

    Use it after every change of the baseline. It ends with 1 if something is likely a mistake. Example:
    lantern baseline check
    """
    from rusty_lantern.core.baseline.checking import check, unasked
    from rusty_lantern.reports.baseline_view import BaselineCheck, check_view
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    place = workspace(workspace_folder)
    baseline = place.baseline()
    subjects, when, name = _subjects(workspace_folder, survey, as_of)
    remarks = check(baseline, subjects, when)
    result = BaselineCheck.of(baseline, remarks, unasked(baseline), name)
    if json:
        emit(encode(result))
    else:
        check_view(console(), result)
    raise typer.Exit(1 if any(remark.odd for remark in remarks) else 0)


def _subjects(named: object, survey: str | None, as_of: str | None) -> tuple[Sequence[Spoken], datetime, str]:
    """Everything that was surveyed; nothing where no survey is kept yet and none was asked for."""
    from datetime import UTC, datetime
    from pathlib import Path

    import msgspec

    from rusty_lantern.archive.surveys import names
    from rusty_lantern.cli.common import moment
    from rusty_lantern.core.baseline.choosing import spoken

    folder = named if isinstance(named, Path) else None
    if survey is None and not names(workspace(folder).surveys):
        return [], moment(as_of, datetime.now(UTC)), ""
    found = opened_stores(folder, survey, as_of)
    subjects = [spoken(v.dossier.store, v.bucket, v.fact) for c in found.circles for v in c.buckets.values()]
    for circle in found.circles:
        for subject, view in circle.subjects():
            observe = circle.observer(view)
            subjects.append(msgspec.structs.replace(subject, observe=observe))
    return subjects, found.when, found.survey.name


@baselines.command("show", short_help="What the baseline asks of one bucket, and where.")
def show(
    bucket: Annotated[str, typer.Argument(help="STORE/BUCKET.", metavar="STORE/BUCKET")],
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Print the effective sheet of one bucket: every requirement in force, its origin, and what it displaced.

    Use it to see why something is required. Example: lantern baseline show harbour/permit-archive
    """
    from rusty_lantern.core.baseline.choosing import spoken
    from rusty_lantern.core.baseline.judge import required_of
    from rusty_lantern.core.baseline.sheets import in_force
    from rusty_lantern.reports.baseline_view import EffectiveSheet, sheet_view
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    found = opened(workspace_folder, survey, as_of)
    view = find_view(found.views, bucket, found.survey)
    baseline = found.place.baseline()
    required = required_of(in_force(baseline, found.when), spoken(view.dossier.store, view.bucket, view.fact))
    result = EffectiveSheet.of(baseline, view.title, found.when, required)
    if json:
        emit(encode(result))
    else:
        sheet_view(console(), result)
