"""Reading one account of a store of the open Swift protocol: its containers, their settings and objects."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from typing import Any, ClassVar, Self
from urllib.parse import quote, urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer, SharedQuota
from rusty_lantern.core.model.capabilities import SWIFT, Capabilities
from rusty_lantern.core.model.dossier import AclReading, Door, Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.count import Count
from rusty_lantern.stores.crew import Crew, Learnt, spread, wanted_names
from rusty_lantern.stores.first_answer import reach_address
from rusty_lantern.stores.http.authorization import Token
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory, Reply
from rusty_lantern.stores.http.some_page import SOME_PAGE
from rusty_lantern.stores.http_reader import HttpReader
from rusty_lantern.stores.reachability import Allowed, DoorReached, StoreReached
from rusty_lantern.stores.reader import Estimate, ObjectTable, SurveyOrder, Visit, WantedDetails
from rusty_lantern.stores.swift import listing
from rusty_lantern.stores.swift.anonymous_request import ask_anonymously
from rusty_lantern.stores.swift.headers import (
    HIDDEN,
    OWNERS_ONLY,
    SHOWN_BY_HEAD,
    account_fields,
    account_quotas,
    container_fields,
    is_gateway,
    shows_privileged,
    versions_kept_in,
    with_account_quotas,
    with_site,
)
from rusty_lantern.stores.swift.info import Info, ask_info
from rusty_lantern.stores.swift.object_details import SwiftObjects
from rusty_lantern.stores.swift.sources import with_copy_sources, with_version_sources
from rusty_lantern.stores.swift.token import fetch_token

PROOF = "perhaps every container: no header that only owners see is shown"
"""Said where nothing proves that the credential is shown ACLs."""
MOST_PAGES = 1000
"""Pages of the list of containers."""


@dataclass(frozen=True)
class Account:
    """What one account showed before its containers were read."""

    path: str
    head: Reply
    names: list[str]
    info: Info | None

    @property
    def gateway(self) -> bool:
        """Whether a gateway answers for it."""
        return is_gateway(self.head.headers)


class SwiftReader(HttpReader):
    """Reads one account."""

    capabilities: ClassVar[Capabilities] = SWIFT

    def __init__(self, visit: Visit) -> None:
        super().__init__(visit)
        self.refused: RequestFailed | None = None
        """Why the store gave no token."""
        self.info: Info | None = None
        """What the server says of itself; None where it was not asked, or does not say."""
        self.account_quotas: list[SharedQuota] = []
        self.kept_in: dict[str, tuple[str, bool] | None] = {}

    def authorize(self) -> Token:
        """A token, which is fetched before anything else is asked."""
        return Token()

    async def __aenter__(self) -> Self:
        await super().__aenter__()
        try:
            self.client.auth = await fetch_token(self.visit)
        except RequestFailed as error:
            self.refused = error
        except BaseException:
            await self.__aexit__(None, None, None)
            raise
        return self

    @property
    def path(self) -> str:
        """The path of the account."""
        return urlsplit(self.visit.store.at).path.rstrip("/")

    async def account(self) -> Account:
        """The account's own settings and its containers. Raises `RequestFailed`."""
        if self.refused:
            raise self.refused
        head = await self.client.ask(path=self.path, method="HEAD")
        listing.check(head, listing.OF_ACCOUNT)
        names: list[str] = []
        async for page in listing.pages(self.client, self.path, listing.Container, limit=MOST_PAGES):
            names += [container.name for container in page]
        self.info = await ask_info(self.outside, self.path)
        self.account_quotas = account_quotas(head.headers)
        return Account(self.path, head, names, self.info)

    async def reach(self) -> StoreReached:
        """Address, transport, clock, credential, and whether this credential is shown ACLs."""
        reached = await reach_address(self.client, self.visit.moment)
        if not reached.answers:
            return reached
        try:
            account = await self.account()
        except RequestFailed as error:
            state: Any = "refused" if error.state == "denied" else "not tried"
            return msgspec.structs.replace(reached, credential=state, note=error.note)
        sample = spread(account.names)
        heads = await asyncio.gather(*(self.client.ask(path=self._of(name), method="HEAD") for name in sample))
        sees = account.gateway or any(shows_privileged(reply.headers) for reply in (account.head, *heads))
        acls: Allowed = "yes" if sees else "no"
        refused = [name for name, head in zip(sample, heads, strict=True) if listing.OF_CONTAINER not in head.headers]
        settings: Allowed = "no" if refused else "yes"
        notes = {} if sees else {"container_acl": [PROOF]}
        return msgspec.structs.replace(
            reached,
            credential="accepted",
            buckets=len(account.names),
            sampled=len(sample),
            questions={"versioning": settings, "tags": settings, "container_acl": acls},
            refused=({"versioning": refused} if refused else {}) | notes,
            doors=tuple(DoorReached(one.name, one.at, False, one.note) for one in self.doors(account).value or ()),
        )

    def _of(self, container: str, key: str = "") -> str:
        return f"{self.path}/{quote(container, safe='')}" + (f"/{quote(key)}" if key else "")

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        """One HEAD and one page of the listing of each container. Raises `RequestFailed`."""
        pace = self.visit.store.pace
        start = asyncio.get_running_loop().time()
        names = wanted_names((await self.account()).names, only)
        latency = asyncio.get_running_loop().time() - start
        questions = 3 + 2 * len(names)
        seconds = questions / min(pace.per_second, pace.at_once / max(latency, 0.001))
        return Estimate(len(names), questions, seconds, 1 + len(names))

    async def survey(self, order: SurveyOrder) -> Dossier:
        """Every container's settings. Never raises for what the store does: that is in the dossier."""
        visit, moment = self.visit, self.visit.moment
        evidence = Evidence(f"GET {self.path}", "200", moment)
        try:
            account = await self.account()
        except RequestFailed as error:
            refused = Evidence(evidence.question, error.answer, moment)
            return visit.dossier(SWIFT, Answer(error.state, None, error.note, refused))
        wanted = wanted_names(account.names, visit.store.only, order.only)
        shown = [shows_privileged(account.head.headers)]

        async def read_one(name: str, learnt: Learnt) -> Bucket:
            return await self._container(name, order, shown)

        read = await Crew(visit.store, read_one, order.advanced).read(wanted)
        head = Evidence(f"HEAD {self.path}", str(account.head.status), moment)
        sees_all = any(shown)
        buckets = [as_shown(bucket) for bucket in read] if sees_all else read
        return visit.dossier(
            SWIFT,
            Answer("known", len(account.names), "", evidence),
            account=Answer("known", self.path.rpartition("/")[2], "", evidence),
            acl_reading=self.reading(account),
            doors=self.doors(account),
            buckets=self.with_sources(buckets),
            **account_fields(account.head.headers, head, sees_all=sees_all, gateway=account.gateway),
        )

    def with_sources(self, buckets: list[Bucket]) -> list[Bucket]:
        """The containers that were read, each with those through which others write to it: whose earlier versions it
        keeps, and which are synchronized to it. A gateway does not say of itself whether it keeps any so: where no
        container shows it, none does."""
        may_keep = self.info is None or self.info.versioned_writes is not None or any(self.kept_in.values())
        kept = with_version_sources(buckets, self.kept_in) if may_keep else buckets
        return with_copy_sources(kept, self.path.rpartition("/")[2])

    def doors(self, account: Account) -> Answer[list[Door]]:
        """The server's own S3 door, where it decides by what this protocol does not show: a gateway's policies and
        ACLs, which count at this door too, or ACLs of its own."""
        info = account.info
        parts = urlsplit(self.visit.store.at)
        root = f"{parts.scheme}://{parts.netloc}"
        if account.gateway:
            note = "a gateway does not show its policies and S3 ACLs at its Swift door: read this store by s3"
            return Answer("known", [Door("s3", root, note=note, found=True)])
        if info is None:
            return Answer("hidden", None, "the store does not say which protocols it answers")
        if info.s3api is None or not info.s3api.s3_acl:
            return Answer("known", [])
        note = "it keeps ACLs of its own, which this protocol does not show"
        return Answer("known", [Door("s3", root, note=note, found=True)])

    def reading(self, account: Account) -> AclReading:
        """Which kind of server reads the account's ACLs."""
        if account.gateway:
            return "gateway"
        store = self.visit.store
        if store.credential.kind == "keystone" or (store.identities and store.identities.kind == "keystone"):
            return "keystone"
        return "tempauth" if account.info is not None and account.info.own_users else ""

    async def head_of(self, name: str, shown: list[bool]) -> dict[str, Answer[Any]]:
        """What the HEAD of a container shows; `shown` gets whether it held what only owners are shown."""
        question = f"HEAD {self._of(name)}"
        try:
            reply = await self.client.ask(path=self._of(name), method="HEAD", headers={"origin": SOME_PAGE})
            listing.check(reply, listing.OF_CONTAINER)
        except RequestFailed as error:
            lost: Answer[Any] = Answer(
                error.state, None, error.note, Evidence(question, error.answer, self.visit.moment)
            )
            return dict.fromkeys(SHOWN_BY_HEAD, lost)
        shown.append(shows_privileged(reply.headers))
        self.kept_in[name] = versions_kept_in(reply.headers)
        evidence = Evidence(question, str(reply.status), self.visit.moment)
        fields = container_fields(reply.headers, evidence, gateway=is_gateway(reply.headers))
        info = self.info
        if info is not None and info.staticweb is not None and not is_gateway(reply.headers):
            fields["container_acl"] = with_site(fields["container_acl"], fields["website"])
        enforced = (
            info is not None and info.container_quotas is not None,
            info is not None and info.account_quotas is not None,
        )
        tier = reply.headers.get("x-storage-policy", "")
        return fields | {"quota": with_account_quotas(fields["quota"], tier, self.account_quotas, enforced)}

    async def _container(self, name: str, order: SurveyOrder, shown: list[bool]) -> Bucket:
        fields: dict[str, Any] = SWIFT.of_bucket() | await self.head_of(name, shown)
        fields["owner"] = Answer("known", self.path.rpartition("/")[2])
        fields["encryption"] = Answer("hidden", None, "the store shows it to its operators alone")
        table = order.table_of(name)
        versioning = fields["versioning"]
        versioned = versioning.value is not None and versioning.value.state != "never"
        fields |= await self._counted(name, order.list_limit, table, versioned=versioned)
        if versioning.unread and fields["versions"].settled:
            fields["versions"] = Answer(versioning.state, None, f"whether there are old versions: {versioning.note}")
        bucket = Bucket(name=name, **fields)
        return msgspec.structs.replace(bucket, table=await table.finish(bucket)) if table else bucket

    async def _counted(
        self, name: str, limit: int, table: ObjectTable | None, *, versioned: bool
    ) -> dict[str, Answer[Any]]:
        """Objects and versions, by listing them."""
        answers = table.instead(versioned=versioned) if table else None
        if answers is not None:
            return {"usage": answers[0], "versions": answers[1]}
        count = Count()
        query = (("versions", ""),) if versioned else ()
        question = f"GET {self._of(name)}?{'versions&' if versioned else ''}format=json"
        try:
            async for page in listing.pages(
                self.client, self._of(name), listing.ListedObject, limit=limit, query=query
            ):
                versions = [entry.version for entry in page if entry.name]
                count.add(versions, whole=len(page) < listing.PAGE)
                if table:
                    table.take(versions)
        except RequestFailed as error:
            lost: Answer[Any] = Answer(
                error.state, None, error.note, Evidence(question, error.answer, self.visit.moment)
            )
            return {"usage": lost, "versions": lost}
        evidence = Evidence(question, "200", self.visit.moment)
        return {"usage": Answer("known", count.usage, "", evidence),
                "versions": Answer("known", count.versions, "", evidence)}  # fmt: skip

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> SwiftObjects:
        """Looks at a container's objects."""
        return SwiftObjects(self.client, self._of(bucket.name), memory)

    async def some_keys(self, bucket: str) -> list[str]:
        """The first keys of a container."""
        async for page in listing.pages(self.client, self._of(bucket), listing.ListedObject, limit=1, size=50):
            return [entry.name for entry in page if entry.name]
        return []

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """One listing of a single name, or one byte of an object."""
        return await ask_anonymously(self.outside, self._of(bucket), verb, request)


def as_shown(bucket: Bucket) -> Bucket:
    """A container as a credential sees it that is shown ACLs: what it does not see is not set."""
    hidden = {name: getattr(bucket, name) for name in OWNERS_ONLY if getattr(bucket, name).note == HIDDEN}
    settled = {name: msgspec.structs.replace(answer, state="absent", note="") for name, answer in hidden.items()}
    return msgspec.structs.replace(bucket, **settled) if settled else bucket
