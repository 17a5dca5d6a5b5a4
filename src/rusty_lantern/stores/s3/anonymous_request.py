"""Asking without credentials: one listing of a single key, and one byte of an object that exists. Read verbs only."""

from __future__ import annotations

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import NO_LISTING, error_code, read_status
from rusty_lantern.stores.http.xml import is_document, name, parse, text
from rusty_lantern.stores.s3.listing import OBJECTS, entries_of

_HEADER_OF = {"aws:referer": "referer", "aws:useragent": "user-agent"}


def sendable(value: str) -> bool:
    """Whether a header can carry a text: no control characters, and nothing beyond what HTTP carries."""
    return value.isprintable() and value.isascii()


async def some_keys(client: Client, bucket: str) -> list[str]:
    """The first keys of a bucket. Raises `RequestFailed` where they are not listed."""
    reply = await client.ask(bucket, (*OBJECTS.query, (OBJECTS.size, "50")))
    read_status(reply)
    root = parse(reply.body)
    if name(root) not in OBJECTS.roots:
        raise RequestFailed("failed", f'a listing came as "{name(root)[:60]}"', "unexpected answer")
    encoded = text(root, "EncodingType") == "url"
    return [entry["Key"] for entry in entries_of(root, OBJECTS.entries, encoded=encoded)]


async def ask_anonymously(outside: Client, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
    """Put one request as the bucket's own rules would let it in; what its answer means is for the core to say."""
    headers = {_HEADER_OF[name]: values[0] for name, values in request.context.items() if name in _HEADER_OF}
    query: tuple[tuple[str, str], ...] = ()
    if verb == "list":
        prefix = request.context.get("s3:prefix", ("",))[0]
        query = (("list-type", "2"), ("max-keys", "1"), *((("prefix", prefix),) if prefix else ()))
        question = f"GET /{bucket}?list-type=2&max-keys=1" + (f"&prefix={prefix}" if prefix else "")
    else:
        question = f"GET /{bucket}/{request.key}"
        headers["range"] = "bytes=0-0"
    if any(not sendable(value) for value in headers.values()):
        return ProbeAnswer(verb, question, "not sent: a header would hold a character that HTTP cannot carry", None)
    try:
        reply = await outside.ask(bucket, query, key=request.key if verb == "read" else "", headers=headers)
    except RequestFailed as error:
        return ProbeAnswer(verb, question, error.answer, None)
    archived = reply.status == 403 and error_code(reply.body)[0] == "InvalidObjectState"
    if archived:  # said only to those who may read: the object itself would have to be restored first
        return ProbeAnswer(verb, question, "403 InvalidObjectState", True)
    if verb == "list" and reply.status == 200 and not is_document(reply.body, *OBJECTS.roots):
        return ProbeAnswer(verb, question, NO_LISTING, None)
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    return ProbeAnswer(verb, question, str(reply.status), let_in)
