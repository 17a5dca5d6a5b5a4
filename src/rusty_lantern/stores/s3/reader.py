"""Surveying one S3-compatible store: list its buckets, ask every settings question of each, yield a dossier."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from typing import Any

from rusty_lantern.core.dossier import Bucket, Dossier, Guards, Usage
from rusty_lantern.core.estate import Store
from rusty_lantern.core.evidence import Answer, Evidence
from rusty_lantern.stores.errors import Unanswered
from rusty_lantern.stores.s3.answers import Element, child, children, name, parse, raw_text, text
from rusty_lantern.stores.s3.client import Client, Reply
from rusty_lantern.stores.s3.settings import (
    ACCOUNT_GUARDS,
    ACCOUNT_GUARDS_PATH,
    QUESTIONS,
    Question,
    error_code,
    read_answer,
    refusal,
)

LIST_LIMIT = 100
"""Pages of 1,000 objects that are counted of one bucket before counting stops."""
MAX_BUCKETS = 100_000

Progress = Callable[[int, int], None]
"""Called with buckets done and buckets in all."""


async def survey(client: Client, moment: datetime, progress: Progress = lambda done, total: None) -> Dossier:
    """Read every bucket's settings. Never raises for what the store does: that is in the dossier."""
    transport = "tls" if client.store.at.startswith("https") else "plain"
    base = Dossier(store=client.store.name, taken=moment, address=client.store.at, transport=transport)  # type: ignore[arg-type]
    asked = "GET /"
    try:
        found, owner = await list_buckets(client)
    except Unanswered as error:
        listing: Answer[int] = Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        return _with(base, listing=listing)
    wanted = [bucket for bucket in found if _wanted(client.store, bucket[0])]
    account_guards = await _account_guards(client, owner, moment)
    progress(0, len(wanted))
    done = 0

    async def one(bucket: str, created: datetime | None) -> Bucket:
        nonlocal done
        read = await read_bucket(client, bucket, created, moment)
        done += 1
        progress(done, len(wanted))
        return read

    async with asyncio.TaskGroup() as group:
        tasks = [group.create_task(one(bucket, created)) for bucket, created in wanted]
    buckets = sorted((task.result() for task in tasks), key=lambda b: b.name)
    return _with(
        base,
        account=Answer("known", owner, "", Evidence(asked, "200", moment)) if owner else Answer("absent"),
        guards=account_guards,
        listing=Answer("known", len(found), "", Evidence(asked, "200", moment)),
        buckets=buckets,
    )


def _with(dossier: Dossier, **changes: Any) -> Dossier:
    import msgspec

    return msgspec.structs.replace(dossier, **changes)


def _wanted(store: Store, bucket: str) -> bool:
    return not store.only or any(fnmatchcase(bucket, pattern) for pattern in store.only)


async def list_buckets(client: Client) -> tuple[list[tuple[str, datetime | None]], str]:
    """Names and creation dates of all buckets, and the owner's id. Raises `Unanswered`."""
    found: dict[str, datetime | None] = {}
    owner, token = "", ""
    seen: set[str] = set()
    while True:
        query = (("continuation-token", token),) if token else ()
        reply = await _first_question(client, query) if not token else await client.ask(query=query)
        if reply.status != 200:
            raise _as_unanswered(reply)
        root = parse(reply.body)
        if name(root) != "ListAllMyBucketsResult":
            raise Unanswered("failed", f'the list of buckets came as "{name(root)[:60]}"', "unexpected answer")
        owner = owner or text(root, "Owner", "ID")
        listed = child(root, "Buckets")
        for entry in children(listed, "Bucket") if listed is not None else ():
            found[raw_text(entry, "Name")] = read_time(text(entry, "CreationDate"))
        token = text(root, "ContinuationToken")
        if not token or len(found) > MAX_BUCKETS:
            return sorted(found.items()), owner
        if token in seen:
            raise Unanswered("failed", "the list of buckets never ends: a page came twice", "endless list")
        seen.add(token)


async def _first_question(client: Client, query: tuple[tuple[str, str], ...]) -> Reply:
    """The first signed question; if only the clocks are in the way, sign by the store's clock and ask again."""
    reply = await client.ask(query=query)
    if reply.status == 403 and error_code(reply.body)[0] == "RequestTimeTooSkewed":
        client.note_skew(reply)
        reply = await client.ask(query=query)
    return reply


