"""Knocking without credentials: one listing of a single key and one byte of an object that exists. Read verbs only.

The request is the one most likely to be let in by the bucket's own rules; what the answer means is for the core to say.
"""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.decide import Request
from rusty_lantern.core.access.exposure import request_for
from rusty_lantern.core.assess import BucketView, views
from rusty_lantern.core.dossier import Dossier, Knock
from rusty_lantern.core.estate import Estate
from rusty_lantern.core.evidence import Answer, Evidence
from rusty_lantern.core.holders import Verb
from rusty_lantern.stores.errors import Unanswered
from rusty_lantern.stores.s3.answers import children, parse, raw_text
from rusty_lantern.stores.s3.client import Client
from rusty_lantern.stores.s3.settings import error_code

VERBS: tuple[Verb, ...] = ("list", "read")
_HEADER_OF = {"aws:referer": "referer", "aws:useragent": "user-agent"}


async def knock_at(inside: Client, outside: Client, view: BucketView) -> list[Knock]:
    """Knock at a bucket's list and read doors. `inside` (with the credential) finds a key that exists."""
    keys = await _first_keys(inside, view.bucket.name)
    return [
        await _knock(outside, view.bucket.name, verb, request_for(view.rules, view.surroundings, "anyone", verb, keys))
        for verb in VERBS
        if keys or verb == "list"
    ]


async def knock_everywhere(inside: Client, outside: Client, dossier: Dossier, estate: Estate) -> Dossier:
    """The dossier with what every bucket answered. Buckets are tried one after another."""
    tried = []
    for view in views([dossier], estate, dossier.taken):
        knocks = await knock_at(inside, outside, view)
        evidence = Evidence("; ".join(k.asked for k in knocks), "; ".join(k.answer for k in knocks), dossier.taken)
        tried.append(msgspec.structs.replace(view.bucket, doors=Answer("known", knocks, "", evidence)))
    return msgspec.structs.replace(dossier, buckets=tried)


async def _first_keys(client: Client, bucket: str) -> list[str]:
    try:
        reply = await client.ask(bucket, (("list-type", "2"), ("max-keys", "50")))
        listed = children(parse(reply.body), "Contents") if reply.status == 200 else iter(())
    except Unanswered:
        return []
    return [raw_text(entry, "Key") for entry in listed]


async def _knock(outside: Client, bucket: str, verb: Verb, request: Request) -> Knock:
    headers = {_HEADER_OF[name]: values[0] for name, values in request.context.items() if name in _HEADER_OF}
    query: tuple[tuple[str, str], ...] = ()
    if verb == "list":
        prefix = request.context.get("s3:prefix", ("",))[0]
        query = (("list-type", "2"), ("max-keys", "1"), *((("prefix", prefix),) if prefix else ()))
        asked = f"GET /{bucket}?list-type=2&max-keys=1" + (f"&prefix={prefix}" if prefix else "")
    else:
        asked = f"GET /{bucket}/{request.key}"
        headers["range"] = "bytes=0-0"
    try:
        reply = await outside.ask(bucket, query, key=request.key if verb == "read" else "", headers=headers)
    except Unanswered as error:
        return Knock(verb, asked, error.answer, None)
    archived = reply.status == 403 and error_code(reply.body)[0] == "InvalidObjectState"
    if archived:  # said only to those who may read: the object itself would have to be restored first
        return Knock(verb, asked, "403 InvalidObjectState", True)
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    return Knock(verb, asked, str(reply.status), let_in)
