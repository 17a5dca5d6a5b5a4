"""Object requirements over version tables: one pass, whatever the number of requirements, over many tables at once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import reduce
from typing import Any

import msgspec

from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.errors import BadInput, Problem
from rusty_lantern.core.object_rules.tally import EXAMPLES, Tally
from rusty_lantern.objects.sql import SOURCE, Compiled
from rusty_lantern.objects.table_set import Source, TableCounter, VersionTable, count_here

FIRST_ROWS = 100_000


def compiled(requirements: Iterable[Requirement], moment: datetime) -> Compiled:
    """The requirements as columns."""
    made = Compiled(moment)
    for requirement in requirements:
        made.add(requirement)
    return made


def tallies(
    tables: Sequence[tuple[VersionTable, Sequence[Requirement]]], moment: datetime, counter: TableCounter = count_here
) -> list[list[Tally]]:
    """Per table one tally a requirement, in order. Raises `BadInput` for an expression that cannot be run.

    Tables with the same requirements are judged together.
    """
    alike: dict[tuple[object, ...], list[int]] = {}
    for n, (_, requirements) in enumerate(tables):
        alike.setdefault(tuple((r.place, r.fact) for r in requirements), []).append(n)
    results: list[list[Tally]] = [[] for _ in tables]
    for numbers in alike.values():
        judging = Judging(tuple(tables[numbers[0]][1]), moment)
        for n, counted in zip(numbers, counter([tables[n][0] for n in numbers], judging), strict=True):
            results[n] = counted
    return results


class Judging(msgspec.Struct, frozen=True):
    """One tally a requirement. What is judged by: the requirements, and the moment.

    A state s is 0 failed, 1 ok, 2 unknown, 3 left out by the sample. Sums of s and s² are much quicker than a
    filtered count of each, and with the number of rows and of zeros they say how many there are of each.
    """

    requirements: tuple[Requirement, ...]
    moment: datetime

    def __call__(self, source: Source) -> list[list[Tally]]:
        """Per table one tally a requirement.

        Of many tables, examples are found while counting. In a large one that would be dear: there they are looked
        for among the first rows, which have the first keys, and beyond only for what drifts more rarely than that.
        """
        if len(source.tables) > 1:
            return self._counted(source, _SUMS + _EXAMPLES)
        (counts,) = self._counted(source, _SUMS)
        for where in (f"file_row_number < {FIRST_ROWS:d}", "true"):
            wanted = [n for n, tally in enumerate(counts) if len(tally.examples) < min(EXAMPLES, tally.failed)]
            part = Judging(tuple(self.requirements[n] for n in wanted), self.moment)
            (shown,) = part._counted(source, _NO_SUMS + _EXAMPLES, where)
            for n, tally in zip(wanted, shown, strict=True):
                counts[n] = msgspec.structs.replace(counts[n], examples=tally.examples)
        return [counts]

    def joined(self, parts: Sequence[list[Tally]]) -> list[Tally]:
        """The tallies of several parts as those of the whole."""
        return [reduce(Tally.join, column) for column in zip(*parts, strict=True)]

    def _counted(self, source: Source, sums: str, where: str = "true") -> list[list[Tally]]:
        if not self.requirements:
            return [[] for _ in source.tables]
        made = compiled(self.requirements, self.moment)
        states = ", ".join(f"{state} AS s{n}" for n, state in enumerate(made.states))
        columns = ", ".join(sums.format(s=f"s{n}") for n in range(len(made.states)))
        rows = SOURCE.format(rows=f"(SELECT * FROM {source.rows} WHERE {where})")
        query = f"SELECT n, {columns} FROM (SELECT n, key, size, {states} FROM {rows}) GROUP BY n"
        counts = [[Tally() for _ in self.requirements] for _ in source.tables]
        for n, *values in self._rows(source, query, made):
            width = len(values) // len(self.requirements)
            counts[n] = [_tally(*values[k : k + width]) for k in range(0, len(values), width)]
        return counts

    def _rows(self, source: Source, query: str, made: Compiled) -> list[tuple[Any, ...]]:
        import duckdb

        try:
            return source.ask(query, made.bound)
        except duckdb.InvalidInputException as error:
            expressions = any(r.comparison and r.comparison.how == "matches" for r in self.requirements)
            if not expressions or "parquet" in str(error).lower():
                raise
            raise _refused(error, self.requirements) from None


_SUMS = (
    "count({s}), sum({s})::BIGINT, sum({s} * {s})::BIGINT, sum(CASE {s} WHEN 0 THEN 1 ELSE 0 END)::BIGINT, "
    "sum(CASE {s} WHEN 0 THEN size ELSE 0 END)::BIGINT"
)
_NO_SUMS = "0, 0, 0, 0, 0"
_EXAMPLES = f", min(key, {EXAMPLES}) FILTER ({{s}} = 0)"


def _tally(
    rows: int,
    total: int | None,
    squares: int | None,
    failed: int | None,
    size: int | None,
    keys: Iterable[str] | None = None,
) -> Tally:
    """How many of each state there are, from the sums of the states and of their squares; sums of nothing are None."""
    others = rows - (failed or 0)
    unsampled = ((squares or 0) - others - 3 * ((total or 0) - others)) // 2
    unseen = (total or 0) - others - 2 * unsampled
    ok = others - unseen - unsampled
    return Tally(ok, failed or 0, unseen + unsampled, unsampled, size or 0, tuple(keys or ()))


def _refused(error: Exception, requirements: Sequence[Requirement]) -> BadInput:
    written = [r for r in requirements if r.comparison and r.comparison.how == "matches"]
    place = written[0].place if written else None
    what = f"an expression cannot be run over objects: {str(error).splitlines()[0]}"
    return BadInput(Problem(what, place, "objects take expressions without look-around and back-references"))
