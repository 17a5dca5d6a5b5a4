"""`lantern reach`: can each store be reached and asked?"""

from __future__ import annotations

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import moment, workspace


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("reach", short_help="Does each store answer, and what may this key ask?")(reach)


def reach(workspace_folder: WorkspaceOption = None, as_of: AsOfOption = None, json: JsonOption = False) -> None:
    """Try every store: address, transport, clock, credential, and which questions the key may ask.

    Use it before the first survey, and when a survey saw less than it should. Example: lantern reach
    """
    import asyncio
    from datetime import UTC, datetime

    import msgspec

    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.reachability import reach_view
    from rusty_lantern.stores.dossier.reader import reach_dossier
    from rusty_lantern.stores.http.client import Client
    from rusty_lantern.stores.http.credentials import find
    from rusty_lantern.stores.reachability import Reached
    from rusty_lantern.stores.s3.reachability import reach

    place = workspace(workspace_folder)
    estate = place.estate()
    when = moment(as_of, datetime.now(UTC))
    spoken = [store for store in estate.stores if store.reads == "s3"]
    keys = {store.name: find(store.credential, place.folder) for store in spoken}

    async def all_stores() -> list[Reached]:
        found = []
        for store in estate.stores:
            if store.reads == "dossier":
                found.append(await reach_dossier(store, place.folder, when))
                continue
            async with Client(store, keys[store.name], place.folder) as client:
                found.append(await reach(client, when))
        return found

    results = asyncio.run(all_stores())
    if json:
        emit(msgspec.json.format(msgspec.json.encode({"stores": results}), indent=2).decode())
    else:
        reach_view(console(), results)
    raise typer.Exit(3 if any(r.credential != "accepted" for r in results) else 0)
