"""Surveying one S3-compatible store: list its buckets, ask every settings question of each, yield a dossier."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Any, Protocol

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import OTHER_PROTOCOL, Bucket, Guards, Table, Usage, Versions
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.time_budget import Patience, patient
from rusty_lantern.stores.http.xml import child, children, name, parse, raw_text, text
from rusty_lantern.stores.s3.listing import Entry
from rusty_lantern.stores.s3.settings import (
    ACCOUNT_GUARDS,
    ACCOUNT_GUARDS_PATH,
    QUESTIONS,
    Question,
    error_code,
    read_answer,
    read_status,
)
from rusty_lantern.stores.s3.usage import LIST_LIMIT, Counting, ask_counters, read_time

EVERY_PAGE = 10_000_000
"""Pages of a listing that is to be whole."""
MAX_BUCKETS = 100_000
SCOUTS = 3
"""Buckets that are read first. What one alone does not offer may be that one's fault."""
MOST_WORKERS = 64
"""Buckets that are read at the same time where answers are late."""
MIN_WORKERS = 4
"""Buckets that are read at the same time; each puts all its questions at once, so a few keep a store busy, and the
memory in use does not grow with the number of buckets."""

BY_SUB_RESOURCE = {
    ask: [question for question in QUESTIONS if question.ask == ask] for ask in dict.fromkeys(q.ask for q in QUESTIONS)
}
"""Sub-resource → the questions that one answer settles."""

NOT_OFFERED: dict[str, Answer[Any]] = dict.fromkeys(OTHER_PROTOCOL, Answer("unsupported"))

_NO_SERVICE: Answer[Any] = Answer("failed", None, "not asked: estate.yaml names no identity service of the store")
_NO_DOSSIER: Answer[Any] = Answer("failed", None, "the protocol does not tell; a dossier beside the store can")
ELSEWHERE: dict[str, Answer[Any]] = {
    "network": Answer("unsupported"),
    **dict.fromkeys(("identities", "groups", "credentials"), _NO_SERVICE),
    **dict.fromkeys(("encryption_keys", "service", "links"), _NO_DOSSIER),
}
"""What the protocol does not tell of the store as a whole, and who could."""

COUNTED = frozenset({"counters", "quota"})
"""What the answer to HEAD may tell."""

Progress = Callable[[int, int], None]
"""Called with buckets done and buckets in all."""


class Looking(Protocol):
    """Looks at the objects of one bucket while it is surveyed."""

    def instead(self) -> tuple[Answer[Usage], Answer[Versions]] | None:
        """What is counted already, so that nothing needs to be listed."""

    def take(self, entries: list[Entry]) -> None:
        """A page of the listing of versions."""

    def restart(self) -> None:
        """The listing so far does not count: another kind of listing follows."""

    async def finish(self, bucket: Bucket) -> Answer[Table]:
        """What was kept of them, once everything else about the bucket is known."""


Look = Callable[[Client, str], Looking | None]
"""Begins to look at a bucket's objects; None where they are not to be looked at."""


async def survey(
    client: Client,
    moment: datetime,
    progress: Progress = lambda done, total: None,
    only: tuple[str, ...] = (),
    list_limit: int = LIST_LIMIT,
    look: Look = lambda client, bucket: None,
) -> Dossier:
    """Read every bucket's settings. Never raises for what the store does: that is in the dossier.

    A few buckets are read first: what the store offers none of them is not asked of the others.
    `only`: bucket patterns, besides those of the store's entry; `list_limit`: pages counted of one bucket.
    """
    transport = "tls" if client.store.at.startswith("https") else "plain"
    base = Dossier(store=client.store.name, taken=moment, address=client.store.at, transport=transport, **ELSEWHERE)  # type: ignore[arg-type]
    asked = "GET /"
    try:
        found, owner = await list_buckets(client)
    except RequestFailed as error:
        listing: Answer[int] = Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        return _with(base, listing=listing)
    wanted = [bucket for bucket in found if _wanted(client.store.only, bucket[0]) and _wanted(only, bucket[0])]
    account_guards = await _account_guards(client, owner, moment)
    crew = Crew(client, moment, list_limit, look, progress)
    buckets = await crew.read(wanted)
    return _with(
        base,
        account=Answer("known", owner, "", Evidence(asked, "200", moment)) if owner else Answer("absent"),
        guards=account_guards,
        listing=Answer("known", len(found), "", Evidence(asked, "200", moment)),
        buckets=buckets,
    )


