"""What a mirror's copy lacks, key by key, by the version tables of both sides."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

from rusty_lantern.core.audit.replicas import Behind
from rusty_lantern.objects.duckdb_engine import microseconds, reading
from rusty_lantern.objects.table_set import Source, VersionTable, over


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


def keys_in(tables: Sequence[VersionTable]) -> list[list[tuple[str, str, int, int]]]:
    """Per table what its versions are encrypted with: by whom kept, which key, how many versions, how many bytes."""

    def asked(source: Source) -> list[list[tuple[str, str, int, int]]]:
        found: list[list[tuple[str, str, int, int]]] = [[] for _ in source.tables]
        query = (
            "SELECT n, coalesce(encryption, ''), coalesce(encryption_key, ''), count(*), "
            f"coalesce(sum(size), 0)::BIGINT FROM {source.rows} WHERE NOT marker GROUP BY 1, 2, 3 ORDER BY 4 DESC, 2, 3"
        )
        for n, by, key, versions, size in source.ask(query, {}):
            found[n].append((by, key, versions, size))
        return found

    return over(tables, asked)