def _as_unanswered(reply: Reply) -> Unanswered:
    code, message = error_code(reply.body)
    if reply.status in (401, 403):
        return Unanswered("denied", refusal(code), f"{reply.status} {code}")
    if 300 <= reply.status < 400:
        return Unanswered("failed", "redirected elsewhere; not followed with a signature", str(reply.status))
    return Unanswered("failed", f"answered {reply.status} {code or message}".strip(), f"{reply.status} {code}".strip())


def read_time(written: str) -> datetime | None:
    """A moment from an answer; None if it is not one."""
    try:
        moment = datetime.fromisoformat(written)
    except ValueError:
        return None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)


async def _account_guards(client: Client, owner: str, moment: datetime) -> Answer[Guards]:
    headers = {"x-amz-account-id": owner} if re.fullmatch("[0-9]{12}", owner) else {}
    asked = f"GET {ACCOUNT_GUARDS_PATH}"
    try:
        reply = await client.ask(path=ACCOUNT_GUARDS_PATH, headers=headers)
    except Unanswered as error:
        return Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
    configured = "PublicAccessBlock" in error_code(reply.body)[0]
    if reply.status in (400, 404) and not configured:  # taken for a bucket's name, or for nothing at all
        return Answer("unsupported", None, "", Evidence(asked, str(reply.status), moment))
    return read_answer(ACCOUNT_GUARDS, reply, asked, moment)


async def ask_setting(client: Client, bucket: str, question: Question, moment: datetime) -> Answer[Any]:
    """Put one settings question."""
    asked = f"GET /{bucket}?{question.ask}"
    try:
        reply = await client.ask(bucket, ((question.ask, ""),))
    except Unanswered as error:
        return Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
    return read_answer(question, reply, asked, moment)


async def read_bucket(client: Client, bucket: str, created: datetime | None, moment: datetime) -> Bucket:
    """Ask everything about one bucket."""
    answers = await asyncio.gather(*(ask_setting(client, bucket, question, moment) for question in QUESTIONS))
    fields: dict[str, Any] = {q.field: answer for q, answer in zip(QUESTIONS, answers, strict=True)}
    listed = Evidence("GET /", "200", moment)
    fields["created"] = Answer("known", created, "", listed) if created else Answer("absent", evidence=listed)
    fields["usage"] = await count(client, bucket, moment)
    return Bucket(name=bucket, **fields)


async def count(client: Client, bucket: str, moment: datetime, limit: int = LIST_LIMIT) -> Answer[Usage]:
    """Objects and bytes by listing, at most `limit` pages; then both are lower bounds."""
    asked = f"GET /{bucket}?list-type=2"
    objects = size = 0
    token = ""
    seen: set[str] = set()
    for _ in range(limit):
        query = (("list-type", "2"), ("max-keys", "1000"), *((("continuation-token", token),) if token else ()))
        try:
            reply = await client.ask(bucket, query)
            if reply.status != 200:
                raise _as_unanswered(reply)
            root = parse(reply.body)
            if name(root) != "ListBucketResult":
                raise Unanswered("failed", f'a listing came as "{name(root)[:60]}"', "unexpected answer")
            page, page_size = _page(root)
        except Unanswered as error:
            return Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        objects, size = objects + page, size + page_size
        token = text(root, "NextContinuationToken")
        if text(root, "IsTruncated") != "true" or not token:
            return Answer("known", Usage(objects, size), "", Evidence(asked, "200", moment))
        if token in seen:
            note = "the listing never ends: a page came twice"
            return Answer("failed", None, note, Evidence(asked, "endless list", moment))
        seen.add(token)
    return Answer("known", Usage(objects, size, complete=False), "", Evidence(asked, "200", moment))


def _page(root: Element) -> tuple[int, int]:
    sizes = [text(entry, "Size") for entry in children(root, "Contents")]
    if not all(size.isdigit() and len(size) < 20 for size in sizes):
        raise Unanswered("failed", "a listing gives a size that is no number", "unreadable answer")
    return len(sizes), sum(map(int, sizes))
