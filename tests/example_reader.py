"""The reader of an invented store, as docs/building.md shows it: shelves with leaflets, told as JSON over HTTP.

`GET /shelves` lists, `GET /shelves/NAME` tells settings, `GET /shelves/NAME/leaflets` tells what lies there, HEAD of a
leaflet tells its headers.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, ClassVar, Literal

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.acl import ObjectGrant, Right
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer, Versioning
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.core.model.capabilities import PROTOCOLS, Capabilities
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.stores.crew import Crew, wanted_names
from rusty_lantern.stores.http.authorization import Bearer
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find_token
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.json_answer import read_json
from rusty_lantern.stores.http.reply import Memory
from rusty_lantern.stores.http_reader import HttpReader
from rusty_lantern.stores.kinds import READERS
from rusty_lantern.stores.reachability import StoreReached
from rusty_lantern.stores.reader import Estimate, SurveyOrder, WantedDetails

SHELVES = Capabilities("shelves", frozenset({"created", "rights", "versioning", "tags", "usage"}), headers=("x-leaf-",))
PROTOCOLS["shelves"] = SHELVES
READERS["shelves"] = f"{__name__}:ShelfReader"


class Shelf(msgspec.Struct):
    """What the store tells of one shelf; `open_to`: nobody, readers who know a name, or everybody who looks."""

    made: datetime
    open_to: Literal["nobody", "readers", "everybody"]
    keeps_old: bool
    tags: dict[str, str]


class Leaflet(msgspec.Struct):
    """One object."""

    key: str
    size: int
    written: datetime


class ShelfReader(HttpReader):
    """Reads one store of shelves."""

    capabilities: ClassVar[Capabilities] = SHELVES

    def authorize(self) -> Bearer:
        return Bearer(find_token(self.visit.store.credential, self.visit.folder))

    async def _tell(self, path: str, wanted: type[Any]) -> Any:
        return read_json(await self.client.ask(path=path), wanted)

    async def reach(self) -> StoreReached:
        store = self.visit.store
        try:
            count, state, note = len(await self._tell("/shelves", list[str])), "accepted", ""
        except RequestFailed as error:
            count, state, note = 0, "refused", error.note
        told: Any = (None, state, note, count, 0, {"rights": "yes"} if not note else {}, {})
        return StoreReached(store.name, store.at, self.client.answers, "plain", *told)

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        names = wanted_names(await self._tell("/shelves", list[str]), only)
        return Estimate(len(names), 1 + 2 * len(names), 0.1 * len(names))

    async def survey(self, order: SurveyOrder) -> Dossier:
        store = self.visit.store
        try:
            names = await self._tell("/shelves", list[str])
        except RequestFailed as error:
            return self.visit.dossier(SHELVES, Answer(error.state, None, error.note))
        crew = Crew(store, lambda name, learnt: self._shelf(name, order), order.advanced)
        buckets = await crew.read(wanted_names(names, store.only, order.only))
        return self.visit.dossier(SHELVES, Answer("known", len(names)), buckets=buckets)

    async def _shelf(self, name: str, order: SurveyOrder) -> Bucket:
        fields: dict[str, Any] = SHELVES.of_bucket()
        asked = Evidence(f"GET /shelves/{name}", "200", self.visit.moment)
        try:
            shelf: Shelf = await self._tell(f"/shelves/{name}", Shelf)
            leaves: list[Leaflet] = await self._tell(f"/shelves/{name}/leaflets", list[Leaflet])
        except RequestFailed as error:
            lost: Answer[Any] = Answer(error.state, None, error.note, asked)
            return Bucket(name=name, **fields | dict.fromkeys(SHELVES.tells, lost))
        verbs: dict[str, list[Any]] = {"nobody": [], "readers": ["read"], "everybody": ["list", "read"]}
        rights = [Right("anyone", verbs[shelf.open_to])] if verbs[shelf.open_to] else []
        told: dict[str, Any] = {
            "created": shelf.made, "rights": rights, "versioning": Versioning("on" if shelf.keeps_old else "never"),
            "tags": shelf.tags, "usage": Usage(len(leaves), sum(leaf.size for leaf in leaves)),
        }  # fmt: skip
        bucket = Bucket(name=name, **fields | {key: Answer("known", value, "", asked) for key, value in told.items()})
        table = order.table_of(name)
        if table is None:
            return bucket
        table.take([ObjectVersion(key=leaf.key, size=leaf.size, written=leaf.written) for leaf in leaves])
        return msgspec.structs.replace(bucket, table=await table.finish(bucket))

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> ShelfObjects:
        return ShelfObjects(self.client, bucket.name, memory)

    async def some_keys(self, bucket: str) -> list[str]:
        return [leaf.key for leaf in await self._tell(f"/shelves/{bucket}/leaflets", list[Leaflet])]

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        path = f"/shelves/{bucket}/leaflets" + (f"/{request.key}" if verb == "read" else "")
        reply = await self.outside.ask(path=path)
        return ProbeAnswer(verb, f"GET {path}", str(reply.status), reply.status == 200)


class ShelfObjects:
    """Looks at the leaflets of one shelf."""

    granted: ClassVar[list[ObjectGrant]] = []

    def __init__(self, client: Client, shelf: str, memory: Memory | None) -> None:
        self.client, self.shelf, self.memory = client, shelf, memory

    async def inspect(self, version: ObjectVersion) -> ObjectVersion:
        path = f"/shelves/{self.shelf}/leaflets/{version.key}"
        reply = await self.client.ask(path=path, method="HEAD", memory=self.memory)
        if reply.status != 200:
            return msgspec.structs.replace(version, inspected="denied")
        tags = {"season": reply.headers["x-leaf-season"]} if "x-leaf-season" in reply.headers else {}
        kind = reply.headers.get("content-type")
        return msgspec.structs.replace(version, inspected="yes", content_type=kind, metadata=tags)
