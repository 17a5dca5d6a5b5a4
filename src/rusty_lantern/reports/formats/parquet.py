"""The report's rows as a Parquet table, with Arrow types."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO

COLUMNS = (
    "status", "severity", "store", "subject", "name", "fact", "required", "observed", "since", "reason", "because",
    "remedy", "sheet", "line", "question", "answer",
)  # fmt: skip


def parquet(rows: Sequence[dict[str, object]]) -> bytes:
    """The rows; `since` is a moment in UTC, everything else text."""
    import pyarrow as pa
    from pyarrow import parquet as pq

    kinds = {name: pa.timestamp("us", "UTC") if name == "since" else pa.string() for name in COLUMNS}
    table = pa.table({name: pa.array([row[name] for row in rows], kind) for name, kind in kinds.items()})
    held = BytesIO()
    pq.write_table(table, held, compression="zstd")
    return held.getvalue()
