"""Asking a blob store without credentials: one listing of a single name, and one byte of a blob. Read verbs only."""

from __future__ import annotations

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.blob.shared_key import HEADERS
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import NO_LISTING, error_code
from rusty_lantern.stores.http.xml import is_document

SWITCHED_OFF = "PublicAccessNotPermitted"
"""What the store says where the whole account allows no public access."""
_HIDDEN = ("ResourceNotFound", "AuthenticationFailed", "NoAuthenticationInformation", SWITCHED_OFF)
"""Codes of a refusal that does not let on whether there is something. Source: the protocol's documentation."""


async def ask_anonymously(outside: Client, container: str, verb: Verb, request: Request) -> ProbeAnswer:
    """Put one request as the container's level would let it in."""
    lists = (("comp", "list"), ("maxresults", "1"), ("restype", "container"))
    query = lists if verb == "list" else ()
    headers = HEADERS if verb == "list" else HEADERS | {"range": "bytes=0-0"}
    key = "" if verb == "list" else request.key
    question = f"GET {outside.target(container, key)[1]}" + ("?restype=container&comp=list" if verb == "list" else "")
    try:
        reply = await outside.ask(container, query, key=key, headers=headers)
    except RequestFailed as error:
        return ProbeAnswer(verb, question, error.answer, None)
    if verb == "list" and reply.status == 200 and not is_document(reply.body, "EnumerationResults"):
        return ProbeAnswer(verb, question, NO_LISTING, None)
    code, _ = error_code(reply.body) if reply.status >= 400 else ("", "")
    let_in = {200: True, 206: True, 416: True, 401: False, 403: False}.get(reply.status)
    if code in _HIDDEN:
        let_in = False
    answer = f"{reply.status} {code}".strip()
    return ProbeAnswer(verb, question, answer, let_in, no_public_access=code == SWITCHED_OFF)
