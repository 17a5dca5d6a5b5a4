"""`lantern audit`: drift from the baseline."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import note, printed
from rusty_lantern.cli.session import Floor, audit_saved, drift_since, drift_starts_of, moment, saved_survey, workspace
from rusty_lantern.reports.formats import FORMATS

if TYPE_CHECKING:
    from rusty_lantern.archive.surveys import Survey
    from rusty_lantern.core.audit.choice import Choice
    from rusty_lantern.core.baseline.loader import Baseline
    from rusty_lantern.core.config.estate import Estate


Form = StrEnum("Form", FORMATS)  # type: ignore[misc]
"""A format for other programs; see `reports/formats`."""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("audit", short_help="Show what drifts from the baseline, and what to do first.")(audit)


def audit(
    whole: Annotated[bool, typer.Option("--all", help="Every requirement that is not ok, one row each.")] = False,
    stores: Annotated[
        list[str] | None, typer.Option("--store", help="Only this store; may be repeated.", show_default=False)
    ] = None,
    owner: Annotated[
        str | None,
        typer.Option(help="Only buckets with this tag, TAG=VALUE, e.g. steward=hydrology.", show_default=False),
    ] = None,
    severity: Annotated[
        Floor | None, typer.Option(help="Only drift of this severity or worse.", show_default=False)
    ] = None,
    fact: Annotated[
        str | None, typer.Option(help='Only requirements on these facts, e.g. "exposure.*".', show_default=False)
    ] = None,
    fail_on: Annotated[
        Floor, typer.Option(help="Drift below this severity does not make the exit code 1.")
    ] = Floor.low,
    fail_on_unknown: Annotated[
        bool, typer.Option("--fail-on-unknown", help="End with 3 if anything is unknown, and no such drift.")
    ] = False,
    max_age: Annotated[
        str | None,
        typer.Option(
            help='End with 3 if the survey is older, as in "26 hours", and there is no such drift.', show_default=False
        ),
    ] = None,
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
    """Hold a survey against the baseline, and say what to do first.

    Use it after each survey; it asks no store. The first screen has deadlines, what is public now, one line a subject
    that drifts, and what is unknown; --all has every row. In a cron line, --quiet prints nothing when the exit code is
    0, and --max-age notices that no new survey comes. Example: lantern audit --fail-on high
    """
    from rusty_lantern.reports.formats import writer
    from rusty_lantern.reports.results.audit import audit_result
    from rusty_lantern.reports.terminal.audit import MOST_SUBJECTS, audit_view

    place = workspace(workspace_folder)
    baseline = place.baseline()
    taken = saved_survey(place, survey)
    when = moment(as_of, taken.manifest.taken)
    choice = _chosen(taken, place.estate(), baseline, stores, owner, severity, fact)
    judged = audit_saved(place, taken, when, choice=choice)
    since = drift_starts_of(place, taken, judged, when, whole=choice is None)
    turned = drift_since(place, taken.name, judged, choice)
    written = form or (Form("json") if json else None)
    most = None if whole or written is not None else MOST_SUBJECTS
    too_old = _too_old(taken, max_age, as_of)
    result = audit_result(taken, when, baseline, judged, since, turned, most=most, too_old=too_old)
    code = judged.exit_code(fail_on.value, unknown_counts=fail_on_unknown) or (3 if too_old else 0)
    checked = any(result.counts.values())
    if code or not checked or not quiet:
        text = writer(written.value)(result) if written else None
        printed(text, lambda screen: audit_view(screen, result, whole=whole), out)
        for idle in judged.idle_sheets if choice is None else ():
            note(idle)
    raise typer.Exit(code)


def _too_old(taken: Survey, max_age: str | None, as_of: str | None) -> str:
    """How old the survey is at `as_of`, by default now, where that is more than `max_age`. Raises `BadInput`."""
    from datetime import UTC, datetime, timedelta

    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.value_types import DURATION, InvalidValue

    if max_age is None:
        return ""
    try:
        most = int(str(DURATION.read(max_age)))
    except InvalidValue as error:
        raise BadInput(Problem(f"--max-age: {error}")) from None
    age = moment(as_of, datetime.now(UTC)) - taken.manifest.taken
    if age <= timedelta(seconds=most):
        return ""
    return f"it was taken {DURATION.roughly(int(age.total_seconds()))} ago, and --max-age is {DURATION.show(most)}"


def _chosen(
    taken: Survey,
    estate: Estate,
    baseline: Baseline,
    stores: list[str] | None,
    owner: str | None,
    severity: Floor | None,
    fact: str | None,
) -> Choice | None:
    """What was asked for; None for everything. Raises `BadInput` for what chooses nothing that there is."""
    from fnmatch import fnmatchcase

    from rusty_lantern.core.audit.choice import Choice
    from rusty_lantern.core.baseline.builtin import OF_MIRRORS, OF_PROBED_BUCKETS
    from rusty_lantern.core.errors import BadInput, Problem, nearest

    names = [dossier.store for dossier in taken.dossiers]
    for name in stores or ():
        if name not in names:
            hint = nearest(name, names) or f"stores: {', '.join(names)}"
            raise BadInput(Problem(f'no store "{name}" in the survey {taken.name}', remedy=hint))
    tag, equals, value = (owner or "").partition("=")
    if owner and not (tag and equals):
        raise BadInput(Problem(f'--owner "{owner}" is not TAG=VALUE', remedy="e.g. --owner steward=hydrology"))
    required_facts = [
        *OF_PROBED_BUCKETS,
        *(OF_MIRRORS if estate.mirrors else ()),
        *(r for s in baseline.sheets for r in s.require),
    ]
    required = sorted({one.fact for one in required_facts})
    if fact and not any(fnmatchcase(name, fact) for name in required):
        hint = nearest(fact, required) or "lantern baseline show lists what is required"
        raise BadInput(Problem(f'--fact "{fact}": the baseline requires no such fact', remedy=hint))
    buckets = [bucket for dossier in taken.dossiers for bucket in dossier.buckets]
    if tag and not any(b.tags.unread or fnmatchcase((b.tags.value or {}).get(tag, ""), value) for b in buckets):
        raise BadInput(
            Problem(f"no bucket has the tag {owner}", remedy=f"lantern buckets --json lists the tags, e.g. {tag}=…")
        )
    choice = Choice(tuple(stores or ()), tag, value, severity.value if severity else "", fact or "")
    return choice if choice != Choice() else None
