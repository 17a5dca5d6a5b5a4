"""`lantern survey`: read every bucket's settings and save them."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import interrupt
from rusty_lantern.cli.counting import Engine
from rusty_lantern.cli.options import AsOfOption, JsonOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import moment, workspace

if TYPE_CHECKING:
    from datetime import datetime

    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.model.dossier import Dossier
    from rusty_lantern.stores.reader import WantedDetails


class Depth(StrEnum):
    """How far objects are looked at."""

    none = "none"
    listed = "listed"
    sample = "sample"
    all = "all"


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("survey", short_help="Read every bucket's settings, and save them.")(survey)


def survey(
    only: Annotated[list[str] | None, typer.Option(help="Only these STORE/BUCKET patterns; may be repeated.")] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Continue the survey that was stopped, with the options it was begun with.")
    ] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Only show how many requests, to which stores, how long.")
    ] = False,
    probe: Annotated[
        bool,
        typer.Option("--probe", help="Also send one anonymous list and one anonymous read request to each bucket."),
    ] = False,
    objects: Annotated[
        Depth | None, typer.Option(help="How far to inspect objects; default: what estate.yaml says.")
    ] = None,
    since_last: Annotated[
        bool,
        typer.Option(
            "--since-last",
            help="Reuse objects that are listed unchanged since the survey before; settings are read anew.",
        ),
    ] = False,
    list_limit: Annotated[
        int | None, typer.Option(help="Pages of 1,000 objects to count in one bucket; default: 100.", min=1)
    ] = None,
    deadline: Annotated[
        float | None, typer.Option(help="Stop after so many minutes; every answer is saved.", min=0.01)
    ] = None,
    engine: Annotated[
        Engine, typer.Option(help="Where objects are inspected (LANTERN_ENGINE).", envvar="LANTERN_ENGINE")
    ] = Engine.here,
    scheduler: Annotated[
        str, typer.Option(help="The Dask scheduler to use with --engine dask.", envvar="LANTERN_SCHEDULER")
    ] = "",
    log: Annotated[Path | None, typer.Option(help="Write every request as a JSON line into this file.")] = None,
    workspace_folder: WorkspaceOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Read every bucket's settings in every store, and keep them as a survey.

    Use it nightly, or before an audit. It only asks, never changes. A survey that is stopped can be gone on with
    (--resume). It ends with 0 where every store was listed: what was denied counts in the audit. Example:
    lantern survey && lantern audit
    """
    from contextlib import nullcontext
    from dataclasses import replace
    from datetime import UTC, datetime

    from rusty_lantern.archive import surveys
    from rusty_lantern.archive.atomic_write import private
    from rusty_lantern.archive.survey_options import SurveyOptions
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.surveys import survey_result
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.survey import survey_view
    from rusty_lantern.reports.terminal.survey_progress import survey_progress
    from rusty_lantern.survey.run import SurveyPlan, estimate, read_all

    place = workspace(workspace_folder)
    estate = place.estate()
    when = _resumed(place) if resume else moment(as_of, datetime.now(UTC)).replace(microsecond=0)
    journals = place.surveys / (surveys.folder_name(when) + surveys.PARTIAL) / surveys.JOURNAL
    options = SurveyOptions(tuple(only or ()), probe, objects.value if objects else None, since_last, list_limit)
    if resume:
        options = options.gone_on(journals)
        note(" ".join(["going on with the survey of", surveys.folder_name(when), *options.given()]))
    plan = SurveyPlan(
        estate, place.folder, when, options.only, options.list_limit or 100, options.probe, log,
        objects=Depth(options.objects).value if options.objects else None,
        earlier=_last(place, when) if options.since_last else None,
        wanted=_wanted(place, options.objects), cluster=_cluster(engine, scheduler), deadline=deadline,
    )  # fmt: skip
    plan.check()
    signer = place.signer  # before anything is asked
    if dry_run:
        costs, whole = interrupt.run(estimate(plan, place.prices()))
        for words in costs:
            emit(words)
        raise typer.Exit(0 if whole else 3)
    try:
        with private(), surveys.sole(place.surveys):
            surveys.refuse_taken(place.surveys, when)
            if not resume and surveys.unfinished(place.surveys):
                note("an earlier survey was stopped before it was whole: lantern survey --resume goes on with it")
            with nullcontext() if resume else options.kept(journals), survey_progress(note) as progress:
                dossiers = interrupt.run(read_all(replace(plan, progress=progress), journals))
            dossiers = _with_growth(place, dossiers, when)
            folder = surveys.save(place.surveys, estate.name, when, dossiers, plan.only, signer, plan.only_of)
    except KeyboardInterrupt:
        note("lantern: interrupted; every answer so far is saved. To continue: lantern survey --resume")
        raise typer.Exit(130) from None
    result = survey_result(surveys.load(place.surveys, folder.name))
    if json:
        emit(encode(result))
    else:
        survey_view(console(), result)
    raise typer.Exit(3 if result.unread_stores else 0)


