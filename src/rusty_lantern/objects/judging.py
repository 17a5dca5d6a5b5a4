"""Object requirements held against version tables: one pass over a table, whatever the number of requirements."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import reduce
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb
import pyarrow as pa

from rusty_lantern.core.baseline.sheets import Requirement
from rusty_lantern.core.dossier import Bucket
from rusty_lantern.core.errors import BadInput, Complaint
from rusty_lantern.core.tally import EXAMPLES, Tally
from rusty_lantern.objects.columns import SOURCE, Compiled
from rusty_lantern.objects.tables import engine

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection


def compiled(requirements: Iterable[Requirement], bucket: Bucket | None, moment: datetime) -> Compiled:
    """The requirements as columns."""
    made = Compiled(moment, bucket)
    for requirement in requirements:
        made.add(requirement)
    return made


def tallies(path: Path, requirements: Sequence[Requirement], bucket: Bucket | None, moment: datetime) -> list[Tally]:
    """One tally a requirement, over a whole table. Raises `BadInput` for an expression that cannot be run."""
    if not requirements:
        return []
    with engine() as columns:
        return _tallied(columns, "read_parquet($path)", {"path": str(path)}, requirements, bucket, moment)


def tallies_of(
    rows: pa.RecordBatchReader, requirements: Sequence[Requirement], bucket: Bucket | None, moment: datetime
) -> list[Tally]:
    """One tally a requirement, over part of a table."""
    with engine() as columns:
        columns.register("part", rows)
        return _tallied(columns, "part", {}, requirements, bucket, moment)


def joined(parts: Iterable[list[Tally]]) -> list[Tally]:
    """The tallies of several parts as those of the whole."""
    return [reduce(Tally.join, column) for column in zip(*parts, strict=True)]


def _tallied(
    columns: DuckDBPyConnection,
    rows: str,
    bound: dict[str, Any],
    requirements: Sequence[Requirement],
    bucket: Bucket | None,
    moment: datetime,
) -> list[Tally]:
    made = compiled(requirements, bucket, moment)
    states = ", ".join(f"{state} AS s{n}" for n, state in enumerate(made.states))
    sums = ", ".join(
        f"count(*) FILTER (s{n} = 1), count(*) FILTER (s{n} = 0), count(*) FILTER (s{n} = 2), "
        f"count(*) FILTER (s{n} = 2 AND unsampled), "
        f"coalesce(sum(size) FILTER (s{n} = 0), 0)::BIGINT, min(key, {EXAMPLES}) FILTER (s{n} = 0)"
        for n in range(len(requirements))
    )
    judged = f"SELECT key, size, inspected = 'not sampled' AS unsampled, {states} FROM {SOURCE.format(rows=rows)}"  # noqa: S608
    query = f"SELECT {sums} FROM ({judged})"  # noqa: S608
    needed = {name: value for name, value in made.bound.items() if f"${name}" in query}
    try:
        found = columns.execute(query, {**bound, **needed}).fetchone()
    except duckdb.InvalidInputException as error:
        raise _refused(error, requirements) from None
    assert found is not None
    return [_tally(*found[n * 6 : n * 6 + 6]) for n in range(len(requirements))]


def _tally(held: int, drifted: int, unknown: int, unsampled: int, size: int, examples: list[str] | None) -> Tally:
    return Tally(held, drifted, unknown, unsampled, size, tuple(examples or ()))


def _refused(error: Exception, requirements: Sequence[Requirement]) -> BadInput:
    written = [r for r in requirements if r.comparison and r.comparison.how == "matches"]
    place = written[0].place if written else None
    what = f"an expression cannot be run over objects: {str(error).splitlines()[0]}"
    return BadInput(Complaint(what, place, "objects take expressions without look-around and back-references"))
