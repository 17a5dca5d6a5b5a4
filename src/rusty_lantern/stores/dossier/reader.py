"""Stores without the common protocol: their owner exports a dossier, and it is read from a file or over HTTP.

Over HTTP: one GET, with a bearer token where one is named, and the ETag of the last survey's document; an answer of
304 means that nothing has changed since. Documents are decoded on the spot: the decoder is not safe to use for the
first time in two threads at once.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from itertools import chain
from pathlib import Path
from types import TracebackType
from typing import Any, ClassVar, Literal, Self
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer, Evidence
from rusty_lantern.core.config.dossier_validation import load_untrusted
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import BadInput, Damaged
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.capabilities import DOSSIER, FIELD_WORDS, STORE_FIELD_WORDS, Capabilities
from rusty_lantern.core.model.dossier import Dossier, lost_dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.crew import wanted_names
from rusty_lantern.stores.http.authorization import Bearer
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find_token
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.reply import Memory
from rusty_lantern.stores.reachability import StoreReached
from rusty_lantern.stores.reader import Estimate, ObjectSource, SurveyOrder, Visit, WantedDetails

MAX_DOSSIER = 512 << 20
"""A larger document is refused. 200 MB hold some fifty thousand buckets."""


async def read_dossier(
    store: StoreConfig,
    folder: Path,
    moment: datetime,
    earlier: Dossier | None = None,
    log: Callable[[dict[str, object]], None] | None = None,
) -> Dossier:
    """The store's dossier. Never raises for what it is or says: what cannot be used is said in its place."""
    try:
        if "://" in store.at:
            return await _over_http(store, folder, moment, earlier, log)
        return under_our_name(dossier_from_file(folder, store.at), store, moment)
    except RequestFailed as error:
        lost: Answer[int] = Answer(error.state, None, error.note, Evidence(f"GET {store.at}", error.answer, moment))
        return lost_dossier(store.name, store.at, moment, lost)


def dossier_from_file(folder: Path, name: str) -> Dossier:
    """The dossier in a file below the workspace. Raises `RequestFailed`."""
    path = folder / Path(name).expanduser()
    try:
        if path.stat().st_size > MAX_DOSSIER:
            raise RequestFailed("failed", f"{path.name} is larger than {MAX_DOSSIER >> 20} MiB", "too large")
        return _received(path.read_bytes(), path.name)
    except OSError as error:
        raise RequestFailed("failed", f"{path.name} cannot be read: {error.strerror}", "no file") from None


def _received(document: bytes, name: str) -> Dossier:
    try:
        return load_untrusted(document, name)
    except (BadInput, Damaged) as error:
        first, more = error.complaints[0], len(error.complaints) - 1
        also = f", and {more} more" if more else ""
        hint = f"; {first.remedy}" if first.remedy and not more else ""
        raise RequestFailed("failed", f"its dossier is refused: {first.what}{also}{hint}", "refused") from None


def under_our_name(dossier: Dossier, store: StoreConfig, moment: datetime) -> Dossier:
    """The dossier under the name that the estate file gives the store. It counts what it lists, unless it says itself
    that this is not all; and it is as old as what it was made of."""
    listing, made = dossier.listing, min(dossier.taken, dossier.exported or dossier.taken)
    if listing.unread and listing.note == NOT_IN_DOSSIER and dossier.buckets:
        listing = Answer("known", len(dossier.buckets))
    return msgspec.structs.replace(
        dossier, store=store.name, taken=moment, exported=made, address=store.at, listing=listing, tag="",
        buckets=[completed(bucket, dossier.every_bucket) for bucket in dossier.buckets],
    )  # fmt: skip


def _is_partial(name: str, value: Any) -> bool:
    """Whether a part of an answer is missing: the default of a lock, or who keeps a key that no scope names."""
    return bool(value.default_unread) if name == "lock" else name == "encryption" and not value.by and not value.key


def completed(bucket: Bucket, *others: Bucket | None) -> Bucket:
    """A bucket with what others say about it, one after the other, where its own answer says nothing."""
    fields: dict[str, Answer[Any]] = {}
    for other in others:
        if other is None:
            continue
        for name in Bucket.__struct_fields__[1:]:
            own = fields.get(name, getattr(bucket, name))
            answer = getattr(other, name)
            part = own.value is not None and _is_partial(name, own.value)
            if name == "encryption" and part and answer.value is not None:
                both = msgspec.structs.replace(answer.value, enforced=own.value.enforced)
                answer = Answer("known", both, answer.note, answer.evidence)
            if (own.unread or part) and (answer.settled or answer.state == "unsupported"):
                fields[name] = answer
    return msgspec.structs.replace(bucket, **fields) if fields else bucket


