"""Which software answers for a store, recognized by the form of its answers, and so how it reads policies."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.shipped import COMMON, GATEWAY, MINIO, SEAWEED, SHIPPED
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer, Evidence
from rusty_lantern.core.model.dossier import OBJECT_GATEWAY, Dossier, Software
from rusty_lantern.core.object_rules.gateway_calendar import as_kept
from rusty_lantern.intake.dialect_files import find_dialect
from rusty_lantern.stores.http.client import BUSY, Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory
from rusty_lantern.stores.http.tls_check import SeparateMemory
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.swift.info import Info, info_at, refuse_what_stands_in_front

_GATEWAYS_OWN = re.compile(r"tx[0-9a-f]{21}-[0-9a-f]{10}-[0-9a-f]+-.+")
"""How a gateway numbers requests, at each of its doors. Measured on release 16.2."""
_SEAWEEDS_OWN = re.compile(r"1[0-9A-F]{23}")
"""How a SeaweedFS server numbers requests: nanoseconds since 1970, and four bytes more. Measured on release 4.48."""
SEAWEEDS_ACCOUNT = "000000000000"
"""The account that all users of a SeaweedFS server are in, unless its own file says another."""
_MINIOS_OWN = re.compile(r"[0-9A-F]{16}")
"""How a MinIO engine numbers requests. Measured on a JuiceFS gateway 1.4.2."""
_SEAWEEDS_NAME = re.compile(r"SeaweedFS(?: \S+)? ([0-9][0-9.]{0,20})")


async def with_software(visit: Visit, read: Dossier) -> Dossier:
    """The dossier with what answers for the store: asked, or taken from the document that it was read from. Raises
    `BadInput` for a dialect in estate.yaml that is not there."""
    store = visit.store
    named = find_dialect(store.dialect, visit.folder, store.place) if store.dialect else None
    asks = store.reads in ("s3", "swift")
    software = await recognized(visit) if asks else read.software
    if software.note == NOT_IN_DOSSIER:
        software = Answer("unsupported")
    if named is not None:
        said = software.value or Software("")
        note = "named in estate.yaml"
        software = Answer(
            "known", msgspec.structs.replace(said, dialect=named.dialect, note=note), "", software.evidence
        )
    own = None if asks else read.dialect
    if named is not None:
        own = named if named.dialect not in SHIPPED else None
    if software.value is not None and software.value.dialect == SEAWEED.dialect and not read.account_number:
        read = msgspec.structs.replace(read, account_number=SEAWEEDS_ACCOUNT)
    buckets = [as_kept(bucket, software, read.taken) for bucket in read.buckets]
    return msgspec.structs.replace(read, software=software, dialect=own, buckets=buckets)


async def reach_software(visit: Visit) -> Software | None:
    """What answers for a store, for `reach`; None where it is not known, or where it is a file."""
    if visit.store.reads in ("dossier", "export"):
        return None
    empty = Dossier(store=visit.store.name, taken=visit.moment)
    return (await with_software(visit, empty)).software.value


async def recognized(visit: Visit) -> Answer[Software]:
    """What answers, asked without credentials: how it numbers requests, and what it says of itself."""
    memory = SeparateMemory(visit.memory, "software") if visit.memory else None
    store = visit.store
    async with Client(store, None, visit.folder, log=visit.log) as outside:
        try:
            root = outside.target("")[1].partition("/v1")[0] if store.reads == "swift" else ""
            status, first = await _first(outside, root or "/", memory)
            paths = ("/swift/info", "/info") if store.reads == "s3" else (f"{root}/info",)
            answers = [await info_at(outside, path, memory) for path in paths]
        except RequestFailed as error:
            return Answer(error.state, None, error.note)
    info = next((one for one in answers if one is not None), None)
    evidence = Evidence("GET / without credentials", str(status), visit.moment)
    if first.startswith(SEAWEED_SERVER):
        return _seaweed(first.removeprefix(SEAWEED_SERVER).strip(), evidence)
    if first == MINIO_ENGINE:
        note = "it does not give its release"
        return Answer("known", Software(MINIO_ENGINE, "", MINIO.dialect, note), "", evidence)
    if first == OTHER_MINIO:
        note = "it is a MinIO server that answers otherwise than the one that was measured"
        return Answer("failed", None, note, evidence)
    return _software(first == OBJECT_GATEWAY, info, store.reads, evidence)


SEAWEED_SERVER = "a SeaweedFS server"
MINIO_ENGINE = "a JuiceFS gateway, or a MinIO server of its time"
OTHER_MINIO = "another MinIO server"


async def _first(outside: Client, path: str, memory: Memory | None) -> tuple[int, str]:
    """The status of the first answer, and whose answer it is by its number, and by what it says of itself; empty where
    nobody knows. That is what is kept of it: a memory leaves the numbers of answers out, and what resumes would take it
    for another software."""
    question = f"whose answers they are: GET {path}"
    known = memory.recall(question) if memory else None
    if known is not None:
        return known[0], known[2].decode()
    reply = await outside.ask(path=path)
    whose = _whose(reply.headers)
    if not whose and (reply.status in BUSY or outside.store.reads == "s3"):  # other protocols refuse in plain words
        refuse_what_stands_in_front(reply)
    if memory:
        memory.note(question, reply.status, {}, whose.encode())
    return reply.status, whose


_NUMBERS = ("x-amz-request-id", "x-trans-id")


def _whose(headers: Mapping[str, str]) -> str:
    if any(_GATEWAYS_OWN.fullmatch(headers.get(name, "")) for name in _NUMBERS):
        return OBJECT_GATEWAY
    named = _SEAWEEDS_NAME.fullmatch(headers.get("server", ""))
    if named or _SEAWEEDS_OWN.fullmatch(headers.get("x-amz-request-id", "")):
        return f"{SEAWEED_SERVER} {named[1] if named else ''}".strip()
    if headers.get("server", "") == "MinIO":
        as_measured = _MINIOS_OWN.fullmatch(headers.get("x-amz-request-id", "")) and _HOST not in headers
        return MINIO_ENGINE if as_measured else OTHER_MINIO
    return ""


_HOST = "x-amz-id-2"
"""A header that later engines send, and the measured one does not."""


def _seaweed(release: str, evidence: Evidence) -> Answer[Any]:
    """A SeaweedFS server. How another release decides was not tried: then what answers is as good as not known."""
    if release and not SEAWEED.was_measured_on(release):
        note = f"it is SeaweedFS {release}, which was not measured (measured: {', '.join(SEAWEED.measured_on)})"
        return Answer("failed", None, note, evidence)
    note = "" if release else "it does not give its release"
    return Answer("known", Software(SEAWEED_SERVER, release, SEAWEED.dialect, note), "", evidence)


def _software(gateway: bool, info: Info | None, reads: str, evidence: Evidence) -> Answer[Any]:
    version = str(info.swift.get("version", "")) if info is not None else ""
    release = version if re.fullmatch(r"[0-9][0-9.]{0,20}", version) else ""
    if gateway and (not release or GATEWAY.was_measured_on(release)):
        note = "" if release else "it does not give its release"
        return Answer("known", Software(OBJECT_GATEWAY, release, GATEWAY.dialect, note), "", evidence)
    if gateway:
        note = f"its release was not measured: the common reading is taken (measured: {', '.join(GATEWAY.measured_on)})"
        return Answer("known", Software(OBJECT_GATEWAY, release, "", note), "", evidence)
    if info is not None and reads == "swift":
        return Answer("known", Software("a Swift server", release, COMMON.dialect), "", evidence)
    return Answer("known", Software("", note="its answers fit no software that is known here"), "", evidence)
