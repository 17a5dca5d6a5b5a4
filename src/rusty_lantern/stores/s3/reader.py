"""Surveying one S3-compatible store: list its buckets, ask every settings question of each, yield a dossier."""

from __future__ import annotations

import asyncio
from typing import ClassVar

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import Answer, Evidence, unread
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.capabilities import S3, Capabilities
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.crew import Crew, Learnt, spread, wanted_names
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory
from rusty_lantern.stores.http_reader import HttpReader
from rusty_lantern.stores.reachability import StoreReached
from rusty_lantern.stores.reader import Estimate, SurveyOrder, Visit, WantedDetails
from rusty_lantern.stores.s3.account_door import ACCOUNT
from rusty_lantern.stores.s3.anonymous_request import ask_anonymously, some_keys
from rusty_lantern.stores.s3.bucket_list import AT_ACCOUNT_DOOR, account_public_access_guards, list_buckets
from rusty_lantern.stores.s3.bucket_settings import BY_SUB_RESOURCE, COUNTED, read_bucket
from rusty_lantern.stores.s3.buckets_of_others import answering, others_buckets, own_buckets
from rusty_lantern.stores.s3.legacy_signatures import takes_legacy_signatures
from rusty_lantern.stores.s3.object_details import Inspector
from rusty_lantern.stores.s3.reachability import reach
from rusty_lantern.stores.s3.settings import QUESTIONS

LEARNABLE = (*(question.field for question in QUESTIONS), *COUNTED)
LISTINGS = 3
"""Listings of each bucket: objects, versions, unfinished uploads; one page at least."""


class S3Reader(HttpReader):
    """Reads one S3-compatible store."""

    capabilities: ClassVar[Capabilities] = S3

    def authorize(self) -> Signed:
        """Signs with the access key, which is read anew when its session is over."""
        store, folder = self.visit.store, self.visit.folder
        return Signed(
            find(store.credential, folder), store.signing_place, find_again=lambda: find(store.credential, folder)
        )

    async def reach(self) -> StoreReached:
        """Address, transport, clock, credential, and which questions the key may ask."""
        return await reach(self.client, self.visit)

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        """The settings of each bucket and the first page of each listing; how many buckets of others may be asked is
        estimated from a few. Raises `RequestFailed`."""
        pace = self.visit.store.pace
        start = asyncio.get_running_loop().time()
        listed = await list_buckets(self.client)
        latency = asyncio.get_running_loop().time() - start
        own = wanted_names(list(own_buckets(listed, self.visit)), only)
        others = wanted_names(others_buckets(listed, self.visit), only)
        few = spread(others)
        buckets_asked = len(own) + len(others) * len(await answering(self.client, few)) // max(1, len(few))
        questions = 2 + len(others) + buckets_asked * (len(BY_SUB_RESOURCE) + LISTINGS)
        seconds = questions / min(pace.per_second, pace.at_once / max(latency, 0.001))
        return Estimate(len(own) + len(others), questions, seconds, 1 + LISTINGS * buckets_asked)

    async def survey(self, order: SurveyOrder) -> Dossier:
        """Every bucket's settings, and which signatures the store takes."""
        read = await survey(self.client, self.visit, order)
        if not read.listing.settled:
            return read
        try:
            legacy = await takes_legacy_signatures(self.client, self.visit.moment)
        except LanternError:
            raise
        except Exception as error:  # whatever goes wrong there, the buckets were read
            legacy = Answer("failed", None, defect(error))
        return msgspec.structs.replace(read, legacy_signatures=legacy)

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> Inspector:
        """Looks at a bucket's versions."""
        locks = not bucket.lock.settled or bool(bucket.lock.value and bucket.lock.value.enabled)
        disabled = bucket.ownership.value == "bucket-owner-enforced"
        return Inspector(self.client, bucket.name, wanted, locks, memory, disabled)

    async def some_keys(self, bucket: str) -> list[str]:
        """The first keys of a bucket."""
        return await some_keys(self.client, bucket)

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """One listing of a single key, or one byte of an object."""
        return await ask_anonymously(self.outside, bucket, verb, request)


async def survey(client: Client, visit: Visit, order: SurveyOrder) -> Dossier:
    """Read every bucket's settings. Never raises for what the store does: that is in the dossier.

    A few buckets are read first: what the store offers none of them is not asked of the others.
    """
    moment = visit.moment
    try:
        listed = await list_buckets(client)
    except RequestFailed as error:
        return visit.dossier(S3, Answer(error.state, None, error.note, Evidence("GET /", error.answer, moment)))
    created = own_buckets(listed, visit)
    others = wanted_names(others_buckets(listed, visit), visit.store.only, order.only)
    created |= dict.fromkeys(await answering(client, others), unread())
    owner = listed.owner

    async def read_one(name: str, learnt: Learnt) -> Bucket:
        return await read_bucket(client, name, created[name], moment, learnt, order.list_limit, order.table_of(name))

    at_own_door = any(door.name == ACCOUNT for door in visit.store.doors)
    guards = unread() if at_own_door else await account_public_access_guards(client, owner, moment)
    crew = Crew(visit.store, read_one, order.advanced, LEARNABLE)
    evidence = Evidence("GET /", "200", moment)
    buckets = await crew.read(wanted_names(list(created), visit.store.only, order.only))
    return visit.dossier(
        S3,
        Answer("known", len(listed.created), "", evidence),
        account=Answer("known", owner, "", evidence) if owner else Answer("absent"),
        public_access_guards=guards,
        buckets=[_with_points_unread(one, guards) for one in buckets],
    )


def _with_points_unread(bucket: Bucket, guards: Answer[Guards]) -> Bucket:
    """The bucket; where nobody named the door that shows the account's guards, that door shows its access points."""
    if guards.note != AT_ACCOUNT_DOOR:
        return bucket
    return msgspec.structs.replace(bucket, access_points=Answer("failed", None, AT_ACCOUNT_DOOR))
