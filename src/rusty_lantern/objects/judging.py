"""Object requirements held against version tables: one pass over a table, whatever the number of requirements."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
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


FIRST_ROWS = 100_000


def compiled(requirements: Iterable[Requirement], bucket: Bucket | None, moment: datetime) -> Compiled:
    """The requirements as columns."""
    made = Compiled(moment, bucket)
    for requirement in requirements:
        made.add(requirement)
    return made


def tallies(path: Path, requirements: Sequence[Requirement], bucket: Bucket | None, moment: datetime) -> list[Tally]:
    """One tally a requirement, over a whole table. Raises `BadInput` for an expression that cannot be run.

    Examples are looked for among the first rows, which have the first keys; only for what drifts more rarely than
    that are they looked for everywhere, in a second pass over its own columns.
    """
    if not requirements:
        return []
    rows = (
        "(SELECT * EXCLUDE file_row_number, file_row_number AS place FROM read_parquet($path, file_row_number = true))"
    )
    with engine() as columns:
        judging = Judging(columns, rows, {"path": str(path)}, bucket, moment)
        found = judging.tallies(requirements, within=FIRST_ROWS)
        rare = [n for n, tally in enumerate(found) if len(tally.examples) < min(EXAMPLES, tally.drifted)]
        again = judging.tallies([requirements[n] for n in rare])
        return [again[rare.index(n)] if n in rare else tally for n, tally in enumerate(found)]


def tallies_of(
    rows: pa.RecordBatchReader, requirements: Sequence[Requirement], bucket: Bucket | None, moment: datetime
) -> list[Tally]:
    """One tally a requirement, over part of a table."""
    with engine() as columns:
        columns.register("part", rows)
        return Judging(columns, "(SELECT *, 0 AS place FROM part)", {}, bucket, moment).tallies(requirements)


def joined(parts: Iterable[list[Tally]]) -> list[Tally]:
    """The tallies of several parts as those of the whole."""
    return [reduce(Tally.join, column) for column in zip(*parts, strict=True)]


@dataclass(frozen=True)
class Judging:
    """Judging over some rows: their source, what is bound to it, the bucket they are of, and the moment."""

    columns: DuckDBPyConnection
    rows: str
    bound: dict[str, Any]
    bucket: Bucket | None
    moment: datetime

    def tallies(self, requirements: Sequence[Requirement], within: int = 0) -> list[Tally]:
        """One tally a requirement; examples only from the first `within` rows, if that is not 0."""
        if not requirements:
            return []
        made = compiled(requirements, self.bucket, self.moment)
        states = ", ".join(f"{state} AS s{n}" for n, state in enumerate(made.states))
        here = f" AND place < {within:d}" if within else ""
        sums = ", ".join(
            f"count(*) FILTER (s{n} = 1), count(*) FILTER (s{n} = 0), count(*) FILTER (s{n} = 2), "
            f"count(*) FILTER (s{n} = 2 AND unsampled), coalesce(sum(size) FILTER (s{n} = 0), 0)::BIGINT, "
            f"min(key, {EXAMPLES}) FILTER (s{n} = 0{here})"
            for n in range(len(requirements))
        )
        source = SOURCE.format(rows=self.rows)
        judged = f"SELECT key, size, place, inspected = 'not sampled' AS unsampled, {states} FROM {source}"  # noqa: S608
        query = f"SELECT {sums} FROM ({judged})"  # noqa: S608
        needed = {name: value for name, value in made.bound.items() if f"${name}" in query}
        try:
            found = self.columns.execute(query, {**self.bound, **needed}).fetchone()
        except duckdb.InvalidInputException as error:
            if not any(r.comparison and r.comparison.how == "matches" for r in requirements):
                raise
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
