"""What a request without credentials is answered, at a door that takes plain paths: the part of a test that every such
door has in common."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import NO_LISTING

LETS_IN = {200: True, 204: True, 206: True, 416: True, 401: False, 403: False}
"""Whether an answer's status shows that the request was let in; any other shows neither."""


async def answer_to(
    outside: Client,
    verb: Verb,
    path: str,
    query: tuple[tuple[str, str], ...],
    headers: Mapping[str, str],
    is_listing: Callable[[bytes], bool],
) -> ProbeAnswer:
    """Put the request. `is_listing`: whether a body is a listing of that door. Never raises for what answers there."""
    parameters = "&".join(f"{name}={value}" for name, value in query)
    question = f"GET {path}" + (f"?{parameters}" if parameters else "")
    try:
        reply = await outside.ask(path=path, query=query, headers=headers)
    except RequestFailed as error:
        return ProbeAnswer(verb, question, error.answer, None)
    if verb == "list" and reply.status == 200 and not is_listing(reply.body):
        return ProbeAnswer(verb, question, NO_LISTING, None)
    return ProbeAnswer(verb, question, str(reply.status), LETS_IN.get(reply.status))
