"""Asking without credentials: one listing of a single key, and one byte of an object that exists. Read verbs only."""

from __future__ import annotations

from urllib.parse import urlencode

from msgspec.structs import replace

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import ADDRESS_PARAMETER, FORWARDED, PARAMETER
from rusty_lantern.core.access.solver.witness import parameter_name
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import NO_LISTING, error_code, read_status
from rusty_lantern.stores.http.xml import is_document, name, parse, text
from rusty_lantern.stores.s3.listing import OBJECTS, UPLOADS, VERSIONS, entries_of

_LISTINGS = {"s3:ListBucketVersions": VERSIONS, "s3:ListBucketMultipartUploads": UPLOADS}
_HEADER_OF = {"aws:referer": "referer", "aws:useragent": "user-agent"}


def sendable(value: str) -> bool:
    """Whether a header can carry a text: no control characters, and nothing beyond what HTTP carries."""
    return value.isprintable() and value.isascii()


def saying_it_comes_from(address: str) -> dict[str, str]:
    """The headers in which a proxy says for whom it forwards a request: by convention, and as RFC 7239 has it."""
    node = f'"[{address}]"' if ":" in address else address
    return {"x-forwarded-for": address, "x-real-ip": address, "forwarded": f"for={node}"}


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
    query = tuple(
        ("SourceIp" if name == ADDRESS_PARAMETER else parameter_name(name), values[0])
        for name, values in request.context.items()
        if name == ADDRESS_PARAMETER or name.startswith(PARAMETER)
    )
    claims = request.context.get(FORWARDED, ("",))[0]
    headers |= saying_it_comes_from(claims) if claims else {}
    further = urlencode(query)
    listing = _LISTINGS.get(request.action, OBJECTS)
    if verb == "list":
        prefix = request.context.get("s3:prefix", ("",))[0]
        kind = [pair for pair in listing.query if pair[0] != "encoding-type"]
        query = (*kind, (listing.size, "1"), *((("prefix", prefix),) if prefix else ()), *query)
        question = f"GET /{bucket}?{listing.title}&{listing.size}=1" + (f"&prefix={prefix}" if prefix else "")
        question += f"&{further}" if further else ""
    else:
        question = f"GET /{bucket}/{request.key}" + (f"?{further}" if further else "")
        headers["range"] = "bytes=0-0"
    question += f" saying that it comes from {claims}" if claims else ""
    unanswered = ProbeAnswer(verb, question, "", None, claims=claims)
    if any(not sendable(value) for value in headers.values()):
        return replace(unanswered, answer="not sent: a header would hold a character that HTTP cannot carry")
    try:
        reply = await outside.ask(bucket, query, key=request.key if verb == "read" else "", headers=headers)
    except RequestFailed as error:
        return replace(unanswered, answer=error.answer)
    archived = reply.status == 403 and error_code(reply.body)[0] == "InvalidObjectState"
    if archived:  # said only to those who may read: the object itself would have to be restored first
        return replace(unanswered, answer="403 InvalidObjectState", let_in=True)
    if verb == "list" and reply.status == 200 and not is_document(reply.body, *listing.roots):
        return replace(unanswered, answer=NO_LISTING)
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    return replace(unanswered, answer=str(reply.status), let_in=let_in)
