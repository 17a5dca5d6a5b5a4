"""The list of a store's buckets, and what is said about their account."""

from __future__ import annotations

import re
from datetime import datetime
from typing import NamedTuple

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, read_status
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import child, children, name, parse, raw_text, text
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import ACCOUNT_GUARDS, ACCOUNT_GUARDS_PATH

MAX_BUCKETS = 100_000


class Listed(NamedTuple):
    """The buckets of a credential's user, in order of name, each with its creation date; and the user's id."""

    created: dict[str, Answer[datetime]]
    owner: str


async def list_buckets(client: Client) -> Listed:
    """All buckets of the credential's user. Raises `RequestFailed`."""
    created: dict[str, Answer[datetime]] = {}
    owner, token = "", ""
    seen: set[str] = set()
    while True:
        query = (("continuation-token", token),) if token else ()
        reply = await _first_question(client, query) if not token else await client.ask(query=query)
        read_status(reply)
        root = parse(reply.body)
        if name(root) != "ListAllMyBucketsResult":
            raise RequestFailed("failed", f'the list of buckets came as "{name(root)[:60]}"', "unexpected answer")
        owner = owner or text(root, "Owner", "ID")
        listed, known = child(root, "Buckets"), len(created)
        for entry in children(listed, "Bucket") if listed is not None else ():
            bucket = raw_text(entry, "Name")
            created[bucket] = _created(text(entry, "CreationDate"))
            client.regions.lives_in(bucket, text(entry, "BucketRegion"))
        token = text(root, "ContinuationToken")
        if not token or len(created) > MAX_BUCKETS:
            return Listed(dict(sorted(created.items())), owner)
        if token in seen or len(created) == known:
            raise RequestFailed(
                "failed", "the list of buckets never ends: a page came twice, or brought nothing new", "endless list"
            )
        seen.add(token)


def _created(written: str) -> Answer[datetime]:
    if not written:
        return Answer("absent")
    moment = read_time(written)
    return Answer("known", moment) if moment else Answer("failed", None, f'"{written[:40]}" is not a date')


async def _first_question(client: Client, query: tuple[tuple[str, str], ...]) -> Reply:
    """The first signed question; if only the clocks are in the way, sign by the store's clock and ask again."""
    reply = await client.ask(query=query)
    if reply.status == 403 and error_code(reply.body)[0] == "RequestTimeTooSkewed":
        client.note_skew(reply)
        reply = await client.ask(query=query)
    return reply


async def account_public_access_guards(client: Client, owner: str, moment: datetime) -> Answer[Guards]:
    """The public-access guards of the whole account."""
    headers = {"x-amz-account-id": owner} if re.fullmatch("[0-9]{12}", owner) else {}
    question = f"GET {ACCOUNT_GUARDS_PATH}"
    try:
        reply = await client.ask(path=ACCOUNT_GUARDS_PATH, headers=headers)
    except RequestFailed as error:
        return Answer(error.state, None, error.note, Evidence(question, error.answer, moment))
    configured = "PublicAccessBlock" in error_code(reply.body)[0]
    if reply.status != 200 and not configured and _has_account_door(reply):
        return Answer("failed", None, AT_ACCOUNT_DOOR, Evidence(question, str(reply.status), moment))
    if reply.status in (400, 404) and not configured:  # taken for a bucket's name, or for nothing at all
        return Answer("unsupported", None, "", Evidence(question, str(reply.status), moment))
    return read_answer(ACCOUNT_GUARDS, reply, question, moment)


AT_ACCOUNT_DOOR = "this service shows it at its account door, which estate.yaml does not name (doors: account:)"


def _has_account_door(reply: Reply) -> bool:
    """Whether what answers is the service that the protocol comes from, which has such a door: it names itself, and
    numbers its answers twice."""
    return reply.headers.get("server") == "AmazonS3" and "x-amz-id-2" in reply.headers
