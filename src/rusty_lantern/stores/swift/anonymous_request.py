"""Asking a Swift door without a token: one listing of a single name, and one byte of an object. Read verbs only."""

from __future__ import annotations

from urllib.parse import quote

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.anonymous_answer import answer_to
from rusty_lantern.stores.http.client import Client


def _is_listing(body: bytes) -> bool:
    try:
        return isinstance(msgspec.json.decode(body), list)
    except msgspec.DecodeError:
        return False


async def ask_anonymously(outside: Client, container: str, verb: Verb, request: Request) -> ProbeAnswer:
    """Put one request as the container's ACLs would let it in. `container`: its path.

    A listing is asked for with a slash at the end: without it a web server in front sends callers elsewhere.
    """
    host = request.context.get(REFERER_HOST, ("",))[0]
    headers = {"referer": f"http://{host}/"} if host else {}
    path = f"{container}/" if verb == "list" else f"{container}/{quote(request.key)}"
    query = (("format", "json"), ("limit", "1")) if verb == "list" else ()
    question = f"GET {path}" + ("?format=json&limit=1" if verb == "list" else "")
    if verb == "read":
        headers["range"] = "bytes=0-0"
    if any(not (value.isascii() and value.isprintable()) for value in headers.values()):
        return ProbeAnswer(verb, question, "not sent: a header would hold a character that HTTP cannot carry", None)
    return await answer_to(outside, verb, path, query, headers, _is_listing)
