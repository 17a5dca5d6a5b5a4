"""What readers of stores over HTTP have in common: a client with the credential, and one without."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Self

from rusty_lantern.stores.http.authorization import Authorization
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.reader import Visit


class HttpReader(ABC):
    """Opens and closes the clients of one visit. A reader says in `authorize` how its credential is shown."""

    def __init__(self, visit: Visit) -> None:
        self.visit = visit
        self.client = Client(visit.store, None, visit.folder, memory=visit.memory, log=visit.log)
        self.outside = Client(visit.store, None, visit.folder, log=visit.log)
        """Asks without credentials."""

    @abstractmethod
    def authorize(self) -> Authorization:
        """The credential that the estate file names. Raises `NoCredential`."""

    async def __aenter__(self) -> Self:
        self.client.auth = self.authorize()
        await self.client.__aenter__()
        await self.outside.__aenter__()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            await self.outside.__aexit__(kind, error, trace)
        finally:  # also where the survey is given up at this very moment
            await self.client.__aexit__(kind, error, trace)

    @property
    def questions_asked(self) -> int:
        """How many questions were put so far."""
        return self.client.questions_asked
