"""The other doors of a store: those that the estate file names are read, and those that nobody named are found.

What one protocol grants, another does not show. A door that is there and was not read makes what it could open
unknown; so a store is asked, without credentials, whether it answers the Swift protocol as well.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import Any
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.estate import DoorEntry, StoreConfig
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket, Website
from rusty_lantern.core.model.dossier import Door, Dossier
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.stores.admin.reader import AdminDoor, with_admin
from rusty_lantern.stores.admin.role_sessions import roles_behind, takes_sessions
from rusty_lantern.stores.filer import let_in_words, read_filer
from rusty_lantern.stores.first_answer import reach_address
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed
from rusty_lantern.stores.http.tls_check import SeparateMemory, read_certificate
from rusty_lantern.stores.reachability import DoorReached, NodeReached, StoreReached
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.s3.account_door import ACCOUNT, at_account_door, with_account_door
from rusty_lantern.stores.swift.headers import HIDDEN, account_fields, shows_privileged
from rusty_lantern.stores.swift.info import info_at
from rusty_lantern.stores.swift.reader import SwiftReader, as_shown

SWIFT_PATHS = (("/swift/info", "/swift/v1"), ("/info", "/v1"))
"""Where a Swift door describes itself → where its accounts are."""
BY_DOOR = ("container_acl", "temporary_url_key", "synchronization_key")
"""The fields that a Swift door shows of buckets which are read by another protocol."""


async def with_doors(visit: Visit, read: Dossier, noted: Callable[[str], None], only: tuple[str, ...] = ()) -> Dossier:
    """The dossier of an S3-compatible store with what its other doors show. Never raises for what the store does.

    `only`: patterns that the survey keeps to.
    """
    entry = next((door for door in visit.store.doors if door.name == "admin"), None)
    if visit.store.reads != "s3" or not (read.listing.settled or entry):
        return read
    if read.listing.settled:
        read = await _by_swift(visit, read, noted)
    account = next((door for door in visit.store.doors if door.name == ACCOUNT), None)
    if account is not None and read.listing.settled:
        read = await _by_account(visit, account, read, noted)
    filer = next((door for door in visit.store.doors if door.name == "filer"), None)
    if filer is not None:
        doors = [*(read.doors.value or ()), await read_filer(visit, filer)]
        read = msgspec.structs.replace(read, doors=Answer("known", doors))
    if entry is None:
        return read
    shown = await _or_why(_by_admin(visit, entry, read, only), read, noted)
    if isinstance(shown, Dossier):
        return shown
    door = Door("admin", entry.at, note=shown)
    return msgspec.structs.replace(read, doors=Answer("known", [*(read.doors.value or ()), door]))


async def _or_why(asking: Awaitable[Dossier], read: Dossier, noted: Callable[[str], None]) -> Dossier | str:
    """The dossier with what a door shows; or why that door was not read. Raises `BadInput`."""
    try:
        return await asking
    except LanternError as error:
        if not isinstance(error, NoCredential):
            raise
        return str(error.complaints[0].what)
    except Exception as error:  # whatever goes wrong at that door, the buckets were read
        noted(f"{read.store}: {defect(error)}")
        return defect(error)


async def _by_admin(visit: Visit, entry: DoorEntry, read: Dossier, only: tuple[str, ...]) -> Dossier:
    async with _at_admin_door(visit, entry) as admin:
        return await with_admin(admin, read, (visit.store.only, only), await _unlisted_roles(visit, entry))


async def _by_account(visit: Visit, entry: DoorEntry, read: Dossier, noted: Callable[[str], None]) -> Dossier:
    """The dossier with what the account door shows, or why it shows nothing."""
    shown = await _or_why(with_account_door(visit, entry, read), read, noted)
    if isinstance(shown, Dossier):
        return shown
    lost: Answer[Any] = Answer("failed", None, shown)
    return msgspec.structs.replace(
        read,
        public_access_guards=lost,
        buckets=[msgspec.structs.replace(bucket, access_points=lost) for bucket in read.buckets],
        doors=Answer("known", [*(read.doors.value or ()), Door(ACCOUNT, entry.at, note=shown)]),
    )


@asynccontextmanager
async def _at_admin_door(visit: Visit, entry: DoorEntry) -> AsyncIterator[AdminDoor]:
    """The administration door, ready to be asked. Raises `NoCredential`."""
    memory = SeparateMemory(visit.memory, "admin") if visit.memory else None
    at_door = msgspec.structs.replace(visit.store, at=entry.at, credential=entry.credential, addressing="path")
    signed = Signed(find(entry.credential, visit.folder), visit.store.signing_place)
    async with Client(at_door, signed, visit.folder, memory=memory, log=visit.log) as client:
        yield AdminDoor(client, visit.moment)


async def _unlisted_roles(visit: Visit, entry: DoorEntry) -> list[Identity]:
    """The roles that a gateway may have, asked for at the door that its users come through."""
    memory = SeparateMemory(visit.memory, "sessions") if visit.memory else None
    key = replace(find(entry.credential, visit.folder), session="")  # the question brings a token of its own
    signed = Signed(key, visit.store.signing_place)
    async with Client(visit.store, signed, visit.folder, memory=memory, log=visit.log) as client:
        return roles_behind(await takes_sessions(client, visit.moment))


async def with_listed_buckets(visit: Visit) -> Visit:
    """The visit with the buckets that the administration door lists; as it is where that door does not list them."""
    entry = next((door for door in visit.store.doors if door.name == "admin"), None)
    if visit.store.reads != "s3" or entry is None:
        return visit
    try:
        async with _at_admin_door(visit, entry) as door:
            return replace(visit, listed_elsewhere=tuple(await door.names()))
    except LanternError as error:
        if not isinstance(error, NoCredential):
            raise
    except Exception:  # noqa: S110  # a survey asks that door again for more than names, and tells why it gets nothing
        pass
    return visit


async def _by_swift(visit: Visit, read: Dossier, noted: Callable[[str], None]) -> Dossier:
    entry = next((door for door in visit.store.doors if door.name == "swift"), None)
    shown = await _or_why(_with_swift(visit, entry, read) if entry else _as_found(visit, read), read, noted)
    return shown if isinstance(shown, Dossier) else _unread(read, entry, shown)


async def _as_found(visit: Visit, read: Dossier) -> Dossier:
    """The dossier with whether there is a Swift door that nobody named."""
    swift_door, why = await find_swift_door(visit)
    if swift_door is None:
        answer: Answer[Any] = Answer("failed", None, why) if why else Answer("unsupported")
        doors = Answer("failed", None, why) if why else Answer("known", list[Door]())
        return _with_fields(msgspec.structs.replace(read, account_acl=answer, doors=doors), answer)
    return _unread(read, None, UNNAMED.format(at=swift_door.at), swift_door)


UNNAMED = "the store answers the Swift protocol as well, at {at}, and estate.yaml does not name that door"


async def find_swift_door(visit: Visit) -> tuple[Door | None, str]:
    """The Swift door that nobody named, asked for without credentials; else why that is not known."""
    parts = urlsplit(visit.store.at)
    async with Client(visit.store, None, visit.folder, memory=visit.memory, log=visit.log) as outside:
        for path, accounts in SWIFT_PATHS:
            try:
                info = await info_at(outside, path)
            except RequestFailed as error:
                return None, f"whether the store answers the Swift protocol as well is not known: {error.note}"
            if info is not None:
                at = f"{parts.scheme}://{parts.netloc}{accounts}"
                return Door("swift", at, note="not named in estate.yaml", found=True), ""
    return None, ""


def _with_fields(read: Dossier, answer: Answer[Any]) -> Dossier:
    """The dossier with the same answer for every bucket where a Swift door would have answered."""
    buckets = [
        msgspec.structs.replace(bucket, **dict.fromkeys(BY_DOOR, answer), website=_site(bucket.website, answer))
        for bucket in read.buckets
    ]
    return msgspec.structs.replace(read, buckets=buckets)


def _site(at_s3: Answer[Website], at_swift: Answer[Website]) -> Answer[Website]:
    """The web site of a bucket: the Swift door may have one that no answer of the S3 door shows."""
    if at_swift.value is not None or (at_s3.state == "absent" and at_swift.unread):
        return at_swift
    return at_s3


def _unread(read: Dossier, entry: DoorEntry | None, why: str, named: Door | None = None) -> Dossier:
    door = named or Door("swift", entry.at if entry else "", note=why)
    lost: Answer[Any] = Answer("failed", None, why)
    return _with_fields(msgspec.structs.replace(read, account_acl=lost, doors=Answer("known", [door])), lost)


async def _with_swift(visit: Visit, entry: DoorEntry, read: Dossier) -> Dossier:
    """The dossier with the ACLs of the same buckets, as their Swift door shows them."""
    memory = SeparateMemory(visit.memory, "swift") if visit.memory else None
    at_door = Visit(door_store(visit.store, entry), visit.folder, visit.moment, memory, visit.log)
    async with SwiftReader(at_door) as reader:
        try:
            account = await reader.account()
        except RequestFailed as error:
            return _unread(read, entry, f"its Swift door {entry.at} was not read: {error.note}")
        shown = [shows_privileged(account.head.headers)]
        left = iter(read.buckets)
        joined: list[Bucket] = []

        async def worker() -> None:
            for bucket in left:
                shown_fields = await reader.head_of(bucket.name, shown)
                fields = {name: shown_fields[name] for name in BY_DOOR}
                fields["website"] = _site(bucket.website, shown_fields["website"])
                joined.append(msgspec.structs.replace(bucket, **fields))

        async with asyncio.TaskGroup() as group:
            for _ in range(visit.store.pace.at_once):
                group.create_task(worker())
    sees_all = any(shown)
    head = Evidence(f"HEAD {reader.path}", str(account.head.status), visit.moment)
    fields = account_fields(account.head.headers, head, sees_all=sees_all, gateway=account.gateway)
    buckets = sorted(map(as_shown, joined) if sees_all else joined, key=lambda bucket: bucket.name)
    return msgspec.structs.replace(
        read,
        buckets=reader.with_sources(buckets),
        acl_reading=reader.reading(account),
        doors=Answer("known", [Door("swift", entry.at, read=True)]),
        **fields,
    )


async def reach_doors(visit: Visit) -> tuple[DoorReached, ...]:
    """What became of each door that the estate file names, and one that it does not name. Never raises for a store."""
    if visit.store.reads != "s3":
        return ()
    reached = [await _reach_door(visit, entry) for entry in visit.store.doors]
    if not any(door.name == "swift" for door in visit.store.doors):
        swift_door, why = await find_swift_door(visit)
        if swift_door is not None:
            reached.append(
                DoorReached("swift", swift_door.at, readable=False, note="not named in estate.yaml", found=True)
            )
        elif why:
            reached.append(DoorReached("swift", "", readable=False, note=why))
    return tuple(reached)


async def _reach_door(visit: Visit, entry: DoorEntry) -> DoorReached:
    at_door = Visit(door_store(visit.store, entry), visit.folder, visit.moment, None, visit.log)
    if entry.name == "swift":
        async with SwiftReader(at_door) as reader:
            reached = await reader.reach()
        shown = reached.questions.get("container_acl") == "yes"
        note = reached.note if reached.credential != "accepted" else "" if shown else HIDDEN
        return DoorReached("swift", entry.at, readable=reached.credential == "accepted" and shown, note=note)
    if entry.name == "admin":
        return await _reach_admin(visit, entry)
    if entry.name == ACCOUNT:
        return await _reach_account(visit, entry)
    if entry.name == "filer":
        door = await read_filer(at_door, entry)
        readable, open_ = door.read and door.takes_changes is not None, door.lets_in or bool(door.takes_changes)
        return DoorReached("filer", entry.at, readable, let_in_words(door), lets_in=open_)
    async with Client(at_door.store, None, visit.folder, log=visit.log) as outside:
        first = await reach_address(outside, visit.moment)
    return DoorReached(entry.name, entry.at, readable=None if first.answers else False, note=first.note)


async def _reach_admin(visit: Visit, entry: DoorEntry) -> DoorReached:
    """Whether the administration door gives its lists to this credential."""
    async with _at_admin_door(visit, entry) as door:
        try:
            await door.buckets()
        except RequestFailed as error:
            return DoorReached("admin", entry.at, readable=False, note=error.note)
    return DoorReached("admin", entry.at, readable=True)


async def _reach_account(visit: Visit, entry: DoorEntry) -> DoorReached:
    """Whether the account door shows its guards and its access points to this credential."""
    async with at_account_door(visit, entry, visit.store.signing_place) as door:
        guards = await door.guards()
        try:
            await door.points(())
        except RequestFailed as error:
            return DoorReached(ACCOUNT, entry.at, readable=False, note=error.note)
    return DoorReached(ACCOUNT, entry.at, readable=guards.settled, note="" if guards.settled else guards.reason)


async def reach_nodes(visit: Visit, main: StoreReached) -> tuple[NodeReached, ...]:
    """The store's other addresses: whether each answers, its clock, and whether all show one certificate."""
    nodes = []
    for region, at in (*(("", at) for at in visit.store.nodes), *visit.store.regions):
        entry = msgspec.structs.replace(visit.store, at=at)
        async with Client(entry, None, visit.folder, log=visit.log) as outside:
            first = await reach_address(outside, visit.moment)
        shown = await read_certificate(entry, visit.folder, visit.moment)
        comparable = not region and shown.value is not None and main.certificate is not None
        same = shown.value == main.certificate if comparable else None
        nodes.append(NodeReached(at, first.answers, first.note, first.clock_ahead_seconds, same, region))
    return tuple(nodes)


def door_store(store: StoreConfig, entry: DoorEntry) -> StoreConfig:
    """The store's entry as that of one of its doors: the same pace, patience and trust, another address."""
    return msgspec.structs.replace(
        store, reads="swift", at=entry.at, credential=entry.credential, addressing="path", doors=()
    )
