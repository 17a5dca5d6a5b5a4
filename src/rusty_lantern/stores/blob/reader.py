"""Reading one account of a store of the blob protocol: its containers, their settings and blobs."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass
from typing import Any, ClassVar, TypeVar

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.bucket import Bucket, Encryption, LinkPolicy, Lock, Logging, ProbeAnswer, Website
from rusty_lantern.core.model.capabilities import BLOB, Capabilities
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.blob.anonymous_request import ask_anonymously
from rusty_lantern.stores.blob.documents import (
    RIGHTS,
    Container,
    ListedBlob,
    ServiceProperties,
    level_of,
    read_blobs,
    read_containers,
    read_policies,
    read_properties,
    redundancy_of,
    rights_of,
)
from rusty_lantern.stores.blob.object_details import BlobObjects
from rusty_lantern.stores.blob.shared_key import HEADERS, account_of, shared_key, signed_link
from rusty_lantern.stores.count import Count
from rusty_lantern.stores.crew import Crew, Learnt, spread, wanted_names
from rusty_lantern.stores.first_answer import reach_address
from rusty_lantern.stores.http.authorization import Authorization, Bearer
from rusty_lantern.stores.http.credentials import find_secret
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.http.reply import Memory, Reply
from rusty_lantern.stores.http_reader import HttpReader
from rusty_lantern.stores.reachability import Allowed, StoreReached
from rusty_lantern.stores.reader import Estimate, ObjectTable, SurveyOrder, WantedDetails

Query = tuple[tuple[str, str], ...]
CONTAINERS: Query = (("comp", "list"), ("include", "metadata,deleted,system"))
PROPERTIES: Query = (("comp", "properties"), ("restype", "service"))
ACCOUNT: Query = (("comp", "properties"), ("restype", "account"))
ACL: Query = (("comp", "acl"), ("restype", "container"))
BLOBS: Query = (
    ("comp", "list"), ("include", "snapshots,versions,deleted,deletedwithversions"), ("restype", "container"),
)  # fmt: skip
SITE = "$web"
"""The container that an account's static site is served from."""
MOST_PAGES = 1000
"""Pages of the list of containers."""
BY_MANAGEMENT = "only the account's management side has it: an export of its settings beside the store would say it"
CLASSIC = "the protocol's own logging is off; whether the management side records requests is not known"
T = TypeVar("T")


@dataclass(frozen=True)
class Account:
    """What one account showed before its containers were read."""

    containers: list[Container]
    properties: Answer[ServiceProperties]
    redundancy: Answer[str]


