"""How long one bucket, or one store, may keep a survey waiting for answers that do not come.

A big bucket may take hours, as long as it answers. What counts is the time in which it does not: an answer that takes
longer than `USUAL`, or than half of what one may take at all, is late, and the time beyond is lost. Once a bucket has
lost all that it may, what is left of it is not asked any more. Questions that are under way at the same time lose the
same time once.

Whose question it is, the client sees by the context that it is asked in: tasks inherit it.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from types import TracebackType

from rusty_lantern.stores.http.errors import RequestFailed

TIMID = 2
"""Questions at once about a bucket that has not answered anything."""
BROKEN = 2.0
"""Seconds that a lost connection counts for."""
USUAL = 5.0
"""Seconds within which an answer is in time."""
MOST_WASTED = 48 << 20
"""Bytes of answers that were too large to be taken, after which a bucket is not asked any more."""


class FewFirst:
    """A few at a time, until all are let in."""

    def __init__(self, few: int) -> None:
        self._few = few
        self._inside = 0
        self._waiting: deque[asyncio.Future[None]] = deque()
        self._open = False

    async def __aenter__(self) -> None:
        while not self._open and self._inside >= self._few:
            turn = asyncio.get_running_loop().create_future()
            self._waiting.append(turn)
            try:
                await turn
            except asyncio.CancelledError:
                self._wake(1)
                raise
        self._inside += 1

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._inside -= 1
        if self._waiting:
            self._wake(1)

    def let_all_in(self) -> None:
        """From now on nobody waits."""
        self._open = True
        self._wake(len(self._waiting))

    def _wake(self, some: int) -> None:
        while some and self._waiting:
            turn = self._waiting.popleft()
            if not turn.done():
                turn.set_result(None)
                some -= 1


class Patience:
    """The time that is left for one bucket's late answers.

    `limit`: seconds that one answer may take at all. `on_late` is called when the first is late.
    """

    def __init__(self, seconds: float, limit: float, on_late: Callable[[], None] = lambda: None) -> None:
        self.seconds = seconds
        self.usual = min(USUAL, limit / 2)
        self.lost = 0.0
        self.late = False
        self._first = FewFirst(TIMID)
        self.answers = False
        """Whether it answered anything but that it is busy."""
        self._counted = 0.0
        self._wasted = 0
        self._on_late = on_late

    @property
    def left(self) -> float:
        """Seconds that may still be lost."""
        return max(0.0, self.seconds - self.lost)

    def turn(self) -> FewFirst:
        """Around each question: a bucket that has not answered anything yet is asked a few at once, no more."""
        return self._first

    def answered(self) -> None:
        """The bucket answered something."""
        if not self.answers:
            self.answers = True
            self._first.let_all_in()

    def waited(self, start: float, end: float, *, usual: float | None = None) -> None:
        """Count the time from `start` to `end` that a question was under way, as far as it was late."""
        begin = max(start + (self.usual if usual is None else usual), self._counted)
        if end <= begin:
            return
        self.lost += end - begin
        self._counted = end
        self.is_late()

    def is_late(self) -> None:
        """An answer is late: others need not wait for this bucket."""
        if not self.late:
            self.late = True
            self._on_late()

    def without_answer(self, why: str, most: int) -> None:
        """Count a question that got no usable answer. `most`: bytes that an answer may have."""
        if why == "too large":
            self._wasted += most
        elif why == "connection lost" and not self.answers:  # it costs time that others could have
            self.lost += BROKEN
            self.is_late()

    def check(self) -> None:
        """Raise `RequestFailed` once nothing is left."""
        if self.left <= 0:
            raise self.gone()
        if self._wasted > MOST_WASTED:
            raise RequestFailed("failed", "not asked any more: answers before were too large", "too large")

    def gone(self) -> RequestFailed:
        """The error for a question that nobody waits for any more."""
        return RequestFailed("failed", f"the store did not answer in time ({self.seconds:g} s lost)", "out of time")


CURRENT: ContextVar[Patience | None] = ContextVar("patience", default=None)


@contextmanager
def patient(patience: Patience) -> Iterator[Patience]:
    """Ask with this patience."""
    token = CURRENT.set(patience)
    try:
        yield patience
    finally:
        CURRENT.reset(token)


def nobody_waits() -> None:
    """An answer is late that belongs to no bucket."""
