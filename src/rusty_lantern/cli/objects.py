"""`lantern objects`: which objects break which requirement."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import FailOnOption, chosen_views, end_listing, opened

if TYPE_CHECKING:
    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.baseline.evaluation import Finding
    from rusty_lantern.objects.violations import Prefix


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("objects", short_help="Show requirements on objects, and the objects that fail.")(objects)


def objects(
    buckets: Annotated[
        list[str] | None,
        typer.Argument(
            help="STORE/BUCKET; default: every inspected bucket.",
            metavar="[STORE/BUCKET]...",
            autocompletion=completing.buckets,
        ),
    ] = None,
    fact: Annotated[
        str | None, typer.Option(help="Only this fact, with the prefixes that fail.", metavar="FACT")
    ] = None,
    out: Annotated[
        Path | None, typer.Option(help="Write every version that breaks a requirement into this .csv or .parquet.")
    ] = None,
    whole: Annotated[bool, typer.Option("--all", help="Requirements that are ok too.")] = False,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Check the objects of each bucket against the baseline: how many fail, and the first of them.

    Use it after an audit that found drift in objects. It needs a survey that inspected objects
    (lantern survey --objects sample). Example: lantern objects harbour/camera-traps --fact objects.encryption
    """
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.objects import ObjectsResult, object_row, table_row
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.objects import objects_view

    if fact is not None:
        fact = f"objects.{fact.removeprefix('objects.')}"
        _check(fact)
    session = opened(workspace_folder, survey, as_of)
    chosen = chosen_views(session, buckets)
    judge = Judge(session.place.baseline(), session.when, tuple(session.place.waivers())).about("objects.")
    tallies = session.tables().tallies(judge, chosen)
    judged = [
        (view, finding)
        for view in chosen
        for finding in judge.findings(view, tallies)
        if finding.tally is not None and fact in (None, finding.requirement.fact)
    ]
    judged.sort(key=lambda pair: _order(pair[1]))
    result = ObjectsResult(
        **session.about(named=bool(buckets)),
        tables=[table_row(view) for view in chosen],
        requirements=[object_row(j, _prefixes(session, view, j) if fact else None) for view, j in judged],
    )
    if out is not None:
        _write(session, [(view, j) for view, j in judged if j.tally and j.tally.failed], out)
    if json:
        emit(encode(result))
    else:
        objects_view(console(), result, whole=whole)
    end_listing(fail_on, (row.severity for row in result.requirements if row.status == "drift"), result.unread_stores)


def _check(fact: str) -> None:
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.facts import catalogue as register
    from rusty_lantern.core.facts.objects import SCOPES
    from rusty_lantern.core.facts.registry import UnknownFact, lookup

    try:
        lookup(fact)
    except UnknownFact as error:
        facts = ", ".join(name.removeprefix("objects.") for name in register.REGISTER if name in SCOPES)
        what = f'no fact of objects is called "{fact.removeprefix("objects.")}"'
        raise BadInput(Problem(what, remedy=error.hint or facts)) from None


def _order(finding: Finding) -> tuple[int, int, str, str]:
    from rusty_lantern.core.baseline.loader import SEVERITIES

    status = ("drift", "unknown", "waived", "ok").index(finding.status)
    return status, SEVERITIES.index(finding.requirement.severity), finding.name, finding.requirement.fact


def _prefixes(session: OpenedSurvey, view: BucketSubject, finding: Finding) -> list[Prefix]:
    from rusty_lantern.objects.table_set import version_table
    from rusty_lantern.objects.violations import by_prefix

    return by_prefix(version_table(session.survey.folder, view), finding.requirement, session.when)


def _write(session: OpenedSurvey, judged: list[tuple[BucketSubject, Finding]], out: Path) -> None:
    from rusty_lantern.objects.table_set import version_table
    from rusty_lantern.objects.violations import failing_versions
    from rusty_lantern.reports.formats.row_files import write_list

    def batches() -> object:
        for view, finding in judged:
            table = version_table(session.survey.folder, view)
            yield from failing_versions(table, view.name, finding.requirement, session.when)

    rows = write_list(out, batches())  # type: ignore[arg-type]
    note(f"{rows:,} versions written into {out}")