def _cluster(engine: Engine, scheduler: str) -> str:
    """The scheduler to use; empty for none. Raises `BadInput` where one is needed and not named."""
    if engine is Engine.here:
        return ""
    if not scheduler:
        from rusty_lantern.core.errors import BadInput, Problem

        raise BadInput(Problem("--engine dask needs --scheduler", remedy="e.g. --scheduler tcp://127.0.0.1:8786"))
    return scheduler


def _with_growth(place: Workspace, dossiers: list[Dossier], when: datetime) -> list[Dossier]:
    """What buckets with a quota held in the earliest survey of late, so that a fact can say when they are full."""
    if not any(b.quota.value and b.quota.value.bytes for dossier in dossiers for b in dossier.buckets):
        return dossiers
    from rusty_lantern.archive.earlier import earliest
    from rusty_lantern.core.usage.holding import growth_floor, with_before

    then = earliest(place.surveys, growth_floor(when), when)
    by_name = {dossier.store: dossier for dossier in then.dossiers} if then else {}
    return [with_before(dossier, by_name.get(dossier.store)) for dossier in dossiers]


def _last(place: Workspace, when: datetime) -> Path | None:
    """The folder of the latest survey before `when`, if there is one."""
    from rusty_lantern.archive import surveys

    earlier = [name for name in surveys.names(place.surveys) if name < surveys.folder_name(when)]
    return place.surveys / earlier[-1] if earlier else None


def _wanted(place: Workspace, objects: str | None) -> WantedDetails:
    """What the baseline requires that costs a question of its own for each version."""
    from rusty_lantern.archive.workspace import BASELINE
    from rusty_lantern.core.errors import BadInput
    from rusty_lantern.core.facts.registry import lookup
    from rusty_lantern.stores.reader import WantedDetails

    try:
        required = {lookup(r.fact).asks_objects for sheet in place.baseline().sheets for r in sheet.require}
    except BadInput as error:
        looks = objects or any(store.objects for store in place.estate().stores)
        if looks and (place.folder / BASELINE).is_file():
            first, _, _ = str(error.complaints[0]).partition("\n")
            note(f"tags and ACLs of objects are not asked for: the baseline cannot be read, {first}")
        return WantedDetails()
    return WantedDetails(tags="tags" in required, acl="acl" in required)


def _resumed(place: Workspace) -> datetime:
    """The moment of the survey to go on with. Raises `BadInput` if there is none."""
    from datetime import UTC, datetime

    from rusty_lantern.archive import surveys
    from rusty_lantern.core.errors import BadInput, Problem

    stopped = surveys.unfinished(place.surveys)
    if not stopped:
        raise BadInput(Problem("no survey was stopped here", remedy="take a new one with: lantern survey"))
    return datetime.strptime(stopped[-1], surveys.NAME_FORM).replace(tzinfo=UTC)
