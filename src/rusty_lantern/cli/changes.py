"""`lantern changes`: what is otherwise than before."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from rusty_lantern.cli.counting import VersionTables
from rusty_lantern.cli.options import JsonOption, WorkspaceOption
from rusty_lantern.cli.output import printed
from rusty_lantern.cli.session import FailOnOption, audit_saved, end_listing, saved_survey, stores_of, workspace

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence, Set
    from datetime import datetime

    from rusty_lantern.archive.surveys import Survey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.history.changes import Change
    from rusty_lantern.core.history.event import Event, ProtectionWeakened
    from rusty_lantern.reports.results.changes import DeclaredResult, EventsRow, WeakenedRow


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("changes", short_help="Show what changed between two surveys.")(changes)


def changes(
    before: Annotated[
        str | None, typer.Argument(help="A survey, by the beginning of its name; otherwise the last but one.")
    ] = None,
    after: Annotated[str | None, typer.Argument(help="A later one; otherwise the latest.")] = None,
    since: Annotated[str | None, typer.Option(help="From the latest survey taken by this date.")] = None,
    only: Annotated[list[str] | None, typer.Option(help="Only these STORE/NAME patterns; may be repeated.")] = None,
    events: Annotated[
        list[Path] | None, typer.Option(help="An access log, to find who did it and when; may be repeated.")
    ] = None,
    declared: Annotated[
        Path | None, typer.Option(help="Not a survey before, but buckets as declared: a file or a folder.")
    ] = None,
    fail_on: FailOnOption = None,
    layout: Annotated[
        Path | None, typer.Option(help="The layout of the log files, where it is another than ours.")
    ] = None,
    workspace_folder: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Compare two saved surveys: access gained and lost, protection weakened, drift new and resolved, facts changed.

    Use it each morning. With --fail-on SEVERITY it ends with 1 if drift opened or got worse, or protection became
    weaker (which counts as high); with --declared, if anything is not as declared. Example:
    lantern changes --since 2026-10-02 --events events.jsonl
    """
    from rusty_lantern.core.history.changes import changes
    from rusty_lantern.core.history.drift_changes import drift_changes
    from rusty_lantern.reports.results.changes import ChangesResult, change_rows, drift_rows
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.changes import changes_view, declared_view

    place, wanted = workspace(workspace_folder), _one_of(only or ())
    if declared is not None:
        left = _left(place, declared, before, wanted)
        printed(encode(left) + "\n" if json else None, lambda screen: declared_view(screen, left))
        end_listing(fail_on, ("critical" for _ in left.changes), left.unread_stores)
        return
    old, new = _pair(place, before, after, since)
    stores = [stores_of(place, one, one.manifest.taken) for one in (old, new)]
    differences = changes(stores[0], stores[1], (old.manifest.limits, new.manifest.limits))
    differences = [within for change in differences if (within := change.within(wanted)) is not None]
    _refuse_idle(only or (), {f"{one.name}/{name}" for side in stores for one in side for name in one.titles()})
    drift = drift_changes(*(audit_saved(place, one, stores=s) for one, s in zip((old, new), stores, strict=True)))
    both = {one: why for one, why in _looked_at_by_both(old, new).items() if wanted(*one)}
    weak = _weakened(place, old, new, [one for one, why in both.items() if not why])
    held = _attributed(differences, weak, (old.manifest.taken, new.manifest.taken), events, layout) if events else None
    result = ChangesResult(
        before=old.name,
        after=new.name,
        before_taken=old.manifest.taken,
        after_taken=new.manifest.taken,
        before_only=old.manifest.only,
        after_only=new.manifest.only,
        before_only_of=old.manifest.only_of,
        after_only_of=new.manifest.only_of,
        changes=change_rows(differences, held.causes if held else None),
        drift=[row for row in drift_rows(drift) if wanted(row.store, row.name)],
        weakened=_weakened_rows(weak, len(differences), held),
        not_compared={"/".join(one): why for one, why in both.items() if why},
        events=held.events if held else None,
    )
    printed(encode(result) + "\n" if json else None, lambda screen: changes_view(screen, result))
    worse = [row.severity for row in result.drift if row.change in ("new", "worse")]
    end_listing(fail_on, [*worse, *("high" for _ in result.weakened)], new.unread)


def _one_of(patterns: Sequence[str]) -> Callable[[str, str], bool]:
    """Whether something in a store has a name that fits one of these patterns; anything, where there is none."""
    from fnmatch import fnmatchcase

    return lambda store, name: not patterns or any(fnmatchcase(f"{store}/{name}", one) for one in patterns)


def _refuse_idle(patterns: Sequence[str], titles: Set[str]) -> None:
    """Raise `BadInput` for a pattern that fits none of these STORE/NAMEs."""
    from fnmatch import fnmatchcase

    from rusty_lantern.cli.session import nearest_bucket
    from rusty_lantern.core.errors import BadInput, Problem

    for pattern in patterns:
        if not any(fnmatchcase(title, pattern) for title in titles):
            store, _, name = pattern.rpartition("/")
            remedy = nearest_bucket(name, store, sorted(titles)) or "lantern buckets lists them"
            raise BadInput(Problem(f'nothing in either survey is called "{pattern}"', remedy=remedy))


