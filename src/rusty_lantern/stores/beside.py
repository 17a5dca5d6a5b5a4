"""Sources beside a store that hold what its protocol does not show: an identity service, a dossier of the owner's."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer, Evidence
from rusty_lantern.core.config.estate import Export, Service, StoreConfig
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.capabilities import PROTOCOLS, Capabilities
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.dossier.export_reader import dossier_from_export
from rusty_lantern.stores.dossier.reader import completed, dossier_from_file, under_our_name
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.iam.reader import read_identities
from rusty_lantern.stores.keystone.reader import read_people
from rusty_lantern.stores.minio.reader import read_users
from rusty_lantern.stores.reachability import DoorReached
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.swift.token import fetch_token

PEOPLE = ("identities", "groups", "credentials")


async def with_beside(visit: Visit, read: Dossier, noted: Callable[[str], None]) -> Dossier:
    """The dossier with what the identity service and the dossier beside the store hold."""
    store, folder = visit.store, visit.folder
    if store.identities is not None:
        read = await _guarded(read, PEOPLE, _people(visit, store.identities, read), noted)
    if not store.beside:
        return read
    try:
        return joined(read, _dossier_beside(store, store.beside, folder, visit.moment))
    except RequestFailed as error:
        noted(f"{store.name}: {error.note}")
        lost: Answer[Any] = Answer(error.state, None, error.note)
        return msgspec.structs.replace(read, **{name: lost for name in _besides(read) if getattr(read, name).unread})


def _dossier_beside(store: StoreConfig, beside: str | Export, folder: Path, moment: datetime) -> Dossier:
    """The dossier in a file, or of exported documents. Raises `RequestFailed`."""
    if isinstance(beside, Export):
        return dossier_from_export(store, beside, folder, moment)
    return under_our_name(dossier_from_file(folder, beside), store, moment)


async def _people(visit: Visit, service: Service, read: Dossier, most: int | None = None) -> dict[str, Any]:
    """What the store's identity service shows, of `most` users. Raises `NoCredential`."""
    store, folder = visit.store, visit.folder
    shown = service.credential or store.credential
    entry = msgspec.structs.replace(store, at=service.at)
    if service.kind == "keystone":
        try:
            token = await fetch_token(visit, shown)
        except RequestFailed as error:
            evidence = Evidence(f"a token of {service.at}", error.answer, visit.moment)
            return dict.fromkeys(PEOPLE, Answer(error.state, None, error.note, evidence))
        async with Client(entry, token, folder, memory=visit.memory, log=visit.log) as client:
            return await read_people(client, service, read, visit.moment, most)
    name, key = "s3" if service.kind == "minio" else "iam", find(shown, folder)
    signed = Signed(key, service.signing_place, name, lambda: find(shown, folder))
    async with Client(entry, signed, folder, memory=visit.memory, log=visit.log) as client:
        if service.kind == "minio":
            return await read_users(client, key.secret, visit.moment, most, urlsplit(service.at).path.rstrip("/"))
        return await read_identities(client, visit.moment, most)


def unread_besides(visit: Visit, capabilities: Capabilities) -> dict[str, str]:
    """Fields of the store and of its buckets that its protocol does not show, and that no source beside it tells →
    why. Whether an identity service or an administration door answers is another question."""
    store, buckets = visit.store, dict(capabilities.elsewhere_of_bucket)
    missing = dict(capabilities.elsewhere) | buckets
    if store.identities is not None or any(door.name == "admin" for door in store.doors):
        missing = {name: why for name, why in missing.items() if name not in PEOPLE}
    if store.beside:
        try:
            beside = _dossier_beside(store, store.beside, visit.folder, visit.moment)
        except RequestFailed as error:
            return dict.fromkeys(missing, error.note)
        shown = {name for name in missing.keys() - buckets.keys() if getattr(beside, name).settled}
        shown |= {name for name in buckets if any(getattr(one, name).settled for one in beside.buckets)}
        missing = {name: why for name, why in missing.items() if name not in shown}
    return missing


async def reach_people(visit: Visit) -> DoorReached | None:
    """Whether the identity service can be asked all; None where there is none. A few users represent all."""
    service = visit.store.identities
    if service is None:
        return None
    unread = Dossier(store=visit.store.name, taken=visit.moment, listing=Answer("known", 0))
    people = await _guarded(unread, PEOPLE, _people(visit, service, unread, SAMPLE), lambda _: None)
    own: list[Answer[Any]] = [key.last_used for key in people.credentials.value or ()]
    for one in people.identities.value or ():
        own += [one.policies, one.boundary, one.mfa, one.password, one.groups]
    lists = (getattr(people, name) for name in PEOPLE)
    lost = next((one for one in lists if not one.settled), None)
    lost = lost or next((one for one in own if one.unread and one.note != NOT_IN_DOSSIER), None)
    unsaid = _NO_ROLES if service.kind == "keystone" and not service.roles else ""
    note = f"{lost.evidence.question}: {lost.reason}".removeprefix(": ") if lost else unsaid
    return DoorReached("identities", service.at, readable=lost is None, note=note)


_NO_ROLES = "estate.yaml does not say what roles mean to the store; add roles:"
SAMPLE = 8
"""Users of an identity service whose credentials `reach` asks for."""


def joined(dossier: Dossier, beside: Dossier) -> Dossier:
    """A dossier with what another adds, where it does not know itself: of the store, and of its buckets."""
    fields = {
        name: getattr(beside, name)
        for name in _besides(dossier)
        if getattr(dossier, name).unread and getattr(beside, name).settled
    }
    named = {bucket.name: bucket for bucket in beside.buckets}
    buckets = [completed(bucket, named.get(bucket.name), beside.every_bucket) for bucket in dossier.buckets]
    return msgspec.structs.replace(dossier, **fields, buckets=buckets)


def _besides(dossier: Dossier) -> list[str]:
    """The fields of a store that another source may have."""
    return [name for name, _ in PROTOCOLS[dossier.protocol].elsewhere] if dossier.protocol in PROTOCOLS else []


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
