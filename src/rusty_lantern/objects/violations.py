"""Which versions break a requirement: by prefix, or every one of them as a stream."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
import pyarrow as pa

from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.objects.duckdb_engine import reading
from rusty_lantern.objects.evaluation import compiled
from rusty_lantern.objects.sql import SOURCE, Compiled

PREFIXES = 20
LIST = pa.schema(
    [
        pa.field("bucket", pa.string()), pa.field("fact", pa.string()), pa.field("required", pa.string()),
        pa.field("observed", pa.string()), pa.field("key", pa.string()), pa.field("version", pa.string()),
        pa.field("current", pa.bool_()), pa.field("size", pa.int64()),
        pa.field("written", pa.timestamp("us", tz="UTC")),
    ]
)  # fmt: skip
"""Columns of the whole list of what breaks a requirement."""


class Prefix(msgspec.Struct, frozen=True):
    """What drifted below one prefix: keys up to their first `/`, or those without one."""

    prefix: str
    drifted: int
    checked: int
    bytes: int


def by_prefix(path: Path, requirement: Requirement, bucket: Bucket, moment: datetime) -> list[Prefix]:
    """The prefixes with the most drift, at most `PREFIXES`."""
    made = compiled([requirement], bucket, moment)
    query = (
        "SELECT prefix, count(*) FILTER (s = 0) AS drifted, count(*) FILTER (s < 2), "  # noqa: S608
        f"coalesce(sum(size) FILTER (s = 0), 0)::BIGINT FROM ({_judged(made)}) "
        f"GROUP BY prefix HAVING drifted > 0 ORDER BY drifted DESC, prefix LIMIT {PREFIXES}"
    )
    with reading(path) as columns:
        return [Prefix(*row) for row in columns.execute(query, _bound(made, path, query)).fetchall()]


def breaking(path: Path, requirement: Requirement, bucket: Bucket, moment: datetime) -> Iterator[pa.RecordBatch]:
    """Every version that breaks a requirement, as a stream of batches with the columns of `LIST`."""
    made = compiled([requirement], bucket, moment)
    query = (
        "SELECT $bucket::VARCHAR AS bucket, $fact::VARCHAR AS fact, $required::VARCHAR AS required, "  # noqa: S608
        "observed, key, version, current, size, make_timestamptz(written) AS written "
        f"FROM ({_judged(made)}) WHERE s = 0"
    )
    comparison = requirement.comparison
    said = {"bucket": bucket.name, "fact": requirement.fact, "required": comparison.words if comparison else ""}
    with reading(path) as columns:
        for batch in columns.sql(query, params=_bound(made, path, query) | said).to_arrow_reader(10_000):
            yield batch.cast(LIST)


def _judged(made: Compiled) -> str:
    prefix = "CASE WHEN contains(key, '/') THEN split_part(key, '/', 1) || '/' ELSE '' END AS prefix"
    value = f"CAST({made.values[0]} AS VARCHAR) AS observed"
    rows = SOURCE.format(rows="read_parquet($path)")
    return f"SELECT key, version, current, size, written, {prefix}, {value}, {made.states[0]} AS s FROM {rows}"  # noqa: S608


def _bound(made: Compiled, path: Path, query: str) -> dict[str, Any]:
    return {"path": str(path), **{name: value for name, value in made.bound.items() if f"${name}" in query}}
