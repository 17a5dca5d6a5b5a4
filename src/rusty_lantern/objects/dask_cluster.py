"""The same counting across an existing Dask cluster, over tables in a folder that its workers share.

A task counts over a stretch of tables with the function that one machine runs, or over some row groups of a large one.
Results are one a table, or join in any order; so they are the same by construction, also when a worker dies and its
tasks are run again elsewhere.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from typing import Any, TypeVar

import pyarrow as pa
import pyarrow.parquet as pq

from rusty_lantern.core.errors import BadInput, LanternError, Place, Problem
from rusty_lantern.objects.duckdb_engine import engine, use_threads
from rusty_lantern.objects.table_set import (
    MOST_ROWS,
    Count,
    MergingCount,
    VersionTable,
    open_source,
    stretches,
    together,
)

T = TypeVar("T")

GROUPS_A_TASK = 4
"""Row groups of a large table that one task reads: some 200,000 versions, which it holds in memory."""
TASKS_A_WORKER = 4
"""So many, so that one that is slow does not hold up the rest."""
AGAIN = 5
"""How often a result is asked for that the client lost its place in."""
LOOK_UP = 1.0
"""Seconds after which a wait for a task looks whether the cluster is still there."""
ADDRESS = re.compile(r"(?:tcp|tls|ws|wss)://(?:[A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\]):[0-9]{1,5}")
"""A scheduler's address, as Dask writes it."""
_SUCH_AS = "name a running one, e.g. tcp://127.0.0.1:8786"


class ClusterLost(LanternError):
    """The cluster went away before everything was counted."""

    exit_code = 3


class Cluster:
    """A Dask cluster that is running already, by its scheduler's address. Raises `BadInput` if it cannot be reached."""

    def __init__(self, scheduler: str, groups: int = GROUPS_A_TASK) -> None:
        try:
            from distributed import Client
        except ImportError:
            remedy = "install it with: pip install 'rusty-lantern[cluster]'"
            raise BadInput(Problem("--engine dask needs the extra `cluster`", remedy=remedy)) from None
        if ADDRESS.fullmatch(scheduler) is None:  # the client reports others as tracebacks
            raise BadInput(Problem(f'"{scheduler}" is no address of a Dask scheduler', remedy=_SUCH_AS))
        try:
            self._client: Any = Client(scheduler, timeout="10s", set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise BadInput(Problem(f"no Dask scheduler answers at {scheduler}: {error}", remedy=_SUCH_AS)) from None
        self._scheduler = scheduler
        self._groups = groups

    def close(self) -> None:
        """Leave the cluster; it goes on running."""
        self._client.close()

    def workers(self) -> int:
        """How many workers there are, at least one."""
        return max(1, len(self._client.scheduler_info(n_workers=-1)["workers"]))

    def call(self, work: Callable[..., T], *given: Any) -> T:
        """Have one worker do something; again by another if it dies. Raises what that raises, `ClusterLost`."""
        done: T = self._result(self._submit(work, *given))
        return done

    def over(self, tables: Sequence[VersionTable], count: Count[T]) -> list[T]:
        """The counts, one result a table, in order. Raises `Damaged`, `BadInput`, `ClusterLost`."""
        whole: list[tuple[list[int], Any]] = []
        parted: list[tuple[int, list[Any]]] = []
        try:
            share = sum(table.rows for table in tables) // (self.workers() * TASKS_A_WORKER)
            for numbers in stretches(tables, min(MOST_ROWS, max(1, share))):
                first = tables[numbers[0]]
                if first.rows > MOST_ROWS and isinstance(count, MergingCount):
                    parts = [self._submit(part, first, groups, count) for groups in self._row_groups(first)]
                    parted.append((numbers[0], parts))
                else:
                    whole.append((numbers, self._submit(whole_tables, [tables[n] for n in numbers], count)))
        except (OSError, TimeoutError, RuntimeError) as error:
            raise self._lost(error) from None
        results = {n: one for numbers, task in whole for n, one in zip(numbers, self._result(task), strict=True)}
        if isinstance(count, MergingCount):
            results |= {n: count.joined([self._result(one) for one in parts]) for n, parts in parted}
        return [results[n] for n in range(len(tables))]

    def _submit(self, *words: Any) -> Any:
        return self._client.submit(outcome, *words, pure=False)

    def _result(self, task: Any) -> Any:
        """The result of a task. Raises what the work raised, and `ClusterLost` for whatever else goes wrong.

        A client that is closed meanwhile, as when another task found the scheduler gone, wakes nobody who waits.
        """
        again = AGAIN
        while True:
            try:
                done, result = task.result(timeout=LOOK_UP)
            except TimeoutError as error:
                if self._client.status not in ("running", "connecting"):
                    raise self._lost(error) from None
                continue
            except UnboundLocalError as error:  # the client's own, when a worker dies while a result is fetched
                again -= 1
                if not again:
                    raise self._lost(error) from None
                time.sleep(1)
            except Exception as error:  # what the work raises comes back as a value
                raise self._lost(error) from None
            else:
                if done:
                    return result
                raise result

    def _lost(self, error: BaseException) -> ClusterLost:
        gone = isinstance(error, (OSError, TimeoutError, CancelledError, RuntimeError))
        happened = "went away" if gone else "could not do a task"
        what = f"the Dask cluster at {self._scheduler} {happened} ({type(error).__name__})"
        remedy = "start it again, with this version of lantern on every worker; or do without it: --engine here"
        return ClusterLost(Problem(what, remedy=remedy))

    def _row_groups(self, table: VersionTable) -> Iterator[tuple[int, ...]]:
        groups = range(pq.ParquetFile(table.path).num_row_groups)
        for start in range(0, len(groups), self._groups):
            yield tuple(groups[start : start + self._groups])


def outcome(work: Callable[..., T], *given: Any) -> tuple[bool, T | Exception]:
    """What a worker does: some work. What it raises comes back as a value, to be distinguished from what the cluster
    raises."""
    try:
        return True, work(*given)
    except Exception as error:
        return False, error


def whole_tables(tables: Sequence[VersionTable], count: Count[T]) -> list[T]:
    """What a worker does: count over a stretch of tables."""
    _begin(tables)
    return together(tables, count)


def part(table: VersionTable, groups: tuple[int, ...], count: Count[T]) -> T:
    """What a worker does: count over some row groups of a table."""
    _begin([table])
    rows = pq.ParquetFile(table.path).read_row_groups(list(groups))
    with engine() as columns:
        columns.register("part", rows.append_column("file_row_number", pa.array(range(rows.num_rows), pa.int64())))
        return count(open_source(columns, [table], only="part"))[0]


def _begin(tables: Sequence[VersionTable]) -> None:
    """Keep to the worker's own share of its machine, and see that the tables are there."""
    from distributed import get_worker

    use_threads(get_worker().state.nthreads)
    for table in tables:
        if not table.path.is_file():
            what = "a worker of the Dask cluster does not see this file"
            remedy = "share the workspace's folder with every worker, at the same path; or count here: --engine here"
            raise BadInput(Problem(what, Place(str(table.path)), remedy))
