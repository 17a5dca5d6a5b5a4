"""Ctrl-C, so that it always ends the program.

Python raises `KeyboardInterrupt` wherever the program happens to be. While a module is imported that may be a place
where the error is lost: a callback that cannot raise, or a library that tries an import and takes any error for a
missing module. The program then goes on as if nobody had pressed a key. So an interrupt that comes during an import
waits until the import is over.
"""

from __future__ import annotations

import signal
import threading
from types import FrameType
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    from collections.abc import Coroutine

T = TypeVar("T")
AGAIN = 0.02
"""Seconds between two looks whether the import is over."""
IMPORTS = "<frozen importlib._bootstrap>"
"""The file that Python names for its own import system."""


class _Interrupts:
    """What handles the signal, and the timer's after it."""

    came = False
    """Whether there was one, wherever it was raised."""

    def __call__(self, _: int, frame: FrameType | None) -> None:
        self.came = True
        waits = _imports(frame)
        signal.setitimer(signal.ITIMER_REAL, AGAIN if waits else 0)
        if not waits:
            raise KeyboardInterrupt


def _imports(frame: FrameType | None) -> bool:
    """Whether an import is under way in this frame or in one that called it."""
    while frame is not None:
        if frame.f_code.co_filename == IMPORTS:
            return True
        frame = frame.f_back
    return False


_interrupts = _Interrupts()


def ends_the_program() -> None:
    """From now on, an interrupt is raised where it cannot be lost. Does nothing where interrupts are ignored."""
    usual = signal.getsignal(signal.SIGINT) is signal.default_int_handler
    if usual and threading.current_thread() is threading.main_thread() and hasattr(signal, "setitimer"):
        signal.signal(signal.SIGINT, _interrupts)
        signal.signal(signal.SIGALRM, _interrupts)


def run(work: Coroutine[Any, Any, T]) -> T:
    """As `asyncio.run`, whose own way to end at an interrupt only works where nobody else handles interrupts."""
    import asyncio

    ours = signal.getsignal(signal.SIGINT) is _interrupts
    if not ours:
        return asyncio.run(work)
    signal.setitimer(signal.ITIMER_REAL, 0)
    if _interrupts.came:
        work.close()
        raise KeyboardInterrupt
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        return asyncio.run(work)
    finally:
        signal.signal(signal.SIGINT, _interrupts)
