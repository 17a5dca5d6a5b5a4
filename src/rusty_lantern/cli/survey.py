"""`lantern survey`: read every bucket's settings and keep them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.common import AsOfOption, JsonOption, WorkspaceOption, emit, moment, note, workspace

if TYPE_CHECKING:
    from datetime import datetime

    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.dossier import Dossier
    from rusty_lantern.core.estate import Estate
    from rusty_lantern.stores.credentials import AccessKey


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("survey", short_help="Read every bucket's settings, and keep them.")(survey)


def survey(
    probe: Annotated[
        bool, typer.Option("--probe", help="Also knock at each list and read door without credentials.")
    ] = False,
    workspace_folder: WorkspaceOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Read every bucket's settings in every store, and keep them as a survey.

    Use it nightly, or before an audit. It only asks, never changes. Example: lantern survey
    """
    import asyncio
    from datetime import UTC, datetime

    from rusty_lantern.archive import surveys
    from rusty_lantern.reports.results import encode, survey_result
    from rusty_lantern.reports.terminal import console
    from rusty_lantern.reports.views import survey_view
    from rusty_lantern.stores.credentials import find

    place = workspace(workspace_folder)
    estate = place.estate()
    when = moment(as_of, datetime.now(UTC)).replace(microsecond=0)
    keys = {store.name: find(store.credential, place.folder) for store in estate.stores}
    dossiers = asyncio.run(_read(estate, keys, place, when, probe=probe))
    folder = surveys.keep(place.surveys, estate.name, when, dossiers)
    kept = surveys.load(place.surveys, folder.name)
    result = survey_result(kept)
    if json:
        emit(encode(result))
    else:
        survey_view(console(), result)
    unsettled = any(states.get("denied") or states.get("failed") for states in result.questions.values())
    raise typer.Exit(3 if result.unread or unsettled else 0)


async def _read(
    estate: Estate, keys: dict[str, AccessKey], place: Workspace, when: datetime, *, probe: bool
) -> list[Dossier]:
    import asyncio
    import sys

    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

    from rusty_lantern.reports.terminal import console
    from rusty_lantern.stores.s3.client import Client
    from rusty_lantern.stores.s3.probe import knock_everywhere
    from rusty_lantern.stores.s3.reader import survey

    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TextColumn("buckets"),
        TimeElapsedColumn(),
    )
    with Progress(*columns, console=console(error=True), disable=not sys.stderr.isatty(), transient=True) as bar:

        async def one(name: str) -> Dossier:
            store = next(s for s in estate.stores if s.name == name)
            task = bar.add_task(name, total=None)
            if bar.disable:
                note(f"reading {name} at {store.at}")
            async with Client(store, keys[name], place.folder) as client:
                read = await survey(client, when, lambda done, total: bar.update(task, completed=done, total=total))
                if not probe:
                    return read
                note(f"knocking at {store.at} without credentials, at most {store.pace.per_second} requests a second")
                async with Client(store, None, place.folder) as outside:
                    return await knock_everywhere(client, outside, read, estate)

        return list(await asyncio.gather(*(one(store.name) for store in estate.stores)))
