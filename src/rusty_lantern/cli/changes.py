"""`lantern changes`: what is otherwise than before."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.common import JsonOption, WorkspaceOption, emit, judge_kept, kept, workspace

if TYPE_CHECKING:
    from rusty_lantern.archive.surveys import Survey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.reports.changes_view import WeakenedRow


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("changes", short_help="What changed between two surveys.")(changes)


def changes(
    before: Annotated[
        str | None, typer.Argument(help="A survey, by the beginning of its name; otherwise the last but one.")
    ] = None,
    after: Annotated[str | None, typer.Argument(help="A later one; otherwise the latest.")] = None,
    since: Annotated[str | None, typer.Option(help="From the latest survey taken by this date.")] = None,
    only: Annotated[list[str] | None, typer.Option(help="Only these STORE/NAME patterns; may be repeated.")] = None,
    workspace_folder: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Compare two kept surveys: access gained and lost, drift opened and closed, protection weakened, facts changed.

    Use it each morning. It ends with 1 if drift opened or got worse, or protection became weaker. Example:
    lantern changes --since 2026-10-02
    """
    from fnmatch import fnmatchcase

    from rusty_lantern.core.assess import circles
    from rusty_lantern.core.changes import changes, drift_changes
    from rusty_lantern.reports.changes_view import ChangesResult, change_rows, changes_view, drift_rows
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    place = workspace(workspace_folder)
    old, new = _pair(place, before, after, since)
    estate = place.estate()
    found = changes(*(circles(one.dossiers, estate, one.manifest.taken) for one in (old, new)))
    drift = drift_changes(*(judge_kept(place, one) for one in (old, new)))

    def wanted(store: str, name: str) -> bool:
        return not only or any(fnmatchcase(f"{store}/{name}", pattern) for pattern in only)

    result = ChangesResult(
        before=old.name,
        after=new.name,
        before_taken=old.manifest.taken,
        after_taken=new.manifest.taken,
        changes=[row for row in change_rows(found) if wanted(row.store, row.name)],
        drift=[row for row in drift_rows(drift) if wanted(row.store, row.name)],
        weakened=[row for row in _weakened(old, new) if wanted(row.store, row.bucket)],
    )
    if json:
        emit(encode(result))
    else:
        changes_view(console(), result)
    bad = any(row.turn in ("opened", "worse") for row in result.drift)
    raise typer.Exit(1 if bad or result.weakened else 0)


def _pair(place: Workspace, before: str | None, after: str | None, since: str | None) -> tuple[Survey, Survey]:
    """The two surveys to compare. Raises `BadInput` where there are not two."""
    from rusty_lantern.archive.surveys import folder_name, names
    from rusty_lantern.cli.common import moment
    from rusty_lantern.core.errors import BadInput, Complaint

    new = kept(place, after)
    earlier = [name for name in names(place.surveys) if name < new.name]
    if since is not None and before is None:
        limit = folder_name(moment(since, new.manifest.taken))
        earlier = [name for name in earlier if name <= limit] or earlier[:1]
    if before is None and not earlier:
        what = f"no survey was kept before {new.name}"
        raise BadInput(Complaint(what, remedy="two are needed; lantern history lists them"))
    old = kept(place, before or earlier[-1])
    if old.name >= new.name:
        raise BadInput(Complaint(f"{old.name} is not before {new.name}", remedy="lantern changes FROM TO"))
    return old, new


def _weakened(old: Survey, new: Survey) -> list[WeakenedRow]:
    """What became weaker in buckets whose objects both surveys looked at."""
    tables = {f"{d.store}/{b.name}": b for d in old.dossiers for b in d.buckets if b.table.value is not None}
    both = [
        (d.store, b.name)
        for d in new.dossiers
        for b in d.buckets
        if b.table.value is not None and f"{d.store}/{b.name}" in tables
    ]
    if not both:
        return []
    from rusty_lantern.objects.engine import table_path
    from rusty_lantern.objects.weakened import weakened
    from rusty_lantern.reports.changes_view import WeakenedRow

    rows = []
    for store, bucket in both:
        paths = [table_path(survey.folder, store, bucket) for survey in (old, new)]
        for what, (versions, first) in weakened(paths[0], paths[1], new.manifest.taken).items():
            rows.append(WeakenedRow(store=store, bucket=bucket, what=what, versions=versions, first=first))
    return rows
