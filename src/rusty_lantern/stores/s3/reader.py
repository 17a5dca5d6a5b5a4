"""Surveying one S3-compatible store: list its buckets, ask every settings question of each, yield a dossier."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Callable, Iterable, Mapping
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from typing import Any, TypeVar

import msgspec

from rusty_lantern.core.dossier import Bucket, Dossier, Guards, Uploads, Usage, Versions
from rusty_lantern.core.evidence import Answer, Evidence, State
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
MIN_WORKERS = 4
"""Buckets that are read at the same time; each puts all its questions at once, so a few keep a store busy, and the
memory in use does not grow with the number of buckets."""

BY_SUB_RESOURCE = {
    ask: [question for question in QUESTIONS if question.ask == ask] for ask in dict.fromkeys(q.ask for q in QUESTIONS)
}
"""Sub-resource → the questions that one answer settles."""

Progress = Callable[[int, int], None]
"""Called with buckets done and buckets in all."""


async def survey(
    client: Client,
    moment: datetime,
    progress: Progress = lambda done, total: None,
    only: tuple[str, ...] = (),
    list_limit: int = LIST_LIMIT,
) -> Dossier:
    """Read every bucket's settings. Never raises for what the store does: that is in the dossier.

    The first bucket is read alone: what the store does not offer is learnt there, and not asked of the others.
    `only`: bucket patterns, besides those of the store's entry; `list_limit`: pages counted of one bucket.
    """
    transport = "tls" if client.store.at.startswith("https") else "plain"
    base = Dossier(store=client.store.name, taken=moment, address=client.store.at, transport=transport)  # type: ignore[arg-type]
    asked = "GET /"
    try:
        found, owner = await list_buckets(client)
    except Unanswered as error:
        listing: Answer[int] = Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        return _with(base, listing=listing)
    wanted = [bucket for bucket in found if _wanted(client.store.only, bucket[0]) and _wanted(only, bucket[0])]
    account_guards = await _account_guards(client, owner, moment)
    progress(0, len(wanted))
    done = 0
    learnt: dict[str, Answer[Any]] = {}

    async def one(bucket: str, created: datetime | None) -> Bucket:
        nonlocal done
        read = await read_bucket(client, bucket, created, moment, learnt, list_limit)
        done += 1
        progress(done, len(wanted))
        return read

    first = [await one(*bucket) for bucket in wanted[:1]]
    if first:
        learnt = _not_offered(first[0])
    left = iter(wanted[1:])
    read: list[Bucket] = []

    async def worker() -> None:
        for bucket in left:
            read.append(await one(*bucket))

    async with asyncio.TaskGroup() as group:
        for _ in range(max(MIN_WORKERS, client.store.pace.at_once // 4)):
            group.create_task(worker())
    buckets = sorted([*first, *read], key=lambda b: b.name)
    return _with(
        base,
        account=Answer("known", owner, "", Evidence(asked, "200", moment)) if owner else Answer("absent"),
        guards=account_guards,
        listing=Answer("known", len(found), "", Evidence(asked, "200", moment)),
        buckets=buckets,
    )


def _with(dossier: Dossier, **changes: Any) -> Dossier:
    return msgspec.structs.replace(dossier, **changes)


def _wanted(patterns: tuple[str, ...], bucket: str) -> bool:
    return not patterns or any(fnmatchcase(bucket, pattern) for pattern in patterns)


def _not_offered(bucket: Bucket) -> dict[str, Answer[Any]]:
    """Dossier field → the answer that the store does not offer it, as the first bucket showed."""
    answers = {question.field: getattr(bucket, question.field) for question in QUESTIONS}
    return {field: answer for field, answer in answers.items() if answer.state == "unsupported"}


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
    return (await _ask_together(client, bucket, question.ask, [question], moment))[question.field]


async def _ask_together(
    client: Client, bucket: str, sub_resource: str, questions: list[Question], moment: datetime
) -> dict[str, Answer[Any]]:
    """Ask for a sub-resource once, and read the answer for every field that comes from it."""
    asked = f"GET /{bucket}?{sub_resource}"
    try:
        reply = await client.ask(bucket, ((sub_resource, ""),))
    except Unanswered as error:
        lost: Answer[Any] = Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        return {question.field: lost for question in questions}
    return {question.field: read_answer(question, reply, asked, moment) for question in questions}


async def read_bucket(
    client: Client,
    bucket: str,
    created: datetime | None,
    moment: datetime,
    learnt: Mapping[str, Answer[Any]],
    list_limit: int,
) -> Bucket:
    """Ask everything about one bucket but what is learnt to be not offered."""
    fields: dict[str, Any] = dict(learnt)
    settings = [
        _ask_together(client, bucket, ask, asked, moment)
        for ask, asked in BY_SUB_RESOURCE.items()
        if not all(question.field in learnt for question in asked)
    ]
    for found in await asyncio.gather(*settings):
        fields |= found
    listed = Evidence("GET /", "200", moment)
    fields["created"] = Answer("known", created, "", listed) if created else Answer("absent", evidence=listed)
    fields["usage"], fields["versions"], fields["uploads"] = await asyncio.gather(
        count(client, bucket, moment, list_limit),
        count_versions(client, bucket, moment, list_limit),
        count_uploads(client, bucket, moment, list_limit),
    )
    return Bucket(name=bucket, **fields)


class Listing(msgspec.Struct, frozen=True):
    """One kind of listing: its query, its roots, how the next page is asked for (parameter → element of this page)."""

    title: str
    query: tuple[tuple[str, str], ...]
    roots: frozenset[str]
    following: tuple[tuple[str, str], ...]


OBJECTS = Listing(
    "list-type=2",
    (("list-type", "2"), ("max-keys", "1000")),
    frozenset({"ListBucketResult"}),
    (("continuation-token", "NextContinuationToken"),),
)
VERSIONS = Listing(
    "versions",
    (("max-keys", "1000"), ("versions", "")),
    frozenset({"ListVersionsResult", "ListBucketVersionsResult"}),
    (("key-marker", "NextKeyMarker"), ("version-id-marker", "NextVersionIdMarker")),
)
UPLOADS = Listing(
    "uploads",
    (("max-uploads", "1000"), ("uploads", "")),
    frozenset({"ListMultipartUploadsResult"}),
    (("key-marker", "NextKeyMarker"), ("upload-id-marker", "NextUploadIdMarker")),
)


async def pages(client: Client, bucket: str, listing: Listing, limit: int) -> AsyncIterator[tuple[Element, bool]]:
    """The pages of a listing, each with whether it is the last; at most `limit`. Raises `Unanswered`.

    A store that answers with another kind of listing does not offer this one.
    """
    following: tuple[tuple[str, str], ...] = ()
    seen: set[tuple[tuple[str, str], ...]] = set()
    for _ in range(limit):
        reply = await client.ask(bucket, (*listing.query, *following))
        if reply.status != 200:
            raise _as_unanswered(reply)
        root = parse(reply.body)
        if name(root) not in listing.roots:
            offered: State = "unsupported" if name(root) == "ListBucketResult" else "failed"
            raise Unanswered(offered, f'a listing came as "{name(root)[:60]}"', "unexpected answer")
        following = tuple((name_, value) for name_, tag in listing.following if (value := raw_text(root, tag)))
        last = text(root, "IsTruncated") != "true" or not following
        yield root, last
        if last:
            return
        if following in seen:
            raise Unanswered("failed", "the listing never ends: a page came twice", "endless list")
        seen.add(following)


T = TypeVar("T")


async def _tally(
    client: Client,
    bucket: str,
    listing: Listing,
    moment: datetime,
    limit: int,
    add: Callable[[Element], None],
    total: Callable[[bool], T],
) -> Answer[T]:
    """Add up the pages of a listing; past the limit, what was counted so far is a lower bound."""
    asked = f"GET /{bucket}?{listing.title}"
    complete = False
    try:
        async for page, last in pages(client, bucket, listing, limit):
            add(page)
            complete = last
    except Unanswered as error:
        return Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
    return Answer("known", total(complete), "", Evidence(asked, "200", moment))


async def count(client: Client, bucket: str, moment: datetime, limit: int = LIST_LIMIT) -> Answer[Usage]:
    """Objects and bytes by listing, at most `limit` pages."""
    sizes = [0, 0]

    def add(page: Element) -> None:
        found = _sizes(children(page, "Contents"))
        sizes[0] += len(found)
        sizes[1] += sum(found)

    return await _tally(client, bucket, OBJECTS, moment, limit, add, lambda done: Usage(sizes[0], sizes[1], done))


async def count_versions(client: Client, bucket: str, moment: datetime, limit: int = LIST_LIMIT) -> Answer[Versions]:
    """Old versions, their bytes, and delete markers by listing versions, at most `limit` pages."""
    sums = [0, 0, 0]

    def add(page: Element) -> None:
        found = _sizes(v for v in children(page, "Version") if text(v, "IsLatest") != "true")
        sums[0] += len(found)
        sums[1] += sum(found)
        sums[2] += sum(1 for _ in children(page, "DeleteMarker"))

    return await _tally(
        client, bucket, VERSIONS, moment, limit, add, lambda done: Versions(sums[0], sums[1], sums[2], done)
    )


async def count_uploads(client: Client, bucket: str, moment: datetime, limit: int = LIST_LIMIT) -> Answer[Uploads]:
    """Unfinished uploads, and when the oldest was begun, at most `limit` pages."""
    begun: list[datetime | None] = []

    def add(page: Element) -> None:
        begun.extend(read_time(text(upload, "Initiated")) for upload in children(page, "Upload"))

    def total(done: bool) -> Uploads:
        return Uploads(len(begun), min((b for b in begun if b), default=None), done)

    return await _tally(client, bucket, UPLOADS, moment, limit, add, total)


def _sizes(entries: Iterable[Element]) -> list[int]:
    sizes = [text(entry, "Size") for entry in entries]
    if not all(size.isdigit() and len(size) < 20 for size in sizes):
        raise Unanswered("failed", "a listing gives a size that is no number", "unreadable answer")
    return [int(size) for size in sizes]
