"""Rows as a Parquet table, with Arrow types."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from io import BytesIO

COLUMNS = (
    "status", "severity", "store", "subject", "name", "fact", "required", "observed", "since", "reason", "because",
    "remedy", "sheet", "line", "question", "answer",
)  # fmt: skip


def parquet(rows: Sequence[dict[str, object]]) -> bytes:
    """The rows of a report; `since` is a moment in UTC, everything else text."""
    return typed_parquet(rows, dict.fromkeys(COLUMNS, "text") | {"since": "moment"})


def typed_parquet(rows: Sequence[Mapping[str, object]], kinds: Mapping[str, str]) -> bytes:
    """Rows as a table. `kinds`: column → `text`, `moment` (in UTC), `whole` or `amount`."""
    import pyarrow as pa
    from pyarrow import parquet as pq

    types = {"text": pa.string(), "moment": pa.timestamp("us", "UTC"), "whole": pa.int64(), "amount": pa.float64()}
    table = pa.table({name: pa.array([row[name] for row in rows], types[kind]) for name, kind in kinds.items()})
    held = BytesIO()
    pq.write_table(table, held, compression="zstd")
    return held.getvalue()
