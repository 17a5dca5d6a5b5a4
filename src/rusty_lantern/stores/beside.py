"""What stands beside a store and tells what its protocol does not: an identity service, a dossier of the owner's."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.dossier.reader import dossier_from_file, under_our_name
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.iam.reader import read_identities
from rusty_lantern.stores.reader import Visit

PEOPLE = ("identities", "groups", "credentials")
BESIDE = (*PEOPLE, "encryption_keys", "service", "links")


async def with_beside(visit: Visit, read: Dossier, noted: Callable[[str], None]) -> Dossier:
    """The dossier with what the identity service and the dossier beside the store tell."""
    store, folder = visit.store, visit.folder
    if store.identities is not None and read.listing.settled:
        entry = msgspec.structs.replace(store, at=store.identities.at)
        signed = Signed(
            find(store.credential, folder),
            store.identities.signing_place,
            "iam",
            lambda: find(store.credential, folder),
        )
        async with Client(entry, signed, folder, memory=visit.memory, log=visit.log) as asked:
            read = await _guarded(read, PEOPLE, read_identities(asked, visit.moment), noted)
    if not store.beside:
        return read
    try:
        return joined(read, under_our_name(dossier_from_file(folder, store.beside), store, visit.moment))
    except RequestFailed as error:
        noted(f"{store.name}: {error.note}")
        lost: Answer[Any] = Answer(error.state, None, error.note)
        return msgspec.structs.replace(read, **{name: lost for name in BESIDE if not getattr(read, name).settled})


def joined(dossier: Dossier, beside: Dossier) -> Dossier:
    """A dossier with what another tells besides, where it does not know itself."""
    told = {
        name: getattr(beside, name)
        for name in BESIDE
        if not getattr(dossier, name).settled and getattr(beside, name).settled
    }
    return msgspec.structs.replace(dossier, **told)


async def _guarded(
    read: Dossier, fields: tuple[str, ...], more: Awaitable[dict[str, Any]], noted: Callable[[str], None]
) -> Dossier:
    """A dossier with what is read besides; whatever goes wrong there is that part's alone."""
    try:
        return msgspec.structs.replace(read, **await more)
    except LanternError:
        raise
    except Exception as error:
        noted(f"{read.store}: {defect(error)}")
        lost: Answer[Any] = Answer("failed", None, defect(error))
        return msgspec.structs.replace(read, **dict.fromkeys(fields, lost))