def _left(place: Workspace, folder: Path, survey: str | None, wanted: Callable[[str, str], bool]) -> DeclaredResult:
    """Where a survey (the latest, if none is named) left what was declared."""
    from rusty_lantern.cli.files import declarations
    from rusty_lantern.core.history.changes import against
    from rusty_lantern.reports.results.changes import DeclaredResult, change_rows

    taken = saved_survey(place, survey)
    declared = declarations(folder)
    stores = stores_of(place, taken, taken.manifest.taken)
    limits = taken.manifest.limits
    differences = against(declared, stores, limits)
    rows = [row for row in change_rows(differences) if wanted(row.store, row.name)]
    return DeclaredResult(
        survey=taken.name,
        taken=taken.manifest.taken,
        unread_stores=taken.unread,
        only=limits.only,
        only_of=limits.of_stores,
        declared=len(declared),
        changes=rows,
    )


def _pair(place: Workspace, before: str | None, after: str | None, since: str | None) -> tuple[Survey, Survey]:
    """The two surveys to compare. Raises `BadInput` where there are not two."""
    from rusty_lantern.archive.surveys import folder_name, names
    from rusty_lantern.cli.session import moment
    from rusty_lantern.core.errors import BadInput, Problem

    new = saved_survey(place, after)
    earlier = [name for name in names(place.surveys) if name < new.name]
    if since is not None and before is None:
        limit = folder_name(moment(since, new.manifest.taken, "--since"))
        earlier = [name for name in earlier if name <= limit] or earlier[:1]
    if before is None and not earlier:
        what = f"no survey was saved before {new.name}"
        raise BadInput(Problem(what, remedy="two are needed; lantern history lists them"))
    old = saved_survey(place, before or earlier[-1])
    if old.name >= new.name:
        raise BadInput(Problem(f"{old.name} is not before {new.name}", remedy="lantern changes FROM TO"))
    return old, new


class ChangesWithEvents(NamedTuple):
    """Changes held against events."""

    causes: dict[int, list[Event]]
    events: EventsRow


def _attributed(
    differences: list[Change],
    weak: list[tuple[ProtectionWeakened, int, list[str]]],
    window: tuple[datetime, datetime],
    files: list[Path],
    layout_file: Path | None,
) -> ChangesWithEvents:
    """Hold the changes against the event files. Raises `BadInput`."""
    from rusty_lantern.cli.files import read_text
    from rusty_lantern.core.history.attribution import Attribution
    from rusty_lantern.intake.event_log import Events, Layout, read_layout, stream
    from rusty_lantern.reports.results.changes import EventsRow

    layout = read_layout(read_text(layout_file), str(layout_file)) if layout_file else Layout()
    attribution = Attribution([*differences, *(one for one, _, _ in weak)], *window)
    read = Events()
    for file in files:
        attribution.feed(stream(file, layout, attribution.actions, read))
    causes = attribution.causes()
    unexplained = sum(not events for events in causes.values())
    row = EventsRow(lines=read.lines, skipped=read.skipped, first_skipped=read.first_skipped, unexplained=unexplained)
    return ChangesWithEvents(causes, row)


def _weakened_rows(
    weak: list[tuple[ProtectionWeakened, int, list[str]]], first: int, held: ChangesWithEvents | None
) -> list[WeakenedRow]:
    from rusty_lantern.reports.results.changes import WeakenedRow, event_rows

    return [
        WeakenedRow(
            store=one.store, bucket=one.bucket, what=one.what, versions=versions, first=shown,
            causes=event_rows(held.causes.get(number)) if held else None,
        )
        for number, (one, versions, shown) in enumerate(weak, first)
    ]  # fmt: skip


def _looked_at_by_both(old: Survey, new: Survey) -> dict[tuple[str, str], str]:
    """The buckets whose objects both surveys looked at, each with why one of them left old versions out."""
    before, after = (
        {(d.store, b.name): b.left_out for d in survey.dossiers for b in d.buckets if b.table.value is not None}
        for survey in (old, new)
    )
    return {bucket: why or before[bucket] for bucket, why in after.items() if bucket in before}


def _weakened(
    place: Workspace, old: Survey, new: Survey, both: list[tuple[str, str]]
) -> list[tuple[ProtectionWeakened, int, list[str]]]:
    """What became weaker in buckets whose versions both surveys looked at: how many versions, and the first of them."""
    from rusty_lantern.core.history.event import ProtectionWeakened

    tables = VersionTables(place, new, new.manifest.taken)
    return [
        (ProtectionWeakened(*bucket, what, keys), versions, first)
        for bucket, weakened in zip(both, tables.weakened(old, both), strict=True)
        for what, (versions, first, keys) in weakened.items()
    ]
