"""The same judging across an existing Dask cluster: one task a stretch of row groups, over tables in a shared folder.

A task runs the same function as one machine does and returns tallies, which join in any order; so the results are the
same by construction, also when a worker dies and its tasks are run again elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

import pyarrow.parquet as pq

from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.errors import BadInput, Problem
from rusty_lantern.core.object_rules.tally import Tally
from rusty_lantern.objects.evaluation import joined, tallies_of
from rusty_lantern.objects.table_set import VersionTable

GROUPS_A_TASK = 4
"""Row groups that one task reads: some 200,000 versions, which it holds in memory."""


class Cluster:
    """A Dask cluster that is running already, by its scheduler's address. Raises `BadInput` if it cannot be reached."""

    def __init__(self, scheduler: str, groups: int = GROUPS_A_TASK) -> None:
        try:
            from distributed import Client
        except ImportError:
            remedy = "install it with: pip install 'rusty-lantern[cluster]'"
            raise BadInput(Problem("--engine dask needs the extra `cluster`", remedy=remedy)) from None
        try:
            self._client: Any = Client(scheduler, timeout="10s", set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            what = f"no Dask scheduler answers at {scheduler}: {error}"
            raise BadInput(Problem(what, remedy="name a running one, e.g. tcp://127.0.0.1:8786")) from None
        self._groups = groups

    def close(self) -> None:
        """Leave the cluster; it goes on running."""
        self._client.close()

    def tallies(self, table: VersionTable, requirements: Sequence[Requirement], moment: datetime) -> list[Tally]:
        """One tally a requirement over a table."""
        groups = range(pq.ParquetFile(table.path).num_row_groups)
        placed = table._replace(path=table.path.resolve())
        tasks = [
            self._client.submit(part, placed, stretch, list(requirements), moment, pure=False, retries=3)
            for stretch in stretches(groups, self._groups)
        ]
        parts = self._client.gather(tasks)
        return joined(parts) if parts else [Tally() for _ in requirements]


def stretches(groups: range, size: int) -> Iterator[tuple[int, ...]]:
    """Row groups in stretches of at most `size`."""
    for start in range(0, len(groups), size):
        yield tuple(groups[start : start + size])


def part(
    table: VersionTable, groups: tuple[int, ...], requirements: list[Requirement], moment: datetime
) -> list[Tally]:
    """What a worker does: judge some row groups of a table."""
    rows = pq.ParquetFile(table.path).read_row_groups(list(groups))
    return tallies_of(rows, table, requirements, moment)