class BlobReader(HttpReader):
    """Reads one account."""

    capabilities: ClassVar[Capabilities] = BLOB

    def authorize(self) -> Authorization:
        """By the account's key, a signed link or a bearer token, as the estate file says."""
        store = self.visit.store
        secret = find_secret(store.credential, self.visit.folder)
        if store.credential.kind == "account-key":
            return shared_key(store, secret)
        return signed_link(store, secret) if store.credential.kind == "signed-link" else Bearer(secret)

    async def _ask(self, bucket: str = "", query: Query = ()) -> Reply:
        """One answer of 200. Raises `RequestFailed`."""
        reply = await self.client.ask(bucket, query, headers=HEADERS)
        read_status(reply)
        return reply

    async def account(self) -> Account:
        """The account's containers and service properties. Raises `RequestFailed` where the list is not given."""
        containers: list[Container] = []
        async for page in self._pages("", CONTAINERS, read_containers, MOST_PAGES):
            containers += page
        properties = await self._answer(PROPERTIES, lambda reply: read_properties(reply.body))
        spread = await self._answer(ACCOUNT, lambda reply: redundancy_of(reply.headers.get("x-ms-sku-name", "")))
        if spread.value == "":
            spread = Answer("failed", None, "the account does not say what kind it is", spread.evidence)
        return Account(sorted(containers, key=lambda one: one.name), properties, spread)

    async def _answer(self, query: Query, read: Callable[[Reply], T], bucket: str = "") -> Answer[T]:
        """The content of one answer."""
        question = "GET " + self.client.target(bucket)[1] + "?" + "&".join(f"{name}={value}" for name, value in query)
        try:
            value = read(await self._ask(bucket, query))
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.visit.moment))
        return Answer("known", value, "", Evidence(question, "200", self.visit.moment))

    async def _pages(
        self, bucket: str, query: Query, read: Callable[[bytes], tuple[list[T], str]], limit: int
    ) -> AsyncIterator[list[T]]:
        """The pages of one listing, at most `limit`; a last one that is empty where it is whole. Raises
        `RequestFailed`."""
        marker = ""
        for _ in range(limit):
            parameters = (*query, *((("marker", marker),) if marker else ()))
            entries, following = read((await self._ask(bucket, tuple(sorted(parameters)))).body)
            yield entries
            if following and following == marker:
                raise RequestFailed("failed", "the listing never ends: a page came twice", "endless list")
            marker = following
            if not marker:
                yield []
                return

    async def reach(self) -> StoreReached:
        """Address, transport, clock, credential, and which settings this credential is shown."""
        reached = await reach_address(self.client, self.visit.moment)
        if not reached.answers:
            return reached
        try:
            account = await self.account()
        except RequestFailed as error:
            state: Any = "refused" if error.state == "denied" else "not tried"
            return msgspec.structs.replace(reached, credential=state, note=error.note)
        names = [one.name for one in account.containers]
        sample = spread(names)
        acls = await asyncio.gather(*(self._answer(ACL, lambda reply: None, name) for name in sample))
        refused = [name for name, answer in zip(sample, acls, strict=True) if not answer.settled]
        policies: Allowed = "no" if refused else "yes"
        settings: Allowed = "yes" if account.properties.settled else "no"
        return msgspec.structs.replace(
            reached,
            credential="accepted",
            buckets=len(names),
            sampled=len(sample),
            questions={"rights": "yes", "link_policies": policies, "logging": settings, "soft_delete": settings},
            refused={"link_policies": refused} if refused else {},
        )

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        """The ACL and one page of the listing of each container. Raises `RequestFailed`."""
        pace = self.visit.store.pace
        start = asyncio.get_running_loop().time()
        account = await self.account()
        latency = (asyncio.get_running_loop().time() - start) / 3
        names = wanted_names([one.name for one in account.containers], self.visit.store.only, only)
        questions = 3 + 2 * len(names)
        seconds = questions / min(pace.per_second, pace.at_once / max(latency, 0.001))
        return Estimate(len(names), questions, seconds, 1 + len(names))

    async def survey(self, order: SurveyOrder) -> Dossier:
        """Every container's settings. Never raises for what the store does: that is in the dossier."""
        visit, moment = self.visit, self.visit.moment
        question = f"GET {self.client.target('')[1]}?comp=list"
        try:
            account = await self.account()
        except RequestFailed as error:
            return visit.dossier(BLOB, Answer(error.state, None, error.note, Evidence(question, error.answer, moment)))
        listed = {one.name: one for one in account.containers}
        wanted = wanted_names(list(listed), visit.store.only, order.only)

        async def read_one(name: str, learnt: Learnt) -> Bucket:
            return await self._container(listed[name], account, order)

        evidence = Evidence(question, "200", moment)
        return visit.dossier(
            BLOB,
            Answer("known", len(listed), "", evidence),
            account=Answer("known", account_of(visit.store.at), "", evidence),
            buckets=await Crew(visit.store, read_one, order.advanced).read(wanted),
        )

    async def _container(self, entry: Container, account: Account, order: SurveyOrder) -> Bucket:
        evidence = Evidence(f"GET {self.client.target('')[1]}?comp=list", "200", self.visit.moment)
        policies, level = await self._acl(entry.name)
        rights = rights_of(max(entry.level, level or "", key=tuple(RIGHTS).index))  # both say it; the wider counts
        site = account.properties.map(lambda properties: properties.website)
        fields: dict[str, Any] = BLOB.of_bucket() | {
            "owner": Answer("known", account_of(self.visit.store.at)),
            "granted_by": Answer("known", "bucket"),
            "rights": Answer("known", rights, "", evidence),
            "link_policies": policies,
            "tags": _unless_none(Answer("known", entry.metadata, "", evidence)),
            "leased": _mark(entry.leased, evidence, "leases"),
            "legal_hold": _mark(entry.held, evidence, "legal holds"),
            "lock": _lock(entry, evidence),
            "encryption": Answer("known", Encryption("", key=entry.scope, enforced=entry.enforced), "", evidence),
            "redundancy": account.redundancy,
            "logging": _logging(account.properties),
            "soft_delete": _unless_none(account.properties.map(lambda properties: properties.soft_delete)),
            "cross_origin": _unless_none(account.properties.map(lambda properties: properties.cross_origin)),
            "website": Answer("absent") if entry.name != SITE else _site(site),
        }  # fmt: skip
        if entry.name == SITE:
            fields["rights"] = _with_site(fields["rights"], site)
        table = order.table_of(entry.name)
        fields |= await self._counted(entry.name, order.list_limit, table)
        bucket = Bucket(name=entry.name, **fields)
        return msgspec.structs.replace(bucket, table=await table.finish(bucket)) if table else bucket

    async def _acl(self, name: str) -> tuple[Answer[list[LinkPolicy]], Any]:
        """The policies for links that a container stores, and its level; None where that was not shown."""
        answer = await self._answer(ACL, lambda reply: (read_policies(reply.body), _level(reply)), name)
        if answer.value is None:
            return Answer(answer.state, None, answer.note, answer.evidence), None
        policies, level = answer.value
        return Answer("known" if policies else "absent", policies or None, "", answer.evidence), level

    async def _counted(self, name: str, limit: int, table: ObjectTable | None) -> dict[str, Answer[Any]]:
        """Blobs and what is beneath them, by listing them."""
        answers = table.instead(versioned=True) if table else None
        if answers is not None:
            return {"usage": answers[0], "versions": answers[1]}
        count = Count(whole=False)
        question = f"GET {self.client.target(name)[1]}?restype=container&comp=list"

        def take(page: list[ListedBlob]) -> None:
            versions = [one.version for one in page]
            count.add(versions, whole=not page)
            if table:
                table.take(versions)

        try:
            async for page in self._pages(name, BLOBS, read_blobs, limit):
                take(page)
        except RequestFailed as error:
            lost: Answer[Any] = Answer(
                error.state, None, error.note, Evidence(question, error.answer, self.visit.moment)
            )
            return {"usage": lost, "versions": lost}
        evidence = Evidence(question, "200", self.visit.moment)
        return {"usage": Answer("known", count.usage, "", evidence),
                "versions": Answer("known", count.versions, "", evidence)}  # fmt: skip

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> BlobObjects:
        """Looks at a container's blobs."""
        return BlobObjects(self.client, bucket, wanted.tags, memory)

    async def some_keys(self, bucket: str) -> list[str]:
        """Names of blobs of the first page that are there now."""
        page = await self._ask(bucket, (("comp", "list"), ("maxresults", "50"), ("restype", "container")))
        return [one.version.key for one in read_blobs(page.body)[0] if one.version.current]

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """One listing of a single name, or one byte of a blob."""
        return await ask_anonymously(self.outside, bucket, verb, request)