class DossierReader:
    """Reads a store by the document that its owner exports."""

    capabilities: ClassVar[Capabilities] = DOSSIER
    questions_asked = 1

    def __init__(self, visit: Visit) -> None:
        self.visit = visit

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    async def read(self, earlier: Dossier | None) -> Dossier:
        """The document. `earlier`: that of the survey before. Never raises for what it is or says."""
        visit = self.visit
        return await read_dossier(visit.store, visit.folder, visit.moment, earlier, visit.log)

    async def reach(self) -> StoreReached:
        """Whether there is a document, and whether it can be used."""
        store = self.visit.store
        transport: Literal["tls", "plain", "file"] = "tls" if store.at.startswith("https") else "plain"
        if "://" not in store.at:
            transport = "file"
        dossier = await self.read(None)
        listing = dossier.listing
        answers = listing.settled or listing.evidence.answer.isdigit() or listing.evidence.answer == "refused"
        credential: Literal["accepted", "refused", "not tried"] = "accepted" if listing.settled else "refused"
        if not listing.settled and listing.state != "denied":
            credential = "not tried"
        count = len(dossier.buckets) if listing.settled else None
        return StoreReached(
            store.name, store.at, answers, transport, None, credential, listing.note, count, count or 0, {}, {},
            unread=_untold(dossier) if listing.settled else {},
        )  # fmt: skip

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        """One question, whatever is in the document."""
        return Estimate(0, 1, 0.0)

    async def survey(self, order: SurveyOrder) -> Dossier:
        """The document, with the buckets that are wanted."""
        visit = self.visit
        read = await self.read(visit.previous())
        return _only(read, visit.store.only, order.only)

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> ObjectSource:
        """Never asked: a document lists no objects, so no table of them is ever begun."""
        raise AssertionError(f"the dossier of {self.visit.store.name} lists no objects")

    async def some_keys(self, bucket: str) -> list[str]:
        """A document has no keys."""
        return []

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """A document has no door."""
        return ProbeAnswer(verb, "", "not asked: the store is read by a document", None)


def _untold(dossier: Dossier) -> dict[str, str]:
    """What a document does not tell, of a bucket at least → why. What its store does not offer is none of that."""
    names = [name for name in FIELD_WORDS if name not in ("differs_by_door", "object_acls")]
    buckets = ((name, getattr(bucket, name)) for name in names for bucket in dossier.buckets)
    of_store = ((name, getattr(dossier, name)) for name in STORE_FIELD_WORDS)
    untold: dict[str, str] = {}
    for name, answer in chain(buckets, of_store):
        if answer.unread:
            untold.setdefault(name, answer.reason)
    return untold


def _only(dossier: Dossier, *choices: tuple[str, ...]) -> Dossier:
    """The dossier with the buckets that every choice of patterns takes in.

    One that was cut short loses its ETag, so that the next survey asks for all of it again.
    """
    wanted = set(wanted_names([bucket.name for bucket in dossier.buckets], *choices))
    kept = [bucket for bucket in dossier.buckets if bucket.name in wanted]
    if len(kept) == len(dossier.buckets):
        return dossier
    return msgspec.structs.replace(dossier, buckets=kept, tag="")


async def _over_http(
    store: StoreConfig,
    folder: Path,
    moment: datetime,
    earlier: Dossier | None,
    log: Callable[[dict[str, object]], None] | None,
) -> Dossier:
    headers = {}
    token = find_token(store.credential, folder)
    if earlier is not None and earlier.tag and earlier.address == store.at:
        headers["if-none-match"] = earlier.tag
    auth = Bearer(token) if token else None
    async with Client(store, auth, folder, log=log, most=MAX_DOSSIER, cleans=False) as client:
        reply = await client.ask(path=urlsplit(store.at).path or "/", headers=headers)
    if reply.status == 304 and earlier is not None:
        return msgspec.structs.replace(earlier, taken=moment)
    if reply.status in (401, 403):
        raise RequestFailed("denied", "the token is not accepted" if token else "a token is needed", str(reply.status))
    if 300 <= reply.status < 400:
        raise RequestFailed("failed", f"answered {reply.status}; redirections are not followed", str(reply.status))
    read_status(reply)
    dossier = under_our_name(_received(reply.body, store.at), store, moment)
    transport = "tls" if store.at.startswith("https") else "plain"
    return msgspec.structs.replace(dossier, tag=reply.headers.get("etag", "")[:200], transport=transport)
