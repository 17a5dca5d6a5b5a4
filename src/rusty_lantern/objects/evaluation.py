"""Object requirements ok against version tables: one pass over a table, whatever the number of requirements."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import reduce
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb
import msgspec

from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.errors import BadInput, Problem
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.object_rules.tally import EXAMPLES, Tally
from rusty_lantern.objects.duckdb_engine import engine, reading
from rusty_lantern.objects.sql import SOURCE, Compiled

if TYPE_CHECKING:
    import pyarrow as pa
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

    Everything is counted in one pass. Examples are then looked for among the first rows, which have the first keys,
    and only for what drifts more rarely than that everywhere.
    """
    rows = "(SELECT * EXCLUDE file_row_number FROM read_parquet($path, file_row_number = true) WHERE {where})"
    with reading(path) as columns:
        judging = Judging(columns, {"path": str(path)}, bucket, moment)
        found = judging.counted("read_parquet($path)", requirements)
        for where in (f"file_row_number < {FIRST_ROWS:d}", "true"):
            wanted = [n for n, tally in enumerate(found) if len(tally.examples) < min(EXAMPLES, tally.drifted)]
            examples = judging.examples(rows.format(where=where), [requirements[n] for n in wanted])
            for n, keys in zip(wanted, examples, strict=True):
                found[n] = msgspec.structs.replace(found[n], examples=tuple(keys))
        return found


def tallies_of(
    rows: pa.Table, requirements: Sequence[Requirement], bucket: Bucket | None, moment: datetime
) -> list[Tally]:
    """One tally a requirement, over part of a table."""
    with engine() as columns:
        columns.register("part", rows)
        judging = Judging(columns, {}, bucket, moment)
        counted, examples = judging.counted("part", requirements), judging.examples("part", requirements)
        return [msgspec.structs.replace(t, examples=tuple(k)) for t, k in zip(counted, examples, strict=True)]


def joined(parts: Iterable[list[Tally]]) -> list[Tally]:
    """The tallies of several parts as those of the whole."""
    return [reduce(Tally.join, column) for column in zip(*parts, strict=True)]


@dataclass(frozen=True)
class Judging:
    """Judging over some rows: what is bound to their source, the bucket they are of, and the moment."""

    columns: DuckDBPyConnection
    bound: dict[str, Any]
    bucket: Bucket | None
    moment: datetime

    def counted(self, rows: str, requirements: Sequence[Requirement]) -> list[Tally]:
        """One tally a requirement, without examples.

        A state s is 0 drifted, 1 held, 2 unknown, 3 left out by the sample. Sums of s and s² are much quicker than a
        filtered count of each, and with the number of rows and of zeros they say how many there are of each.
        """
        sums = ", ".join(
            f"count(s{n}), sum(s{n})::BIGINT, sum(s{n} * s{n})::BIGINT, "
            f"sum(CASE s{n} WHEN 0 THEN 1 ELSE 0 END)::BIGINT, sum(CASE s{n} WHEN 0 THEN size ELSE 0 END)::BIGINT"
            for n in range(len(requirements))
        )
        found = self._run(rows, requirements, sums)
        return [_tally(*(value or 0 for value in found[n * 5 : n * 5 + 5])) for n in range(len(requirements))]

    def examples(self, rows: str, requirements: Sequence[Requirement]) -> list[list[str]]:
        """Per requirement the first keys of what drifted, one for each version."""
        sums = ", ".join(f"min(key, {EXAMPLES}) FILTER (s{n} = 0)" for n in range(len(requirements)))
        return [list(keys or ()) for keys in self._run(rows, requirements, sums)]

    def _run(self, rows: str, requirements: Sequence[Requirement], sums: str) -> tuple[Any, ...]:
        if not requirements:
            return ()
        made = compiled(requirements, self.bucket, self.moment)
        states = ", ".join(f"{state} AS s{n}" for n, state in enumerate(made.states))
        query = f"SELECT {sums} FROM (SELECT key, size, {states} FROM {SOURCE.format(rows=rows)})"  # noqa: S608
        needed = {name: value for name, value in made.bound.items() if f"${name}" in query}
        try:
            return self.columns.execute(query, {**self.bound, **needed}).fetchone() or ()
        except duckdb.InvalidInputException as error:
            expressions = any(r.comparison and r.comparison.how == "matches" for r in requirements)
            if not expressions or "parquet" in str(error).lower():
                raise
            raise _refused(error, requirements) from None


def _tally(rows: int, total: int, squares: int, drifted: int, size: int) -> Tally:
    """How many of each state there are, from the sums of the states and of their squares."""
    others = rows - drifted
    unsampled = (squares - others - 3 * (total - others)) // 2
    unseen = total - others - 2 * unsampled
    return Tally(others - unseen - unsampled, drifted, unseen + unsampled, unsampled, size)


def _refused(error: Exception, requirements: Sequence[Requirement]) -> BadInput:
    written = [r for r in requirements if r.comparison and r.comparison.how == "matches"]
    place = written[0].place if written else None
    what = f"an expression cannot be run over objects: {str(error).splitlines()[0]}"
    return BadInput(Problem(what, place, "objects take expressions without look-around and back-references"))
