"""The anonymous test through the other doors of a store: its Swift door, and whatever is in front of it."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from urllib.parse import quote, urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.config.estate import Credential
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.filer import ask_filer
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.swift.anonymous_request import ask_anonymously

NOBODY = Credential("none")


@dataclass(frozen=True)
class DoorProbe:
    """One door, asked without credentials."""

    name: str
    at: str
    """Its address; `{bucket}` in it is the bucket's name, which otherwise follows the address."""
    visit: Visit
    verbs: tuple[Verb, ...]
    asks: Callable[[Client, str, Verb, Request], Awaitable[ProbeAnswer]] = ask_anonymously
    """How a request is put below a bucket's path."""

    async def ask(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """Put one request. Never raises for what answers there."""
        at = self.at.replace("{bucket}", bucket) if "{bucket}" in self.at else f"{self.at}/{quote(bucket, safe='')}"
        entry = msgspec.structs.replace(self.visit.store, at=at, credential=NOBODY)
        async with Client(entry, None, self.visit.folder, log=self.visit.log) as outside:
            answer = await self.asks(outside, urlsplit(at).path.rstrip("/"), verb, request)
        return msgspec.structs.replace(answer, door=self.name)


def door_probes(visit: Visit, dossier: Dossier) -> list[DoorProbe]:
    """The doors of a store that can be asked without credentials: those of the dossier, and what is in front."""
    swift = [door for door in dossier.doors.value or () if door.name == "swift" and door.at]
    fronts = [entry for entry in visit.store.doors if entry.name == "web"]
    filers = [door for door in dossier.doors.value or () if door.name == "filer"]
    return [
        *(DoorProbe("filer", f"{door.at}/buckets", visit, ("list", "read"), ask_filer) for door in filers),
        *(DoorProbe("swift", door.at, visit, ("list", "read")) for door in swift),
        *(DoorProbe("web", entry.at, visit, ("read",)) for entry in fronts),
    ]
