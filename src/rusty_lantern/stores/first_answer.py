"""Whether anybody answers at a store's address: the part of `reach` that every protocol over HTTP has in common."""

from __future__ import annotations

from datetime import datetime

import msgspec

from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Reply, clock_difference
from rusty_lantern.stores.http.tls_check import read_certificate
from rusty_lantern.stores.reachability import StoreReached


async def reach_address(client: Client, moment: datetime) -> StoreReached:
    """Whether the store answers, its certificate where it does not, and its clock. Never raises for what it does."""
    store = client.store
    start = StoreReached(
        store.name, store.at, False, "tls" if store.at.startswith("https") else "plain", None, "not tried", "", None, 0,
        {}, {},
    )  # fmt: skip
    try:
        first = await _first(client)
    except RequestFailed as error:
        shown = await read_certificate(store, client.folder, moment)
        return msgspec.structs.replace(start, note=error.note, certificate=shown.value)
    ahead = int(clock_difference(first, client.clock()).total_seconds()) if "date" in first.headers else None
    return msgspec.structs.replace(start, answers=True, clock_ahead_seconds=ahead)


async def _first(client: Client) -> Reply:
    """Any answer of the store. Some send a body after HEAD, which no client can read: then the list is asked for."""
    try:
        return await client.ask(method="HEAD")
    except RequestFailed as error:
        if error.answer != "connection lost":
            raise
        return await client.ask()
