"""Stores that do not speak the common protocol: their owner exports a dossier, and it is read from a file or over HTTP.

Over HTTP: one GET, with a bearer token where one is named, and the ETag of the last survey's document; an answer of
304 means that nothing has changed since. Documents are decoded on the spot: the decoder is not safe to use for the
first time in two threads at once.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.dossier_validation import receive
from rusty_lantern.core.config.estate import Credential, Store
from rusty_lantern.core.errors import BadInput, Damaged, Problem
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import warn_of
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed
from rusty_lantern.stores.reachability import Reached
from rusty_lantern.stores.s3.settings import read_status

MAX_DOSSIER = 512 << 20
"""A larger document is refused. 200 MB hold some fifty thousand buckets."""


async def read_dossier(
    store: Store,
    folder: Path,
    moment: datetime,
    earlier: Dossier | None = None,
    log: Callable[[dict[str, object]], None] | None = None,
) -> Dossier:
    """The store's dossier. Never raises for what it is or says: what cannot be used is said in its place."""
    try:
        if "://" in store.at:
            return await _over_http(store, folder, moment, earlier, log)
        return _named(_from_file(folder, store.at), store, moment)
    except RequestFailed as error:
        lost: Answer[int] = Answer(error.state, None, error.note, Evidence(f"GET {store.at}", error.answer, moment))
        return Dossier(store=store.name, taken=moment, address=store.at, listing=lost)


def read_beside(store: Store, folder: Path, moment: datetime) -> Dossier:
    """The dossier that stands beside a store of the common protocol. Raises `RequestFailed`."""
    return _named(_from_file(folder, store.beside), store, moment)


BESIDE = ("identities", "groups", "credentials", "encryption_keys", "service", "links")


def joined(dossier: Dossier, beside: Dossier) -> Dossier:
    """A dossier with what another tells besides, where it does not know itself."""
    told = {
        name: getattr(beside, name)
        for name in BESIDE
        if not getattr(dossier, name).settled and getattr(beside, name).settled
    }
    return msgspec.structs.replace(dossier, **told)


def _from_file(folder: Path, name: str) -> Dossier:
    path = folder / Path(name).expanduser()
    try:
        if path.stat().st_size > MAX_DOSSIER:
            raise RequestFailed("failed", f"{path.name} is larger than {MAX_DOSSIER >> 20} MiB", "too large")
        return _received(path.read_bytes(), path.name)
    except OSError as error:
        raise RequestFailed("failed", f"{path.name} cannot be read: {error.strerror}", "no file") from None


def _received(document: bytes, name: str) -> Dossier:
    try:
        return receive(document, name)
    except (BadInput, Damaged) as error:
        first, more = error.complaints[0], len(error.complaints) - 1
        also = f", and {more} more" if more else ""
        hint = f"; {first.remedy}" if first.remedy and not more else ""
        raise RequestFailed("failed", f"its dossier is refused: {first.what}{also}{hint}", "refused") from None


def _named(dossier: Dossier, store: Store, moment: datetime) -> Dossier:
    """The dossier under the name that the estate file gives the store. What it counts is what it lists."""
    listing = dossier.listing
    if not listing.settled and dossier.buckets and listing.state == "failed":
        listing = Answer("known", len(dossier.buckets))
    return msgspec.structs.replace(
        dossier, store=store.name, taken=moment, exported=dossier.taken, address=store.at, listing=listing, tag=""
    )


async def reach_dossier(store: Store, folder: Path, moment: datetime) -> Reached:
    """Try a store that is read by its dossier: whether there is one, and whether it can be judged by."""
    transport: Literal["tls", "plain", "file"] = "tls" if store.at.startswith("https") else "plain"
    if "://" not in store.at:
        transport = "file"
    found = await read_dossier(store, folder, moment)
    listing = found.listing
    answers = listing.settled or listing.evidence.answer.isdigit() or listing.evidence.answer == "refused"
    credential: Literal["accepted", "refused", "not tried"] = "accepted" if listing.settled else "refused"
    if not listing.settled and listing.state != "denied":
        credential = "not tried"
    count = len(found.buckets) if listing.settled else None
    return Reached(store.name, store.at, answers, transport, None, credential, listing.note, count, count or 0, {}, {})


async def _over_http(
    store: Store,
    folder: Path,
    moment: datetime,
    earlier: Dossier | None,
    log: Callable[[dict[str, object]], None] | None,
) -> Dossier:
    headers = {}
    token = find_token(store.credential, folder)
    if token:
        headers["authorization"] = f"Bearer {token}"
    if earlier is not None and earlier.tag and earlier.address == store.at:
        headers["if-none-match"] = earlier.tag
    async with Client(store, None, folder, log=log, most=MAX_DOSSIER, cleans=False) as client:
        reply = await client.ask(path=urlsplit(store.at).path or "/", headers=headers)
    if reply.status == 304 and earlier is not None:
        return msgspec.structs.replace(earlier, taken=moment)
    if reply.status in (401, 403):
        raise RequestFailed("denied", "the token is not accepted" if token else "a token is needed", str(reply.status))
    if 300 <= reply.status < 400:
        raise RequestFailed("failed", f"answered {reply.status}; redirections are not followed", str(reply.status))
    read_status(reply)
    dossier = _named(_received(reply.body, store.at), store, moment)
    transport = "tls" if store.at.startswith("https") else "plain"
    return msgspec.structs.replace(dossier, tag=reply.headers.get("etag", "")[:200], transport=transport)


def find_token(credential: Credential, folder: Path) -> str:
    """The bearer token that an estate's entry names; empty where it names none. Raises `NoCredential`."""
    if credential.kind != "token":
        return ""
    kind, _, name = credential.name.partition(":")
    if kind == "env":
        found = os.environ.get(name, "")
        why = f"the environment variable {name} is not set"
    else:
        try:
            warn_of(folder / Path(name).expanduser())
            found = (folder / Path(name).expanduser()).read_text(encoding="utf-8").strip()
            why = f"the token file {name} is empty"
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not text"
            found, why = "", f"the token file {name} cannot be read: {reason}"
    if not found or not found.isascii() or not found.isprintable():
        raise NoCredential(Problem(why if not found else f"the token {name} is not one line of text", credential.place))
    return found