def _level(reply: Reply) -> str:
    return level_of(reply.headers.get("x-ms-blob-public-access", ""))


def _mark(value: bool | None, evidence: Evidence, what: str) -> Answer[bool]:
    if value is None:
        return Answer("failed", None, f"the list of containers does not show {what}", evidence)
    return Answer("known", value, "", evidence)


def _lock(entry: Container, evidence: Evidence) -> Answer[Lock]:
    """Whether something keeps what is in a container; for how long, only its management side says."""
    if entry.retained is None:
        return Answer("failed", None, "the list of containers does not show retention", evidence)
    if not entry.retained and not entry.by_version:
        return Answer("known", Lock(enabled=False), "", evidence)
    why = f"for how long, and whether that can be changed: {BY_MANAGEMENT}"
    return Answer("known", Lock(enabled=True, whole=entry.retained, default_unread=why), "", evidence)


def _logging(properties: Answer[ServiceProperties]) -> Answer[Logging]:
    """The protocol's own logging. Where it is off, the management side may record requests all the same."""
    if properties.value is None:
        return Answer(properties.state, None, properties.note, properties.evidence)
    logs = properties.value.logs
    if not logs:
        return Answer("failed", None, CLASSIC, properties.evidence)
    value = Logging("", "$logs", reads="Read" in logs, writes="Write" in logs and "Delete" in logs)
    return Answer("known", value, "", properties.evidence)


def _unless_none(answer: Answer[T]) -> Answer[T]:
    """The same answer, where an empty value says that nothing is configured."""
    if answer.value is None or answer.value:
        return answer
    return Answer("absent", None, answer.note, answer.evidence)


def _site(address: Answer[str | None]) -> Answer[Website]:
    if address.state == "known":
        return (
            Answer("absent", None, "", address.evidence)
            if address.value is None
            else (Answer("known", Website(address.value), "", address.evidence))
        )
    return Answer(address.state, None, address.note, address.evidence)


def _with_site(rights: Answer[list[Right]], address: Answer[str | None]) -> Answer[list[Right]]:
    """The rights with what the static site gives everybody, whatever the container's level and the account's switch."""
    if not address.settled:
        return Answer(address.state, None, f"whether a static site serves it: {address.note}", address.evidence)
    if address.value is None:
        return rights
    served = Right("anyone", ["read"], source="the static site of the account", door="web")
    return Answer("known", [*(rights.value or []), served], "", address.evidence)
