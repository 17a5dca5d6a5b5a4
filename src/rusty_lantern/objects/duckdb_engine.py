"""The column engine: of bounded memory, reading nothing but the files it is given; and where the tables are."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.errors import Damaged, Place, Problem
from rusty_lantern.core.file_names import file_name

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

MEMORY = "300MB"
"""What the column engine may hold before it spills to disk."""


def cores() -> int:
    """How many processors this process may use, as far as the system says."""
    return getattr(os, "process_cpu_count", os.cpu_count)() or 1


def table_path(folder: Path, store: str, bucket: str) -> Path:
    """Where a bucket's table is below a survey's folder; a bucket's name cannot lead out of it."""
    return _tables_of(folder, store) / f"{file_name(bucket)}.parquet"


@lru_cache(maxsize=256)
def _tables_of(folder: Path, store: str) -> Path:
    return folder / "objects" / store


@contextmanager
def engine(spill: Path | None = None) -> Iterator[DuckDBPyConnection]:
    """A column engine of bounded memory that reads nothing but the files it is given.

    One is started for a run; each use of it has tables of its own. `spill`: where it may put what memory cannot hold,
    which takes an engine of its own.
    """
    columns = _started().cursor() if spill is None else _start()
    try:
        columns.execute("SET TimeZone = 'UTC'")
        if spill is not None:
            columns.execute("SET temp_directory = $1", [str(spill)])
        yield columns
    finally:
        columns.close()


def use_threads(threads: int) -> None:
    """Start the engine of this process with so many threads, where it is not started yet."""
    _started(threads)


def _start(threads: int = 0) -> DuckDBPyConnection:
    import duckdb  # who reads what was counted before needs no engine

    columns = duckdb.connect(config={"threads": threads or cores(), "memory_limit": MEMORY})
    columns.execute("SET preserve_insertion_order = false")
    columns.execute("SET autoinstall_known_extensions = false")
    return columns


_only: list[DuckDBPyConnection] = []


def _started(threads: int = 0) -> DuckDBPyConnection:
    """The one engine of this process."""
    if not _only:
        _only.append(_start(threads))
    return _only[0]


@contextmanager
def reading(path: Path | None = None) -> Iterator[DuckDBPyConnection]:
    """The column engine, to read a kept table with. Raises `Damaged` if that is not what was written."""
    import duckdb

    with engine() as columns:
        try:
            yield columns
        except (duckdb.IOException, duckdb.InvalidInputException) as error:
            what = f"this version table cannot be read: {str(error).splitlines()[0]}"
            place = Place("/".join(path.parts[-4:])) if path else None
            remedy = "lantern history --verify names every altered file; restore it from a backup, or survey again"
            raise Damaged(Problem(what, place, remedy)) from None
        except duckdb.BinderException as error:
            if "Referenced column" not in str(error):
                raise
            what = "this version table was written by an earlier lantern, and lacks a column"
            place = Place("/".join(path.parts[-4:])) if path else None
            raise Damaged(Problem(what, place, "survey again")) from None


def microseconds(moment: datetime) -> int:
    """A moment as the column engine counts it."""
    return int(moment.timestamp()) * 1_000_000 + moment.microsecond
