"""Can a store be reached and asked? Address, transport, clock, credential, and which questions the key may ask."""

from __future__ import annotations

import asyncio
from datetime import datetime
from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.stores.crew import spread
from rusty_lantern.stores.first_answer import reach_address
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.reachability import WORST, Allowed, StoreReached
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.s3.account_door import ACCOUNT
from rusty_lantern.stores.s3.bucket_list import AT_ACCOUNT_DOOR, account_public_access_guards, list_buckets
from rusty_lantern.stores.s3.bucket_settings import ask_setting, find_region
from rusty_lantern.stores.s3.buckets_of_others import others_buckets, own_buckets
from rusty_lantern.stores.s3.legacy_signatures import takes_legacy_signatures
from rusty_lantern.stores.s3.listing import OBJECTS, UPLOADS, VERSIONS
from rusty_lantern.stores.s3.settings import QUESTIONS
from rusty_lantern.stores.s3.usage import Counting

ASKED = (
    "acl", "ownership", "policy", "public_status", "public_access_guards", "versioning", "encryption", "lock",
    "tags", "region",
    "logging", "lifecycle", "website", "cross_origin", "replication", "notifications", "requester_pays",
    "transfer_endpoint", "usage", "versions", "uploads",
)  # fmt: skip
"""The fields of a bucket whose questions are tried."""
_LISTINGS = {"usage": OBJECTS, "versions": VERSIONS, "uploads": UPLOADS}


async def reach(client: Client, visit: Visit) -> StoreReached:
    """Try a store. Never raises for what the store does."""
    moment = visit.moment
    start = await reach_address(client, moment)
    if not start.answers:
        return start
    try:
        listed = await list_buckets(client)
    except RequestFailed as error:
        credential: Literal["refused", "not tried"] = "refused" if error.state == "denied" else "not tried"
        return msgspec.structs.replace(start, credential=credential, note=error.note)
    names = [*own_buckets(listed, visit), *others_buckets(listed, visit)]
    sample = spread(names)
    answers = [await find_region(client, bucket, moment) for bucket in sample]
    regions = {bucket: answer.value or "NAME" for bucket, answer in zip(sample, answers, strict=True)}
    questions, refused = await _try_questions(client, sample, moment)
    legacy = await takes_legacy_signatures(client, moment)
    return msgspec.structs.replace(
        start, credential="accepted", buckets=len(names), sampled=len(sample), questions=questions, refused=refused,
        legacy_signatures=legacy.value, legacy_signatures_note=legacy.reason or legacy.note,
        other_regions=_unnamed(client, regions),
        unread=await _at_account_door(client, visit, listed.owner),
    )  # fmt: skip


async def _at_account_door(client: Client, visit: Visit, owner: str) -> dict[str, str]:
    """What the service shows at its account door alone, where nobody named that."""
    if any(door.name == ACCOUNT for door in visit.store.doors):
        return {}
    guards = await account_public_access_guards(client, owner, visit.moment)
    return {"public_access_guards": guards.note} if guards.note == AT_ACCOUNT_DOOR else {}


def _unnamed(client: Client, regions: dict[str, str]) -> dict[str, str]:
    """Regions of sampled buckets that the estate file has no address of. `regions`: bucket → its region."""
    unnamed = client.regions.unnamed
    return dict(sorted((unnamed[bucket].name or name, unnamed[bucket].at) for bucket, name in regions.items()
                       if bucket in unnamed))  # fmt: skip


async def _try_questions(
    client: Client, buckets: list[str], moment: datetime
) -> tuple[dict[str, Allowed], dict[str, list[str]]]:
    async def one(field: str, bucket: str) -> tuple[str, str, Allowed]:
        question = next((q for q in QUESTIONS if q.field == field), None)
        answer: Answer[Any] = (
            await ask_setting(client, bucket, question, moment)
            if question
            else await Counting(client, bucket, moment).given(_LISTINGS[field])
        )
        return field, bucket, _allowed(answer)

    tried = await asyncio.gather(*(one(field, bucket) for field in ASKED for bucket in buckets))
    questions: dict[str, Allowed] = {}
    refused: dict[str, list[str]] = {}
    for field, bucket, allowed in tried:
        known = questions.get(field)
        questions[field] = allowed if known is None or WORST.index(allowed) < WORST.index(known) else known
        if allowed in ("no", "failed"):
            refused.setdefault(field, []).append(bucket)
    return questions, refused


def _allowed(answer: Answer[Any]) -> Allowed:
    words: dict[str, Allowed] = {"denied": "no", "unsupported": "not offered", "failed": "failed"}
    return words.get(answer.state, "yes")
