"""The certificates that all addresses of a store show: those of its nodes, regions and doors beside the one that it is
read at. A certificate that ends on one node ends for whoever is sent there."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator

import msgspec

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.resources import ShownCertificate
from rusty_lantern.stores.http.tls_check import read_certificate
from rusty_lantern.stores.reader import Visit

AT_ONCE = 8
"""Handshakes under way at a time."""
_TLS = "https://"


async def with_certificates(visit: Visit, read: Dossier) -> Dossier:
    """The dossier with the certificates that no protocol has asked about. Never raises for what an address does."""
    store, limit = visit.store, asyncio.Semaphore(AT_ONCE)

    async def shown(at: str) -> ShownCertificate:
        async with limit:
            entry = msgspec.structs.replace(store, at=at)
            return ShownCertificate(at, await read_certificate(entry, visit.folder, visit.moment))

    own = read.certificate
    if own.state == "unsupported":  # the protocol's reader does not ask
        own = (await shown(store.at)).shown
    others = await asyncio.gather(*map(shown, sorted(set(_other_addresses(store)) - {store.at})))
    return msgspec.structs.replace(read, certificate=own, other_certificates=others)


def _other_addresses(store: StoreConfig) -> Iterator[str]:
    """Those that are spoken to over TLS."""
    every = (*store.nodes, *(at for _, at in store.regions), *(door.at for door in store.doors))
    return (at for at in every if at.startswith(_TLS))
