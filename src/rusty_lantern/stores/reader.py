"""What every reader of a store is: the seam between stores and the rest of the program.

`reach`, `survey`, `--dry-run`, `--resume` and `--probe` use a `StoreReader` and nothing else; `stores.kinds`
has the table of readers. A reader asks by GET and HEAD alone, never raises for what a store does (that is an answer
with its state), and yields a `Dossier`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, ClassVar, Protocol, Self

import msgspec

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.answer import Answer, lost
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.model.acl import ObjectGrant
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.bucket_contents import Table, Usage, Versions
from rusty_lantern.core.model.capabilities import Capabilities
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.stores.http.reply import Memory

if TYPE_CHECKING:
    from rusty_lantern.stores.reachability import StoreReached

LIST_LIMIT = 100
"""Pages of 1,000 entries that are counted of one bucket before counting stops."""


@dataclass(frozen=True)
class Visit:
    """One store that is to be read: its entry in estate.yaml, the moment, and where answers and log lines go."""

    store: StoreConfig
    folder: Path
    """The workspace: paths in estate.yaml are relative to it."""
    moment: datetime
    memory: Memory | None = None
    """Answers that are known already; new ones are kept there."""
    log: Callable[[dict[str, object]], None] | None = None
    """Given each question that was put, with its outcome; never a secret."""
    previous: Callable[[], Dossier | None] = lambda: None
    """Fetches the store's dossier of the survey before."""
    listed_elsewhere: tuple[str, ...] = ()
    """Buckets of any owner that another door of the store lists, as anybody may ask for them."""

    def dossier(self, capabilities: Capabilities, listing: Answer[int], **fields: Any) -> Dossier:
        """The store's dossier with these fields; what the protocol does not have is marked so. Where the buckets
        could not be listed, that is why the rest is not known."""
        at = self.store.at
        known: dict[str, Any] = {
            "store": self.store.name, "taken": self.moment, "address": at, "protocol": capabilities.protocol,
            "transport": "tls" if at.startswith("https") else "plain",
        }  # fmt: skip
        why = {} if listing.settled else dict.fromkeys(capabilities.tells_of_store, lost(listing))
        return Dossier(**known | why | capabilities.of_store() | {"listing": listing} | fields)


class WantedDetails(msgspec.Struct, frozen=True):
    """What is asked of each version besides its headers, since the baseline requires it: a question each."""

    tags: bool = False
    acl: bool = False
    """Its own ACL."""


class ObjectSource(Protocol):
    """Looks at the versions of one bucket."""

    async def inspect(self, version: ObjectVersion) -> ObjectVersion:
        """The version with everything that can be seen of it. Never raises for what the store does."""

    @property
    def granted(self) -> list[ObjectGrant]:
        """What ACLs that were read here grant."""


class ObjectTable(Protocol):
    """Keeps the versions of one bucket while it is listed."""

    def instead(self, *, versioned: bool) -> tuple[Answer[Usage], Answer[Versions]] | None:
        """What is counted already, so that nothing needs to be listed. `versioned`: whether the bucket may have old
        versions."""

    def take(self, versions: list[ObjectVersion]) -> None:
        """A page of the listing."""

    def restart(self) -> None:
        """The listing so far does not count: another kind of listing follows."""

    async def finish(self, bucket: Bucket) -> Answer[Table]:
        """What was kept of them, once everything else about the bucket is known."""


@dataclass(frozen=True)
class SurveyOrder:
    """What a survey wants of a store."""

    only: tuple[str, ...] = ()
    """Bucket patterns, besides those of the store's entry."""
    list_limit: int = LIST_LIMIT
    advanced: Callable[[int, int], None] = lambda done, total: None
    """Called with buckets done and buckets in all."""
    table_of: Callable[[str], ObjectTable | None] = field(default=lambda bucket: None)
    """Begins the table of a bucket's versions; None where its objects are not to be looked at."""


class Estimate(msgspec.Struct, frozen=True):
    """What a survey would cost: buckets, questions at least, seconds at least, and how many of the questions are pages
    of listings."""

    buckets: int
    questions: int
    seconds: float
    listings: int = 0


class StoreReader(Protocol):
    """Reads one store. Made from a `Visit`; asks nothing before it is entered."""

    capabilities: ClassVar[Capabilities]
    visit: Visit

    def __init__(self, visit: Visit) -> None: ...

    async def __aenter__(self) -> Self:
        """Open what is needed. Raises `NoCredential`."""

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Close it."""

    @property
    def questions_asked(self) -> int:
        """How many questions were put so far."""

    async def reach(self) -> StoreReached:
        """Whether the store answers, and what this credential may ask. Never raises for what the store does."""

    async def estimate(self, only: tuple[str, ...]) -> Estimate:
        """What a survey would cost. Raises `RequestFailed`."""

    async def survey(self, order: SurveyOrder) -> Dossier:
        """Everything that can be read. Never raises for what the store does: that is in the dossier."""

    def object_source(self, bucket: Bucket, wanted: WantedDetails, memory: Memory | None) -> ObjectSource:
        """Looks at a bucket's versions; `memory` keeps the answers."""

    async def some_keys(self, bucket: str) -> list[str]:
        """Keys of a few objects that are there, for the anonymous test. Raises `RequestFailed` where there is no
        list."""

    async def ask_anonymously(self, bucket: str, verb: Verb, request: Request) -> ProbeAnswer:
        """Put one list or read request without credentials. Never raises for what the store does."""
