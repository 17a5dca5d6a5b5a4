"""Which versions break a requirement: by prefix, or every one of them as a stream."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from functools import cache
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.objects.duckdb_engine import reading
from rusty_lantern.objects.evaluation import compiled
from rusty_lantern.objects.sql import SOURCE, Compiled
from rusty_lantern.objects.table_set import Source, VersionTable, open_source

if TYPE_CHECKING:
    import pyarrow as pa

PREFIXES = 20


@cache
def list_columns() -> pa.Schema:
    """Columns of the whole list of what breaks a requirement."""
    import pyarrow as pa  # who lists nothing can do without it

    texts = ("bucket", "fact", "required", "observed", "key", "version")
    return pa.schema(
        [
            *(pa.field(name, pa.string()) for name in texts),
            pa.field("current", pa.bool_()), pa.field("size", pa.int64()),
            pa.field("written", pa.timestamp("us", tz="UTC")),
        ]
    )  # fmt: skip


class Prefix(msgspec.Struct, frozen=True):
    """What fails below one prefix: keys up to their first `/`, or those without one."""

    prefix: str
    failed: int
    checked: int
    bytes: int


def by_prefix(table: VersionTable, requirement: Requirement, moment: datetime) -> list[Prefix]:
    """The prefixes with the most drift, at most `PREFIXES`."""
    made = compiled([requirement], moment)
    with reading(table.path) as columns:
        source = open_source(columns, [table])
        query = (
            "SELECT prefix, count(*) FILTER (s = 0) AS failed, count(*) FILTER (s < 2), "
            f"coalesce(sum(size) FILTER (s = 0), 0)::BIGINT FROM ({_judged(made, source)}) "
            f"GROUP BY prefix HAVING failed > 0 ORDER BY failed DESC, prefix LIMIT {PREFIXES}"
        )
        return [Prefix(*row) for row in source.ask(query, made.bound)]


def failing_versions(
    table: VersionTable, bucket: str, requirement: Requirement, moment: datetime
) -> Iterator[pa.RecordBatch]:
    """Every version in a bucket's table that breaks a requirement, as a stream of batches; columns: `list_columns`."""
    made, comparison = compiled([requirement], moment), requirement.comparison
    said = {"bucket": bucket, "fact": requirement.fact, "required": comparison.words if comparison else ""}
    with reading(table.path) as columns:
        source = open_source(columns, [table])
        query = (
            "SELECT $bucket::VARCHAR AS bucket, $fact::VARCHAR AS fact, $required::VARCHAR AS required, "
            "observed, key, version, current, size, make_timestamptz(written) AS written "
            f"FROM ({_judged(made, source)}) WHERE s = 0"
        )
        rows = columns.sql(query, params=source.needed(query, made.bound | said))
        for batch in rows.to_arrow_reader(10_000):
            yield batch.cast(list_columns())


def _judged(made: Compiled, source: Source) -> str:
    prefix = "CASE WHEN contains(key, '/') THEN split_part(key, '/', 1) || '/' ELSE '' END AS prefix"
    value = f"CAST({made.values[0]} AS VARCHAR) AS observed"
    rows = SOURCE.format(rows=source.rows)
    return f"SELECT key, version, current, size, written, {prefix}, {value}, {made.states[0]} AS s FROM {rows}"