class Crew:
    """Reads buckets, several at the same time.

    A bucket whose answers do not come keeps nobody waiting: others are begun beside it, and once it has lost the time
    that it may, what is left of it is failed. Whatever goes wrong with one bucket, the others are read.
    """

    def __init__(self, client: Client, moment: datetime, list_limit: int, look: Look, progress: Progress) -> None:
        self.client = client
        self.moment = moment
        self.list_limit = list_limit
        self.look = look
        self.progress = progress
        self.learnt: dict[str, Answer[Any]] = {}
        """What the store does not offer, by the first buckets."""
        self.read_so_far: list[Bucket] = []
        self.wanted = 0

    async def read(self, wanted: list[tuple[str, Answer[datetime]]]) -> list[Bucket]:
        """The buckets, in order of name."""
        self.wanted = len(wanted)
        self.progress(0, self.wanted)
        async with asyncio.TaskGroup() as group:
            settled = [asyncio.Event() for _ in wanted[:SCOUTS]]
            scouts = [
                group.create_task(self._one(*bucket, on_late=event.set))
                for bucket, event in zip(wanted, settled, strict=False)
            ]
            for scout, event in zip(scouts, settled, strict=True):
                await asyncio.wait({scout, group.create_task(event.wait())}, return_when=asyncio.FIRST_COMPLETED)
                event.set()
            self.learnt = _not_offered([scout.result() for scout in scouts if scout.done() and not scout.cancelled()])
            left = iter(wanted[SCOUTS:])
            at_work = 0

            def begin() -> None:
                nonlocal at_work
                if at_work < MOST_WORKERS:
                    at_work += 1
                    group.create_task(worker())

            async def worker() -> None:
                for bucket in left:
                    await self._one(*bucket, on_late=begin)

            for _ in range(max(MIN_WORKERS, self.client.store.pace.at_once // 4)):
                begin()
        return sorted(self.read_so_far, key=lambda b: b.name)

    async def _one(self, name: str, created: Answer[datetime], on_late: Callable[[], None]) -> Bucket:
        patience = Patience(self.client.store.patience.bucket, on_late)
        try:
            with patient(patience):
                looking = self.look(self.client, name)
                read = await read_bucket(self.client, name, created, self.moment, self.learnt, self.list_limit, looking)
        except LanternError:
            raise
        except Exception as error:  # whatever it is, it is this bucket's alone
            read = broken(name, created, error)
        self.read_so_far.append(read)
        self.progress(len(self.read_so_far), self.wanted)
        return read


def broken(name: str, created: Answer[datetime], error: Exception) -> Bucket:
    """A bucket that could not be read by a fault of ours."""
    lost: Answer[Any] = Answer("failed", None, defect(error))
    return Bucket(
        name=name, created=created, **{f: lost for f in Bucket.__struct_fields__ if f not in ("name", "created")}
    )


def _with(dossier: Dossier, **changes: Any) -> Dossier:
    return msgspec.structs.replace(dossier, **changes)


def _wanted(patterns: tuple[str, ...], bucket: str) -> bool:
    return not patterns or any(fnmatchcase(bucket, pattern) for pattern in patterns)


def _not_offered(scouts: list[Bucket]) -> dict[str, Answer[Any]]:
    """Dossier field → the answer that the store does not offer it, where each of the first buckets said so."""
    answers: dict[str, Answer[Any]] = {}
    for field in (*(question.field for question in QUESTIONS), *COUNTED):
        told = [getattr(bucket, field) for bucket in scouts]
        if told and all(answer.state == "unsupported" for answer in told):
            answers[field] = told[0]
    return answers


async def list_buckets(client: Client) -> tuple[list[tuple[str, Answer[datetime]]], str]:
    """Names and creation dates of all buckets, and the owner's id. Raises `RequestFailed`."""
    found: dict[str, Answer[datetime]] = {}
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
        listed, known = child(root, "Buckets"), len(found)
        for entry in children(listed, "Bucket") if listed is not None else ():
            found[raw_text(entry, "Name")] = _created(text(entry, "CreationDate"))
        token = text(root, "ContinuationToken")
        if not token or len(found) > MAX_BUCKETS:
            return sorted(found.items()), owner
        if token in seen or len(found) == known:
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


async def _account_guards(client: Client, owner: str, moment: datetime) -> Answer[Guards]:
    headers = {"x-amz-account-id": owner} if re.fullmatch("[0-9]{12}", owner) else {}
    asked = f"GET {ACCOUNT_GUARDS_PATH}"
    try:
        reply = await client.ask(path=ACCOUNT_GUARDS_PATH, headers=headers)
    except RequestFailed as error:
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
    except RequestFailed as error:
        lost: Answer[Any] = Answer(error.state, None, error.note, Evidence(asked, error.answer, moment))
        return {question.field: lost for question in questions}
    return {question.field: read_answer(question, reply, asked, moment) for question in questions}


async def read_bucket(
    client: Client,
    bucket: str,
    created: Answer[datetime],
    moment: datetime,
    learnt: dict[str, Answer[Any]],
    list_limit: int,
    looking: Looking | None = None,
) -> Bucket:
    """Ask everything about one bucket but what is learnt to be not offered."""
    fields: dict[str, Any] = NOT_OFFERED | learnt
    settings = [
        _ask_together(client, bucket, ask, asked, moment)
        for ask, asked in BY_SUB_RESOURCE.items()
        if not all(question.field in learnt for question in asked)
    ]
    for found in await asyncio.gather(*settings):
        fields |= found
    fields["created"] = msgspec.structs.replace(created, evidence=Evidence("GET /", "200", moment))
    fields["tenant"] = _tenant(fields["owner"])
    if not learnt.keys() >= COUNTED:
        fields["counters"], fields["quota"] = await ask_counters(client, bucket, moment)
    counting = Counting(client, bucket, moment, list_limit if looking is None else EVERY_PAGE)
    read = Bucket(name=bucket, **(fields | await _counted(counting, fields["counters"], looking)))
    if looking is None:
        return read
    try:
        table = await looking.finish(read)
    except LanternError:
        raise
    except Exception as error:  # whatever goes wrong with its objects, its settings are read
        table = Answer("failed", None, defect(error))
    grants = table.value.object_grants if table.value else None
    read = msgspec.structs.replace(read, table=table)
    if grants is None:
        return read
    return msgspec.structs.replace(read, object_grants=Answer("known", grants, "", table.evidence))


def _tenant(owner: Answer[str]) -> Answer[str]:
    """The tenant that an owner's id names as `TENANT$USER`, as gateways for several tenants write it."""
    if owner.value is None:
        return owner
    tenant, dollar, _ = owner.value.partition("$")
    return (
        Answer("known", tenant, "", owner.evidence) if dollar and tenant else Answer("absent", evidence=owner.evidence)
    )


async def _counted(counting: Counting, counters: Answer[Usage], looking: Looking | None) -> dict[str, Answer[Any]]:
    """How much there is: by listing, or where the estate file says so by the store's own counters."""
    if counting.client.store.counts == "counters" and looking is None:
        unlisted: Answer[Any] = Answer("failed", None, "not listed: the estate file asks for the store's own counters")
        return {"usage": counters, "versions": unlisted, "uploads": await counting.uploads()}
    counted = looking.instead() if looking else None
    if counted:
        return {"usage": counted[0], "versions": counted[1], "uploads": await counting.uploads()}
    take = looking.take if looking else lambda entries: None
    (usage, versions), uploads = await asyncio.gather(counting.versions(take), counting.uploads())
    if versions.value is None:
        if looking:
            looking.restart()
        usage = await counting.objects(take)
    return {"usage": usage, "versions": versions, "uploads": uploads}
