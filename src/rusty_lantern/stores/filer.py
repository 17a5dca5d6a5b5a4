"""The filer of a SeaweedFS server: a door at a port of its own that takes no policy. As it comes it asks for no
credentials either, and reads, writes and deletes every object for whoever reaches that port (measured on release 4.48).

It is asked for the first entry of its root, without credentials; of the answer nothing is kept but that it is one.
A GET shows as well whether it takes changes without a token. It is sent to the path for resumable uploads (the open
protocol tus 1.0.0): there the filer first asks for the token of changes, and then refuses a GET as the wrong method.
"""

from __future__ import annotations

from typing import Final
from urllib.parse import quote, urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.rules.filer import NOT_KNOWN
from rusty_lantern.core.config.estate import DoorEntry, StoreConfig
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.dialect import SEAWEED_4
from rusty_lantern.core.model.dossier import Door, Software
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.anonymous_answer import answer_to
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.tls_check import SeparateMemory
from rusty_lantern.stores.reachability import DoorReached
from rusty_lantern.stores.reader import Visit

FILER: Final = "filer"
FIRST, JSON = (("limit", "1"),), {"accept": "application/json"}
ASKS_FOR_A_TOKEN = 401
NOT_THAT_METHOD = 405
UPLOADS = ".tus/"
"""The path for resumable uploads, where nobody gave it another one."""
TUS = "tus-resumable"
"""The header of each request and answer there. Source: https://tus.io/protocols/resumable-upload, version 1.0.0."""


class _Folder(msgspec.Struct):
    """What a filer says of a folder."""

    path: str = msgspec.field(name="Path")
    limit: int = msgspec.field(name="Limit")


class _Versions(_Folder):
    """What it says of the folder of an object's versions."""

    last: str = msgspec.field(name="LastFileName", default="")


async def read_filer(visit: Visit, entry: DoorEntry) -> Door:
    """The door, and whether it lets in who sends no credentials. Never raises for what answers there."""
    memory = SeparateMemory(visit.memory, FILER) if visit.memory else None
    async with Client(_at_door(visit.store, entry), None, visit.folder, memory=memory, log=visit.log) as outside:
        try:
            reply = await outside.ask(
                path=f"{urlsplit(entry.at).path}/", query=FIRST, headers=JSON, reshape=_without_entries,
            )  # fmt: skip
        except RequestFailed as error:
            return Door(FILER, entry.at, note=error.note)
        lets_in = reply.status == 200 and bool(_without_entries(reply.body))
        if not lets_in and reply.status != ASKS_FOR_A_TOKEN:
            return Door(FILER, entry.at, note=f"it answered {reply.status}, not as a filer does")
        return Door(FILER, entry.at, read=True, lets_in=lets_in, takes_changes=await _takes_changes(outside, entry))


async def _takes_changes(outside: Client, entry: DoorEntry) -> bool | None:
    """Whether it takes changes without a token; None where its answer does not show that."""
    try:
        reply = await outside.ask(path=f"{urlsplit(entry.at).path}/{UPLOADS}", headers={TUS: "1.0.0"})
    except RequestFailed:
        return None
    answers = {NOT_THAT_METHOD: True, ASKS_FOR_A_TOKEN: False}
    return answers.get(reply.status) if TUS in reply.headers else None


def let_in_words(door: Door) -> str:
    """Who gets in at a filer without credentials, and for what; why it is not known; empty for nobody."""
    if not door.read:
        return door.note
    reads = "it lets in whoever reaches it, without credentials" if door.lets_in else ""
    changes = "it takes changes from whoever reaches it, without credentials" if door.takes_changes else ""
    if door.takes_changes is None:
        changes = NOT_KNOWN
    return ", and ".join(words for words in (reads, changes) if words)


AS_IT_COMES = 8888
"""The port of a filer that nobody gave another one."""


def unnamed_filer(store: StoreConfig, software: Software | None) -> tuple[DoorReached, ...]:
    """The filer that a SeaweedFS server has, where estate.yaml does not name it."""
    named = any(door.name == FILER for door in store.doors)
    if named or software is None or software.dialect != SEAWEED_4:
        return ()
    parts = urlsplit(store.at)
    host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
    at = f"{parts.scheme}://{host}:{AS_IT_COMES}"
    return (DoorReached(FILER, at, readable=False, note="not named in estate.yaml (8888 as it comes)", found=True),)


def _at_door(store: StoreConfig, entry: DoorEntry) -> StoreConfig:
    return msgspec.structs.replace(store, at=entry.at, addressing="path", doors=())


def _without_entries(body: bytes) -> bytes:
    """The answer without what is in the folder; nothing where it is no filer's."""
    try:
        return msgspec.json.encode(msgspec.json.decode(body, type=_Folder))
    except msgspec.DecodeError:
        return b""


async def ask_filer(outside: Client, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
    """Ask it for the first entry of a bucket, or for one byte of an object, without credentials. `bucket`: its path.

    Where versions are kept, an object is a folder of them: then for one byte of a version.
    """
    if verb == "list":
        return await answer_to(outside, verb, f"{bucket}/", FIRST, JSON, lambda body: bool(_without_entries(body)))
    path = f"{bucket}/{quote(request.key)}"
    answer = await _byte_of(outside, path)
    versions = f"{path}.versions/"
    version = await _first_in(outside, versions) if answer.let_in is None else ""
    return await _byte_of(outside, versions + quote(version)) if version else answer


async def _byte_of(outside: Client, path: str) -> ProbeAnswer:
    return await answer_to(outside, "read", path, (), {"range": "bytes=0-0"}, bool)


async def _first_in(outside: Client, folder: str) -> str:
    """The name of the first entry of a folder; empty where it shows none."""
    try:
        reply = await outside.ask(path=folder, query=FIRST, headers=JSON)
        return msgspec.json.decode(reply.body, type=_Versions).last if reply.status == 200 else ""
    except (RequestFailed, msgspec.DecodeError):
        return ""
