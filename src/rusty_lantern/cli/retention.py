"""`lantern retention`: what is locked, how, until when, and by whom it could be deleted."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import FailOnOption, chosen_views, end_listing, opened

if TYPE_CHECKING:
    from datetime import datetime

    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.baseline.evaluation import Finding
    from rusty_lantern.objects.retention_summary import RetentionSummary
    from rusty_lantern.reports.results.objects import RetentionRow, VersionRow


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("retention", short_help="Show what is protected, until when, and who can delete it.")(retention)


def retention(
    buckets: Annotated[
        list[str] | None,
        typer.Argument(
            help="STORE/BUCKET; default: every inspected bucket.",
            metavar="[STORE/BUCKET]...",
            autocompletion=completing.buckets,
        ),
    ] = None,
    key: Annotated[str | None, typer.Option(help="Show all versions of this object, of one bucket.")] = None,
    timeline: Annotated[
        Path | None, typer.Option(help="Draw the bytes locked over the coming years into this .png, .svg or .pdf.")
    ] = None,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show what keeps versions from being deleted: by mode, by key, until when, and from whom.

    Use it before promising that something cannot, or can, be deleted. It needs a survey that inspected
    objects (lantern survey --objects all). Example: lantern retention harbour/permit-archive
    """
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.objects import RetentionResult, table_row
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.objects import retention_view

    session = opened(workspace_folder, survey, as_of)
    chosen = chosen_views(session, buckets)
    seen = [view for view in chosen if view.bucket.table.value is not None]
    if (key is not None or timeline is not None) and (len(chosen) != 1 or not seen):
        why = f"{chosen[0].title}: {chosen[0].bucket.table.reason}" if len(chosen) == 1 else "name one STORE/BUCKET"
        raise BadInput(Problem("--key and --timeline are about one inspected bucket", remedy=why))
    judge = Judge(session.place.baseline(), session.when, tuple(session.place.waivers()))
    rows = _rows(session, seen, judge.about("objects.")) if key is None else []
    result = RetentionResult(
        **session.about(named=bool(buckets)),
        buckets=rows,
        unread=[table_row(view) for view in chosen if view.bucket.table.value is None],
        key=key,
        history=None if key is None else _history(session, seen[0], key),
    )
    if timeline is not None and rows:
        from rusty_lantern.reports.figures.retention import locked_bytes

        row = rows[0]
        locked_bytes(f"{row.store}/{row.bucket}", row.sentence, [row.retention], session.when, timeline)
        note(f"drawn into {timeline}")
    if json:
        emit(encode(result))
    else:
        retention_view(console(), result)
    end_listing(fail_on, (one.severity for row in rows for one in row.drift), result.unread_stores)


def _rows(session: OpenedSurvey, views: list[BucketSubject], judge: Judge) -> list[RetentionRow]:
    tallies, summaries = session.tables().tallies(judge, views), session.tables().retention_summaries(views)
    return [
        _row(view, summary, judge.findings(view, tallies), session.when)
        for view, summary in zip(views, summaries, strict=True)
    ]


ABOUT = ("objects.mode", "objects.retention", "objects.legal-hold", "objects.current-version", "objects.deletable-by")
"""The facts of objects that say what protects them."""


def _row(view: BucketSubject, summary: RetentionSummary, judged: list[Finding], when: datetime) -> RetentionRow:
    from rusty_lantern.core.answer import Partly
    from rusty_lantern.core.value_sets import NAMES
    from rusty_lantern.core.value_types import DURATION
    from rusty_lantern.reports.results.objects import RetentionRow, object_row, sentence

    bucket, lock, table = view.bucket, view.bucket.lock.value, view.bucket.table.value
    assert table is not None
    required = [one for one in judged if one.requirement.fact in ABOUT]
    around, bypass = str(view.fact("lock.way-around").value or ""), view.principals["bypass-retention"]
    surely = bypass.certain if isinstance(bypass, Partly) else bypass.value
    default = f"{lock.mode} {DURATION.show(lock.retention)}" if lock and lock.mode else "none"
    return RetentionRow(
        store=view.dossier.store,
        bucket=bucket.name,
        default_retention="unknown" if bucket.lock.unread or (lock and lock.default_unread) else default,
        retention=summary,
        way_around=around,
        sentence=sentence(summary, when, around, view.left_out),
        bypass_holders=sorted(NAMES.members(str(surely or ""))),
        bypass_unknown=bypass.reason,
        drift=[object_row(one) for one in required if one.status == "drift"],
        others={one.requirement.fact: one.status for one in required if one.status != "drift"},
        inspected=table.inspected,
        versions=table.versions,
        left_out=view.left_out,
    )


def _history(session: OpenedSurvey, view: BucketSubject, key: str) -> list[VersionRow]:
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.object_rules.retention import protection
    from rusty_lantern.objects.duckdb_engine import table_path
    from rusty_lantern.objects.tables import read_versions
    from rusty_lantern.reports.results.objects import version_row

    path = table_path(session.survey.folder, view.dossier.store, view.bucket.name)
    versions = read_versions(path, key)
    rows = [version_row(one, protection(one, session.when, locks_hold=view.locks_hold)) for one in versions]
    if not rows:
        raise BadInput(
            Problem(f'{view.title} has no object "{key}" in this survey', remedy="object keys are written in full")
        )
    return rows
