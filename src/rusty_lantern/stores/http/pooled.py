"""The same work on many entries, a few at the same time."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from typing import TypeVar

AT_ONCE = 8
"""Entries that are worked on at the same time: identities, as a rule."""

T = TypeVar("T")
U = TypeVar("U")


async def pooled(work: Callable[[T], Awaitable[U]], entries: Iterable[T]) -> list[U]:
    """What comes of the work on each entry, in their order; a few at the same time."""
    left = iter(enumerate(entries))
    results: dict[int, U] = {}

    async def worker() -> None:
        for number, entry in left:
            results[number] = await work(entry)

    async with asyncio.TaskGroup() as group:
        for _ in range(AT_ONCE):
            group.create_task(worker())
    return [results[number] for number in sorted(results)]
