"""Knocking without credentials: one listing of a single key and one byte of an object that exists. Read verbs only.

The request is the one most likely to be let in by the bucket's own rules; what the answer means is for the core to say.
"""

from __future__ import annotations

import asyncio

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.solver.exposure import request_for
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.time_budget import Patience, patient
from rusty_lantern.stores.http.xml import children, parse, raw_text
from rusty_lantern.stores.s3.settings import error_code

VERBS: tuple[Verb, ...] = ("list", "read")
AT_ONCE = 4
PATIENCE = 15
"""Seconds that one bucket's answers may be late."""
_HEADER_OF = {"aws:referer": "referer", "aws:useragent": "user-agent"}


async def knock_at(inside: Client, outside: Client, view: BucketSubject) -> list[ProbeAnswer]:
    """Knock at a bucket's list and read doors. `inside` (with the credential) finds a key that exists."""
    keys = await _first_keys(inside, view.bucket.name)
    return [
        await _knock(outside, view.bucket.name, verb, request_for(view.rules, view.surroundings, "anyone", verb, keys))
        for verb in VERBS
        if keys or verb == "list"
    ]


async def knock_everywhere(inside: Client, outside: Client, dossier: Dossier, estate: Estate) -> Dossier:
    """The dossier with what every bucket answered. A few buckets are tried at the same time."""
    left = iter(views([dossier], estate, dossier.taken))
    tried: list[Bucket] = []

    async def worker() -> None:
        for view in left:
            tried.append(await try_bucket(inside, outside, view))

    async with asyncio.TaskGroup() as group:
        for _ in range(AT_ONCE):
            group.create_task(worker())
    return msgspec.structs.replace(dossier, buckets=sorted(tried, key=lambda bucket: bucket.name))


async def try_bucket(inside: Client, outside: Client, view: BucketSubject) -> Bucket:
    """A bucket with what it answered; whatever goes wrong with it, the others are tried."""
    try:
        with patient(Patience(min(PATIENCE, inside.store.patience.bucket))):
            knocks = await knock_at(inside, outside, view)
    except LanternError:
        raise
    except Exception as error:
        return msgspec.structs.replace(view.bucket, doors=Answer("failed", None, defect(error)))
    evidence = Evidence("; ".join(k.asked for k in knocks), "; ".join(k.answer for k in knocks), view.dossier.taken)
    return msgspec.structs.replace(view.bucket, doors=Answer("known", knocks, "", evidence))


def sendable(value: str) -> bool:
    """Whether a text can stand in a header: no control characters, and nothing beyond what HTTP carries."""
    return value.isprintable() and value.isascii()


async def _first_keys(client: Client, bucket: str) -> list[str]:
    try:
        reply = await client.ask(bucket, (("list-type", "2"), ("max-keys", "50")))
        listed = children(parse(reply.body), "Contents") if reply.status == 200 else iter(())
    except RequestFailed:
        return []
    return [raw_text(entry, "Key") for entry in listed]


async def _knock(outside: Client, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
    headers = {_HEADER_OF[name]: values[0] for name, values in request.context.items() if name in _HEADER_OF}
    query: tuple[tuple[str, str], ...] = ()
    if verb == "list":
        prefix = request.context.get("s3:prefix", ("",))[0]
        query = (("list-type", "2"), ("max-keys", "1"), *((("prefix", prefix),) if prefix else ()))
        asked = f"GET /{bucket}?list-type=2&max-keys=1" + (f"&prefix={prefix}" if prefix else "")
    else:
        asked = f"GET /{bucket}/{request.key}"
        headers["range"] = "bytes=0-0"
    if any(not sendable(value) for value in headers.values()):
        return ProbeAnswer(verb, asked, "not sent: a header would hold a character that HTTP cannot carry", None)
    try:
        reply = await outside.ask(bucket, query, key=request.key if verb == "read" else "", headers=headers)
    except RequestFailed as error:
        return ProbeAnswer(verb, asked, error.answer, None)
    archived = reply.status == 403 and error_code(reply.body)[0] == "InvalidObjectState"
    if archived:  # said only to those who may read: the object itself would have to be restored first
        return ProbeAnswer(verb, asked, "403 InvalidObjectState", True)
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    return ProbeAnswer(verb, asked, str(reply.status), let_in)
