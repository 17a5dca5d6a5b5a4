"""What all addresses of a store show before any question: those of its nodes, regions and doors beside the one that it
is read at. A certificate that ends on one node, or plain http that one node still answers, is there for whoever is sent
to that node."""

from __future__ import annotations

import asyncio
from typing import NamedTuple
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.resources import Certificate, ShownCertificate
from rusty_lantern.stores.http.tls_check import answers_plain_http, at_any, read_certificate
from rusty_lantern.stores.reachability import StoreReached
from rusty_lantern.stores.reader import StoreReader, Visit

AT_ONCE = 8
"""Addresses that are looked at together."""


class AddressesShown(NamedTuple):
    """What the addresses of one store show."""

    certificate: Answer[Certificate]
    """That of the address that it is read at."""
    others: list[ShownCertificate]
    """Those of its other addresses that are spoken to over TLS."""
    plain_http: Answer[bool]
    """Whether any of them answers plain http."""


async def look_at_addresses(visit: Visit) -> AddressesShown:
    """Every address's certificate, and whether it answers plain http. Never raises for what an address does."""
    store, limit = visit.store, asyncio.Semaphore(AT_ONCE)
    others = _other_addresses(store)

    async def one(at: str) -> tuple[Answer[Certificate], Answer[bool]]:
        entry = msgspec.structs.replace(store, at=at)
        async with limit:
            try:
                certificate = await read_certificate(entry, visit.folder, visit.moment)
                plain = await answers_plain_http(entry, visit.folder, visit.moment, visit.memory, visit.log)
                away = certificate.unread and not plain.value  # an address that is down answers nothing at all
                return certificate, Answer("failed", None, certificate.note, certificate.evidence) if away else plain
            except LanternError:
                raise
            except Exception as error:  # whatever one address shows, the others are looked at
                return Answer("failed", None, defect(error)), Answer("failed", None, defect(error))

    (certificate, plain), *shown = await asyncio.gather(*map(one, [store.at, *others]))
    over_tls = [ShownCertificate(at, shows) for at, (shows, _) in zip(others, shown, strict=True)
                if shows.state != "unsupported"]  # fmt: skip
    return AddressesShown(certificate, over_tls, at_any(plain, zip(others, (one for _, one in shown), strict=True)))


def _other_addresses(store: StoreConfig) -> list[str]:
    """One address of each other host and port, in order."""
    every = sorted((*store.other_addresses, *(door.at for door in store.doors)), reverse=True)
    by_host = {urlsplit(at)[:2]: at for at in every if urlsplit(at)[:2] != urlsplit(store.at)[:2]}
    return sorted(by_host.values())


async def with_addresses(visit: Visit, read: Dossier) -> Dossier:
    """The dossier with what the store's addresses show; also where the store did not answer: they may be the reason."""
    shown = await look_at_addresses(visit)
    return msgspec.structs.replace(
        read, certificate=shown.certificate, other_certificates=shown.others, plain_http=shown.plain_http
    )


async def reach_addresses(reader: StoreReader, reached: StoreReached) -> StoreReached:
    """What `reach` says of a store that answers, with what its addresses show."""
    if not reached.answers or not reader.capabilities.probes:
        return reached
    shown = await look_at_addresses(reader.visit)
    plain, certificate = shown.plain_http, shown.certificate.value
    return msgspec.structs.replace(
        reached, certificate=certificate, plain_http=plain.value, plain_http_note=plain.reason or plain.note
    )
