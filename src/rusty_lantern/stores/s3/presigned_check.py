"""Trying share links, when somebody asks for it: one byte of each, once, and only at addresses of the estate."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import parse_qsl, urlsplit

import msgspec

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.intake.presigned_url import OPENS, is_at
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code


async def follow(stores: list[StoreConfig], folder: Path, addresses: list[str]) -> list[str]:
    """Try each link: what came of it, in words, in their order. Nothing of it is logged."""
    outcomes = []
    for address in addresses:
        parts = urlsplit(address)
        ours = (s for s in stores if any(is_at(parts.netloc, urlsplit(at).netloc) for at in s.addresses))
        store = next(ours, None)
        if store is None:
            outcomes.append("not tried: it leads out of the estate")
            continue
        at = msgspec.structs.replace(store, at=f"{parts.scheme}://{parts.netloc}", addressing="path")
        query = tuple(parse_qsl(parts.query, keep_blank_values=True))
        try:
            async with Client(at, None, folder) as client:
                reply = await client.ask(path=parts.path or "/", query=query, headers={"range": "bytes=0-0"})
        except RequestFailed as error:
            outcomes.append(error.note)
            continue
        code = "" if reply.status < 300 else error_code(reply.body)[0]
        outcomes.append(OPENS if reply.status < 300 else f"it does not open: {reply.status} {code}".strip())
    return outcomes
