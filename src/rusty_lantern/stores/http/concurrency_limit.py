"""How many questions may be under way at once: a limit that adapts to the store.

It starts low, doubles with every full round of answers until the store becomes slower or pushes back for the first
time, and rises by one a round from then on, as long as answers come as quickly as the store is known to answer. It
halves when the store says it is busy or falls silent, and never goes above the ceiling that the estate file sets.
"""

from __future__ import annotations

import asyncio
import math
from collections import deque
from collections.abc import Callable
from types import TracebackType

START = 8
SLOWER = 3.0
"""Answers that take this many times the quickest smoothed latency stop the limit from rising."""
SMOOTH = 0.1


class ConcurrencyLimit:
    """An adaptive semaphore. `async with gate.turn(…):` around each question; `busy()` when the store pushes back.

    What takes longer than `late_after` seconds gives its place to others.
    """

    def __init__(self, ceiling: int, late_after: float = math.inf) -> None:
        self.ceiling = ceiling
        self.late_after = late_after
        self.limit = float(min(START, ceiling))
        self.under_way = 0
        self.late = 0
        self._waiting: deque[asyncio.Future[None]] = deque()
        self._in_time: dict[Slot, float] = {}
        """The turns that are not late, and since when each is under way: the first one the longest."""
        self._watch: asyncio.TimerHandle | None = None
        self._latency = self._quickest = 0.0
        self._doubles = True
        """Whether the store has not shown yet where its limit is."""

    def turn(self, on_late: Callable[[], None] = lambda: None) -> Slot:
        """A place among those under way. `on_late` is called when it takes too long."""
        return Slot(self, on_late)

    async def wait(self) -> None:
        """Wait for a place, which is counted as taken by whoever grants it."""
        place = asyncio.get_running_loop().create_future()
        self._waiting.append(place)
        try:
            await place
        except asyncio.CancelledError:
            if not place.cancelled():
                self.leave()
            raise

    def take(self) -> bool:
        """Take a place, if one is free."""
        if self.under_way >= int(self.limit):
            return False
        self.under_way += 1
        return True

    def began(self, turn: Slot) -> None:
        """A turn has its place: from now on it may be late."""
        loop = asyncio.get_running_loop()
        self._in_time[turn] = loop.time()
        if self._watch is None and self.late_after < math.inf:
            self._watch = loop.call_later(self.late_after, self._look)

    def leave(self) -> None:
        """Give a place back."""
        self.under_way -= 1
        self._grant()

    def ended(self, turn: Slot) -> None:
        """A turn is over: it cannot be late any more."""
        self._in_time.pop(turn, None)

    def _look(self) -> None:
        """Find who is late, and look again when the next one may be: one timer for all, not one a question."""
        now = asyncio.get_running_loop().time()
        self._watch = None
        while self._in_time:
            turn, since = next(iter(self._in_time.items()))
            if now < since + self.late_after:
                self._watch = asyncio.get_running_loop().call_at(since + self.late_after, self._look)
                return
            del self._in_time[turn]
            turn.is_late()

    def _grant(self) -> None:
        """Give the places that are free to those that wait, the first ones first."""
        while self._waiting and self.take():
            place = self._waiting.popleft()
            if place.done():
                self.under_way -= 1
            else:
                place.set_result(None)

    def answered(self, seconds: float) -> None:
        """An answer came after so long: rise if that is as quick as this store is known to be."""
        self._latency = seconds if not self._latency else self._latency + SMOOTH * (seconds - self._latency)
        self._quickest = min(self._quickest or self._latency, self._latency)
        if self._latency <= SLOWER * self._quickest + 0.005:
            self.limit = min(self.limit + (1 if self._doubles else 1 / self.limit), float(self.ceiling))
            self._grant()
        else:
            self._doubles = False

    def busy(self) -> None:
        """The store asked for less, or fell silent: halve."""
        self._doubles = False
        self.limit = max(1.0, self.limit / 2)


LATE = 3
"""How many times the ceiling may be under way besides, late and without a place."""


class Slot:
    """One question's place at a gate."""

    __slots__ = ("_gate", "_given_up", "_on_late")

    def __init__(self, gate: ConcurrencyLimit, on_late: Callable[[], None]) -> None:
        self._gate = gate
        self._on_late = on_late
        self._given_up = False

    async def __aenter__(self) -> None:
        if not self._gate.take():
            await self._gate.wait()
        self._gate.began(self)

    def is_late(self) -> None:
        """Tell whom it may concern, and give the place to others unless too many are late already."""
        self._on_late()
        if self._gate.late < LATE * self._gate.ceiling:
            self._given_up = True
            self._gate.late += 1
            self._gate.leave()

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._gate.ended(self)
        if self._given_up:
            self._gate.late -= 1
        else:
            self._gate.leave()
