"""The filer of a SeaweedFS server: a door at a port of its own that takes no policy. As it comes it asks for no
credentials either, and reads, writes and deletes every object for whoever reaches that port (measured on release 4.48).

It is asked for the first entry of its root, without credentials; of the answer nothing is kept but that it is one.
Whether it takes changes without a token is asked by a GET too: where it takes uploads in parts (the open protocol
tus 1.0.0), it asks for the token of changes whatever the method, and only then refuses a GET for what it is.
"""

from __future__ import annotations

from typing import Final
from urllib.parse import quote, urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.filer import NOT_KNOWN
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
ASKS_FOR_A_TOKEN = 401
NOT_THAT_METHOD = 405
UPLOADS = ".tus/"
"""Where it takes uploads in parts, as it comes."""
TUS = "tus-resumable"
"""The header of each request and answer there. Source: https://tus.io/protocols/resumable-upload, version 1.0.0."""


class _Folder(msgspec.Struct):
    """What a filer says of a folder."""

    path: str = msgspec.field(name="Path")
    limit: int = msgspec.field(name="Limit")


async def read_filer(visit: Visit, entry: DoorEntry) -> Door:
    """The door, and whether it lets in who sends no credentials. Never raises for what answers there."""
    memory = SeparateMemory(visit.memory, FILER) if visit.memory else None
    async with Client(_at_door(visit.store, entry), None, visit.folder, memory=memory, log=visit.log) as outside:
        try:
            reply = await outside.ask(
                path=f"{urlsplit(entry.at).path}/", query=(("limit", "1"),), headers={"accept": "application/json"},
                reshape=_without_entries,
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
    """Ask it for the first entry of a bucket, or for one byte of an object, without credentials. `bucket`: its path."""
    path = f"{bucket}/" if verb == "list" else f"{bucket}/{quote(request.key)}"
    query = (("limit", "1"),) if verb == "list" else ()
    headers = {"accept": "application/json"} if verb == "list" else {"range": "bytes=0-0"}
    return await answer_to(outside, verb, path, query, headers, lambda body: bool(_without_entries(body)))
