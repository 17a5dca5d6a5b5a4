"""`lantern reach`: can each store be reached and asked?"""

from __future__ import annotations

import typer

from rusty_lantern.cli import interrupt
from rusty_lantern.cli.options import AsOfOption, JsonOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import moment, workspace


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("reach", short_help="Test each store: does it answer, what may this credential read.")(reach)


def reach(workspace_folder: WorkspaceOption = None, as_of: AsOfOption = None, json: JsonOption = False) -> None:
    """Try every store: address, transport, clock, credential, and which questions the key may ask.

    Use it before the first survey, and when a survey saw less than it should. Example: lantern reach
    """
    from contextlib import AsyncExitStack
    from datetime import UTC, datetime

    import msgspec

    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.reachability import reach_view
    from rusty_lantern.stores.addresses import reach_addresses
    from rusty_lantern.stores.beside import reach_people, unread_besides
    from rusty_lantern.stores.doors import reach_doors, reach_nodes, with_listed_buckets
    from rusty_lantern.stores.filer import unnamed_filer
    from rusty_lantern.stores.kinds import reader_of
    from rusty_lantern.stores.reachability import StoreReached
    from rusty_lantern.stores.reader import Visit
    from rusty_lantern.stores.software import reach_software

    place = workspace(workspace_folder)
    stores = place.estate().stores
    when = moment(as_of, datetime.now(UTC))

    async def all_stores() -> list[StoreReached]:
        reached_stores = []
        async with AsyncExitStack() as opened:
            visits = [await with_listed_buckets(Visit(store, place.folder, when)) for store in stores]
            readers = [await opened.enter_async_context(reader_of(visit)) for visit in visits]
            for reader in readers:
                reached = await reach_addresses(reader, await reader.reach())
                doors = (*reached.doors, *await reach_doors(reader.visit))
                nodes = await reach_nodes(reader.visit, reached)
                people = await reach_people(reader.visit)
                doors += (people,) if people else ()
                software = await reach_software(reader.visit)
                doors += unnamed_filer(reader.visit.store, software)
                unread = reached.unread | unread_besides(reader.visit, reader.capabilities)
                reached_stores.append(
                    msgspec.structs.replace(reached, doors=doors, nodes=nodes, unread=unread, software=software)
                )
        return reached_stores

    results = interrupt.run(all_stores())
    if json:
        emit(msgspec.json.format(msgspec.json.encode({"stores": results}), indent=2).decode())
    else:
        reach_view(console(), results)
    raise typer.Exit(3 if any(r.credential != "accepted" for r in results) else 0)
