"""Everything about one bucket: its settings, each by its sub-resource, and how much is in it."""

from __future__ import annotations

import asyncio
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket, CrossOrigin
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.some_page import EVERY_METHOD, SOME_PAGE, lets_in_any_page
from rusty_lantern.stores.reader import ObjectTable
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import QUESTIONS, Question
from rusty_lantern.stores.s3.usage import Counting, ask_counters

EVERY_PAGE = 10_000_000
"""Pages of a listing that is to be whole."""

BY_SUB_RESOURCE = {
    ask: [question for question in QUESTIONS if question.ask == ask] for ask in dict.fromkeys(q.ask for q in QUESTIONS)
}
"""Sub-resource → the questions that one answer settles."""

_FULL_NAMES = {"default": "us-east-1", "EU": "eu-west-1"}
"""What `?location` calls two regions in its own way. Source: the published protocol, GetBucketLocation."""
COUNTED = frozenset({"counters", "quota"})
"""What the answer to HEAD may hold."""


async def ask_setting(client: Client, bucket: str, question: Question, moment: datetime) -> Answer[Any]:
    """Put one settings question."""
    return (await _ask_together(client, bucket, question.ask, [question], moment))[question.field]


async def find_region(client: Client, bucket: str, moment: datetime) -> Answer[str]:
    """The region of a bucket; whatever else is asked about the bucket is asked there."""
    region = await ask_setting(client, bucket, BY_SUB_RESOURCE["location"][0], moment)
    if region.value:
        named = region.value in dict(client.store.regions)
        client.regions.lives_in(bucket, region.value if named else _FULL_NAMES.get(region.value, region.value))
    return region


async def _ask_together(
    client: Client, bucket: str, sub_resource: str, questions: list[Question], moment: datetime
) -> dict[str, Answer[Any]]:
    """Ask for a sub-resource once, and read the answer for every field that comes from it."""
    question_asked = f"GET /{bucket}?{sub_resource}"
    try:
        reply = await client.ask(
            bucket, ((sub_resource, ""),), headers={"origin": SOME_PAGE} if sub_resource == "cors" else None
        )
    except RequestFailed as error:
        lost: Answer[Any] = Answer(error.state, None, error.note, Evidence(question_asked, error.answer, moment))
        return {question.field: lost for question in questions}
    answers = {question.field: read_answer(question, reply, question_asked, moment) for question in questions}
    if sub_resource == "cors" and lets_in_any_page(reply.headers):
        answers["cross_origin"] = _with_any_page(answers["cross_origin"])
    return answers


def _with_any_page(rules: Answer[list[CrossOrigin]]) -> Answer[list[CrossOrigin]]:
    """The rules for pages of other origins, where the store itself lets in those of every one."""
    note = "the store lets in the pages of every origin, whatever the bucket's own rules"
    everybody = CrossOrigin(["*"], EVERY_METHOD)
    return Answer("known", [*(rules.value or ()), everybody], note, rules.evidence)


async def read_bucket(
    client: Client,
    bucket: str,
    created: Answer[datetime],
    moment: datetime,
    learnt: dict[str, Answer[Any]],
    list_limit: int,
    table: ObjectTable | None = None,
) -> Bucket:
    """Ask everything about one bucket but what is learnt to be not offered."""
    learnt = dict(learnt)  # of a late one of the first buckets: more may be learnt while it is read
    fields: dict[str, Any] = S3.of_bucket() | learnt
    if client.store.several_regions and "region" not in learnt:
        fields["region"] = learnt["region"] = await find_region(client, bucket, moment)
    settings = [
        _ask_together(client, bucket, ask, questions, moment)
        for ask, questions in BY_SUB_RESOURCE.items()
        if not all(question.field in learnt for question in questions)
    ]
    for answers in await asyncio.gather(*settings):
        fields |= answers
    fields["created"] = msgspec.structs.replace(created, evidence=Evidence("GET /", "200", moment))
    fields["tenant"] = _tenant(fields["owner"])
    if not learnt.keys() >= COUNTED:
        fields["counters"], fields["quota"] = await ask_counters(client, bucket, moment)
    counting = Counting(client, bucket, moment, list_limit if table is None else EVERY_PAGE)
    never = fields["versioning"].value is not None and fields["versioning"].value.state == "never"
    counts = await _counted(counting, fields["counters"], table, versioned=not never)
    read = Bucket(name=bucket, **fields | counts)
    if table is None:
        return read
    try:
        made = await table.finish(read)
    except LanternError:
        raise
    except Exception as error:  # whatever goes wrong with its objects, its settings are read
        made = Answer("failed", None, defect(error))
    acl = made.value.object_acls if made.value else None
    read = msgspec.structs.replace(read, table=made)
    if acl is None:
        return read
    return msgspec.structs.replace(read, object_acls=Answer("known", acl, "", made.evidence))


def _tenant(owner: Answer[str]) -> Answer[str]:
    """The tenant that an owner's id names as `TENANT$USER`, as gateways for several tenants write it."""
    if owner.value is None:
        return owner
    tenant, dollar, _ = owner.value.partition("$")
    return (
        Answer("known", tenant, "", owner.evidence) if dollar and tenant else Answer("absent", evidence=owner.evidence)
    )


async def _counted(
    counting: Counting, counters: Answer[Usage], table: ObjectTable | None, *, versioned: bool
) -> dict[str, Answer[Any]]:
    """How much there is: by listing, or where the estate file says so by the store's own counters."""
    if counting.client.store.counts == "counters" and table is None:
        unlisted: Answer[Any] = Answer("failed", None, "not listed: the estate file asks for the store's own counters")
        return {"usage": counters, "versions": unlisted, "uploads": await counting.uploads()}
    counted = table.instead(versioned=versioned) if table else None
    if counted:
        return {"usage": counted[0], "versions": counted[1], "uploads": await counting.uploads()}
    take = table.take if table else lambda versions: None
    (usage, versions), uploads = await asyncio.gather(counting.versions(take), counting.uploads())
    if versions.value is None:
        if table:
            table.restart()
        usage = await counting.objects(take)
    return {"usage": usage, "versions": versions, "uploads": uploads}
