"""Long lists into files: streamed, whole or not at all, safe to open in a spreadsheet."""

from __future__ import annotations

import csv
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from rusty_lantern.archive.errors import write_problem
from rusty_lantern.core.errors import BadInput, Problem
from rusty_lantern.objects.violations import list_columns
from rusty_lantern.reports.escape import safe

FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""A spreadsheet takes a text that begins so for a formula."""


def cell(value: Any) -> Any:
    """A value for CSV: no control characters, and nothing that a spreadsheet would calculate.

    >>> cell("=1+1"), cell(7)
    ("'=1+1", 7)
    """
    if not isinstance(value, str):
        return value
    text = safe(value)
    return f"'{text}" if text.startswith(FORMULA) else text


def write_list(out: Path, batches: Iterable[pa.RecordBatch]) -> int:
    """Write batches (`violations.list_columns`) as CSV or Parquet, by the file's name; how many rows there were.

    Raises `BadInput` for another kind of file, or one that cannot be written.
    """
    kind = out.suffix.lower()
    if kind not in (".csv", ".parquet"):
        raise BadInput(Problem(f"a list cannot be written as {kind or out.name}", remedy="use .csv or .parquet"))
    partial = out.with_name(out.name + ".partial")
    try:
        rows = _csv(partial, batches) if kind == ".csv" else _parquet(partial, batches)
        partial.rename(out)
    except OSError as error:
        raise BadInput(write_problem("cannot be written", out, error)) from None
    finally:
        with suppress(OSError):
            partial.unlink()
    return rows


def _csv(out: Path, batches: Iterable[pa.RecordBatch]) -> int:
    rows = 0
    with out.open("w", encoding="utf-8", newline="") as stream:
        writer = csv.writer(stream)
        writer.writerow(list_columns().names)
        for batch in batches:
            rows += batch.num_rows
            for row in batch.to_pylist():
                row["written"] = row["written"].strftime("%Y-%m-%dT%H:%M:%SZ") if row["written"] else ""
                writer.writerow([cell(row[name]) for name in list_columns().names])
    return rows


def _parquet(out: Path, batches: Iterable[pa.RecordBatch]) -> int:
    rows = 0
    with pq.ParquetWriter(out, list_columns(), compression="zstd") as writer:
        for batch in batches:
            rows += batch.num_rows
            writer.write_batch(batch)
    return rows
