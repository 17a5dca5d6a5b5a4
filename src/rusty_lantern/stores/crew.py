"""Reading the buckets of a store, several at the same time, whatever some of them do."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import Any, TypeVar

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.stores.http.time_budget import Patience, patient

T = TypeVar("T")
SCOUTS = 3
"""Buckets that are read first. What one alone does not offer may be that one's fault."""
MOST_WORKERS = 64
"""Buckets that are read at the same time where answers are late."""
MIN_WORKERS = 4
"""Buckets that are read at the same time; each puts all its questions at once, so a few keep a store busy, and the
memory in use does not grow with the number of buckets."""

Learnt = dict[str, Answer[Any]]
"""Field of a bucket → the answer that the store does not offer it."""


@dataclass
class Crew:
    """Reads buckets, several at the same time.

    A bucket whose answers do not come keeps nobody waiting: others are begun beside it, and once it has lost the time
    that it may, what is left of it is failed. Whatever goes wrong with one bucket, the others are read.
    """

    store: StoreConfig
    read_one: Callable[[str, Learnt], Awaitable[Bucket]]
    """Reads one bucket; what is learnt to be not offered need not be asked."""
    advanced: Callable[[int, int], None] = lambda done, total: None
    learnable: tuple[str, ...] = ()
    """The fields that are not asked of the others where none of the first buckets is offered them."""
    learnt: Learnt = field(default_factory=dict)
    read_so_far: list[Bucket] = field(default_factory=list)
    wanted: int = 0

    async def read(self, wanted: list[str]) -> list[Bucket]:
        """The buckets, in order of name."""
        self.wanted = len(wanted)
        self.advanced(0, self.wanted)
        async with asyncio.TaskGroup() as group:
            settled = [asyncio.Event() for _ in wanted[:SCOUTS]]
            scouts = [
                group.create_task(self._one(bucket, on_late=event.set))
                for bucket, event in zip(wanted, settled, strict=False)
            ]
            for scout, event in zip(scouts, settled, strict=True):
                await asyncio.wait({scout, group.create_task(event.wait())}, return_when=asyncio.FIRST_COMPLETED)
                event.set()
            self._learn([scout.result() for scout in scouts if scout.done() and not scout.cancelled()])
            left = iter(wanted[SCOUTS:])
            at_work = 0

            def begin() -> None:
                nonlocal at_work
                if at_work < MOST_WORKERS:
                    at_work += 1
                    group.create_task(worker())

            async def worker() -> None:
                for bucket in left:
                    await self._one(bucket, on_late=begin)

            for _ in range(max(MIN_WORKERS, self.store.pace.at_once // 4)):
                begin()
        return sorted(self.read_so_far, key=lambda b: b.name)

    async def _one(self, name: str, on_late: Callable[[], None]) -> Bucket:
        try:
            with patient(Patience(self.store.patience.bucket, self.store.timeout, on_late)):
                read = await self.read_one(name, self.learnt)
        except LanternError:
            raise
        except Exception as error:  # whatever it is, it is this bucket's alone
            read = broken(name, error)
        self.read_so_far.append(read)
        self.advanced(len(self.read_so_far), self.wanted)
        return read

    def _learn(self, scouts: list[Bucket]) -> None:
        """Note what the store does not offer, where each of the first buckets said so."""
        for name in self.learnable:
            answers = [getattr(bucket, name) for bucket in scouts]
            if answers and all(answer.state == "unsupported" for answer in answers):
                self.learnt[name] = answers[0]


def broken(name: str, error: Exception) -> Bucket:
    """A bucket that could not be read by a fault of ours."""
    lost: Answer[Any] = Answer("failed", None, defect(error))
    return Bucket(name=name, **{f: lost for f in Bucket.__struct_fields__ if f != "name"})


def wanted_names(names: list[str], *choices: tuple[str, ...]) -> list[str]:
    """The names that every choice of patterns takes in; no patterns take in all."""
    return [name for name in names if all(not c or any(fnmatchcase(name, p) for p in c) for c in choices)]


SAMPLE = 64
"""How many buckets `reach` tries."""


def spread(names: list[str]) -> list[str]:
    """The names that represent all where a few are tried, spread over the list."""
    return names[:: max(1, len(names) // SAMPLE)][:SAMPLE]


AT_ONCE = 8


async def at_once(asking: Iterable[Awaitable[T]]) -> list[T]:
    """The answers to questions that do not hang on each other, in their order; a few are open at the same time."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(question: Awaitable[T]) -> T:
        async with gate:
            return await question

    return await asyncio.gather(*map(one, asking))
