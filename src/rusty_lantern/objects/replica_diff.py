"""What a mirror's copy lacks, key by key, by the version tables of both sides."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

from rusty_lantern.core.audit.replicas import Behind
from rusty_lantern.objects.duckdb_engine import microseconds, reading


def lacking(original: Path, copy: Path, taken: datetime, lag: int) -> Behind:
    """Current objects of the original whose keys the copy lacks: overdue ones, and those stored within the lag."""
    due = microseconds(taken - timedelta(seconds=lag))
    with reading(original) as engine:
        row = engine.execute(
            "SELECT count(*) FILTER (epoch_us(written) <= ?), count(*) FILTER (epoch_us(written) > ?) "
            "FROM read_parquet(?) a WHERE current AND NOT marker AND NOT EXISTS "
            "(SELECT 1 FROM read_parquet(?) b WHERE b.current AND NOT b.marker AND b.key = a.key)",
            [due, due, str(original), str(copy)],
        ).fetchone()
    assert row is not None
    return Behind(int(row[0]), int(row[1]))


def keys_in(table: Path) -> list[tuple[str, str, int, int]]:
    """What a bucket's versions are encrypted with: by whom kept, which key, how many versions, how many bytes."""
    with reading(table) as engine:
        rows = engine.execute(
            "SELECT coalesce(encryption, ''), coalesce(encryption_key, ''), count(*), coalesce(sum(size), 0) "
            "FROM read_parquet(?) WHERE NOT marker GROUP BY 1, 2 ORDER BY 3 DESC, 1, 2",
            [str(table)],
        ).fetchall()
    return [(str(by), str(key), int(versions), int(size)) for by, key, versions, size in rows]
