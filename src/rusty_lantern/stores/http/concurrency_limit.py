"""How many questions may be under way at once: a limit that adapts to the store.

It starts low, rises by one for every full round of answers that came as quickly as the store is known to answer, and
halves when the store says it is busy or falls silent; never above the ceiling that the estate file sets.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable
from types import TracebackType

START = 8
SLOWER = 3.0
"""Answers that take this many times the quickest smoothed latency stop the limit from rising."""
SMOOTH = 0.1


class Gate:
    """An adaptive semaphore. `async with gate.turn(…):` around each question; `busy()` when the store pushes back."""

    def __init__(self, ceiling: int) -> None:
        self.ceiling = ceiling
        self.limit = float(min(START, ceiling))
        self.under_way = 0
        self.late = 0
        self._waiting: deque[asyncio.Future[None]] = deque()
        self._latency = self._quickest = 0.0

    def turn(self, late_after: float, on_late: Callable[[], None] = lambda: None) -> Turn:
        """A place among those under way. What takes longer than `late_after` seconds gives its place to others, and
        `on_late` is called."""
        return Turn(self, late_after, on_late)

    async def enter(self) -> None:
        """Wait for a place."""
        while self.under_way >= int(self.limit):
            turn = asyncio.get_running_loop().create_future()
            self._waiting.append(turn)
            try:
                await turn
            except asyncio.CancelledError:
                self._wake()
                raise
        self.under_way += 1

    def leave(self) -> None:
        """Give a place back."""
        self.under_way -= 1
        self._wake()

    def _wake(self) -> None:
        room = int(self.limit) - self.under_way
        while room > 0 and self._waiting:
            turn = self._waiting.popleft()
            if not turn.done():
                turn.set_result(None)
                room -= 1

    def answered(self, seconds: float) -> None:
        """An answer came after so long: rise if that is as quick as this store is known to be."""
        self._latency = seconds if not self._latency else self._latency + SMOOTH * (seconds - self._latency)
        self._quickest = min(self._quickest or self._latency, self._latency)
        if self._latency <= SLOWER * self._quickest + 0.005:
            self.limit = min(self.limit + 1 / self.limit, float(self.ceiling))
            self._wake()

    def busy(self) -> None:
        """The store asked for less, or fell silent: halve."""
        self.limit = max(1.0, self.limit / 2)


LATE = 3
"""How many times the ceiling may be under way besides, late and without a place."""


class Turn:
    """One question's place at a gate."""

    def __init__(self, gate: Gate, late_after: float, on_late: Callable[[], None]) -> None:
        self.gate = gate
        self.late_after = late_after
        self._on_late = on_late
        self._given_up = False
        self._timer: asyncio.TimerHandle | None = None

    async def __aenter__(self) -> None:
        await self.gate.enter()
        self._timer = asyncio.get_running_loop().call_later(self.late_after, self._late)

    def _late(self) -> None:
        self._on_late()
        if self.gate.late < LATE * self.gate.ceiling:
            self._given_up = True
            self.gate.late += 1
            self.gate.leave()

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._timer is not None:
            self._timer.cancel()
        if self._given_up:
            self.gate.late -= 1
        else:
            self.gate.leave()
