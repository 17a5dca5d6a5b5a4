"""What a mirror's copy lacks, key by key, by the version tables of both sides."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

import msgspec

from rusty_lantern.core.audit.replicas import Behind
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.table_set import Over, Source, VersionTable, open_source, over

_LACKING = """SELECT n, count(*) FILTER (epoch_us(written) <= due), count(*) FILTER (epoch_us(written) > due)
FROM {rows} a JOIN (SELECT unnest(range({tables})) AS n, unnest($due::BIGINT[]) AS due) USING (n)
WHERE current AND NOT marker AND NOT EXISTS
  (SELECT 1 FROM {copies} b WHERE b.n = a.n AND b.current AND NOT b.marker AND b.key = a.key) GROUP BY n"""
Pair = tuple[VersionTable, VersionTable, datetime, int]
"""The tables of an original and its copy, when the original was read, and the seconds that the copy may lag."""


class _Lacking(msgspec.Struct, frozen=True):
    """What copies lack, by the place of each original's table."""

    pairs: dict[Path, Pair]

    def __call__(self, source: Source) -> list[Behind]:
        pairs = [self.pairs[table.path] for table in source.tables]
        copies = open_source(source.engine, [copy for _, copy, _, _ in pairs], prefix="copy_")
        due = [microseconds(taken - timedelta(seconds=lag)) for _, _, taken, lag in pairs]
        query = _LACKING.format(rows=source.rows, copies=copies.rows, tables=len(pairs))
        behind = [Behind(0, 0) for _ in pairs]
        for n, overdue, recent in source.ask(query, {**copies.bound, "due": due}):
            behind[n] = Behind(overdue, recent)
        return behind


def lacking(pairs: Sequence[Pair], over: Over = over) -> list[Behind]:
    """Per pair the current objects of the original whose keys the copy lacks: overdue, and stored within the lag."""
    behind: dict[int, Behind] = {}
    while len(behind) < len(pairs):  # tables that are read together are different ones: a bucket may have two mirrors
        turn: dict[Path, int] = {}
        copies: set[Path] = set()
        for n, (original, copy, *_) in enumerate(pairs):
            if n not in behind and original.path not in turn and copy.path not in copies:
                turn[original.path] = n
                copies.add(copy.path)
        wanted = [pairs[n][0] for n in turn.values()]
        counted = over(wanted, _Lacking({path: pairs[n] for path, n in turn.items()}))
        behind |= zip(turn.values(), counted, strict=True)
    return [behind[n] for n in range(len(pairs))]


Key = tuple[str, str, int, int]
"""What some versions are encrypted with: by whom kept, which key, how many versions, how many bytes."""


class _Keys(msgspec.Struct, frozen=True):
    """The encryption keys in use in a table."""

    def __call__(self, source: Source) -> list[list[Key]]:
        keys: list[list[Key]] = [[] for _ in source.tables]
        query = (
            "SELECT n, coalesce(encryption, ''), coalesce(encryption_key, ''), count(*), "
            f"coalesce(sum(size), 0)::BIGINT FROM {source.rows} WHERE NOT marker GROUP BY 1, 2, 3 ORDER BY 4 DESC, 2, 3"
        )
        for n, by, key, versions, size in source.ask(query, {}):
            keys[n].append((by, key, versions, size))
        return keys


def keys_in(tables: Sequence[VersionTable], over: Over = over) -> list[list[Key]]:
    """Per table what its versions are encrypted with."""
    return over(tables, _Keys())
