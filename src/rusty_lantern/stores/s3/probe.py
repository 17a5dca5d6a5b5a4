"""Trying a verdict from outside: one request without credentials, HEAD or a single byte, read verbs only.

A refusal is ambiguous only where the bucket might not exist; it was listed with a credential, so here it does. What
stays ambiguous: a door that is open for other addresses than ours, and a store that answers neither way.
"""

from __future__ import annotations

from rusty_lantern.core.access.decide import Request
from rusty_lantern.stores.errors import Unanswered
from rusty_lantern.stores.s3.answers import children, parse, raw_text
from rusty_lantern.stores.s3.client import Client
from rusty_lantern.stores.s3.reached import Outcome, Probed


async def first_keys(client: Client, bucket: str) -> list[str]:
    """A few keys of the bucket, so that a probe asks for something that exists."""
    try:
        reply = await client.ask(bucket, (("list-type", "2"), ("max-keys", "50")))
        listed = children(parse(reply.body), "Contents") if reply.status == 200 else iter(())
    except Unanswered:
        return []
    return [raw_text(entry, "Key") for entry in listed]


_HEADER_OF = {"aws:referer": "referer", "aws:useragent": "user-agent"}


async def knock(outside: Client, bucket: str, verb: str, level: str, request: Request) -> Probed:
    """Send the request without credentials and hold the answer against the verdict."""
    headers = {_HEADER_OF[name]: values[0] for name, values in request.context.items() if name in _HEADER_OF}
    if verb == "list":
        prefix = request.context.get("s3:prefix", ("",))[0]
        asked = f"GET /{bucket}?list-type=2&max-keys=1" + (f"&prefix={prefix}" if prefix else "")
        query = (("list-type", "2"), ("max-keys", "1"), *((("prefix", prefix),) if prefix else ()))
    else:
        asked, query = f"GET /{bucket}/{request.key} (one byte)", ()
        headers["range"] = "bytes=0-0"
    try:
        reply = await outside.ask(bucket, query, key=request.key if verb != "list" else "", headers=headers)
    except Unanswered as error:
        return Probed(outside.store.name, bucket, verb, level, asked, error.answer, "ambiguous", error.note)
    let_in = reply.status in (200, 206, 416)
    outcome, note = _judge(level, reply.status, let_in=let_in)
    return Probed(outside.store.name, bucket, verb, level, asked, str(reply.status), outcome, note)


READS_DIFFERENTLY = "the rules let in whom the store shuts out: it reads them differently, or something is in front"


def _judge(level: str, status: int, *, let_in: bool) -> tuple[Outcome, str]:
    if let_in:
        if level == "closed":
            return "disagrees", "the store lets in whom the rules shut out"
        return "agrees", "let in from here as well" if level == "narrow" else ""
    if status in (401, 403):
        if level == "closed":
            return "agrees", ""
        if level == "narrow":
            return "agrees", "refused from here, as the fence says"
        return (
            "disagrees",
            READS_DIFFERENTLY,
        )
    return "ambiguous", "neither let in nor refused"
