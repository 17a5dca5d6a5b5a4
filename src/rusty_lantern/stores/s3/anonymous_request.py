"""Asking without credentials: one listing of a single key, and one byte of an object that exists. Read verbs only."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlencode

from msgspec.structs import replace

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import FORWARDED
from rusty_lantern.core.access.solver.sent_keys import sent_with
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import NO_LISTING, error_code, read_status
from rusty_lantern.stores.http.xml import is_document, name, parse, text
from rusty_lantern.stores.s3.listing import OBJECTS, UPLOADS, VERSIONS, entries_of

_LISTINGS = {"s3:ListBucketVersions": VERSIONS, "s3:ListBucketMultipartUploads": UPLOADS}


def sendable(value: str) -> bool:
    """Whether a header can carry a text: no control characters, and nothing beyond what HTTP carries."""
    return value.isprintable() and value.isascii()


def saying_it_comes_from(address: str) -> dict[str, str]:
    """The headers in which a proxy says for whom it forwards a request: by convention, and as RFC 7239 has it."""
    node = f'"[{address}]"' if ":" in address else address
    return {"x-forwarded-for": address, "x-real-ip": address, "forwarded": f"for={node}"}


def _query(parameters: Mapping[str, str]) -> str:
    """Parameters as they are shown: those without a value without a sign of equality.

    >>> _query({"versions": "", "max-keys": "1"})
    'versions&max-keys=1'
    """
    return urlencode(parameters).replace("=&", "&").removesuffix("=")


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
    parameters, headers = sent_with(request)
    claims = request.context.get(FORWARDED, ("",))[0]
    headers |= saying_it_comes_from(claims) if claims else {}
    listing = _LISTINGS.get(request.action, OBJECTS)
    path = f"/{bucket}"
    if verb == "list":
        kind = {name: value for name, value in listing.query if name != "encoding-type"}
        parameters = {**kind, listing.size: "1", **parameters}
    else:
        path += f"/{request.key}"
        headers["range"] = "bytes=0-0"
    question = f"GET {path}" + (f"?{_query(parameters)}" if parameters else "")
    question += f" saying that it comes from {claims}" if claims else ""
    unanswered = ProbeAnswer(verb, question, "", None, claims=claims)
    if any(not sendable(value) for value in headers.values()):
        return replace(unanswered, answer="not sent: a header would hold a character that HTTP cannot carry")
    try:
        reply = await outside.ask(
            bucket, tuple(parameters.items()), key=request.key if verb == "read" else "", headers=headers
        )
    except RequestFailed as error:
        return replace(unanswered, answer=error.answer)
    archived = reply.status == 403 and error_code(reply.body)[0] == "InvalidObjectState"
    if archived:  # said only to those who may read: the object itself would have to be restored first
        return replace(unanswered, answer="403 InvalidObjectState", let_in=True)
    if verb == "list" and reply.status == 200 and not is_document(reply.body, *listing.roots):
        return replace(unanswered, answer=NO_LISTING)
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    return replace(unanswered, answer=str(reply.status), let_in=let_in)
