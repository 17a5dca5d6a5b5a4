"""What a mirror's copy lacks, key by key, by the version tables of both sides."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

import msgspec

from rusty_lantern.core.audit.replicas import Behind
from rusty_lantern.objects.duckdb_engine import microseconds
from rusty_lantern.objects.table_set import Source, TableCounter, VersionTable, count_here, open_source

_LACKING = """SELECT n, count(*) FILTER (lacks AND stored <= due), count(*) FILTER (lacks AND stored > due),
  count(*) FILTER (NOT lacks AND stored <= due)
FROM (SELECT a.n, epoch_us(a.written) AS stored, b.key IS NULL AS lacks
  FROM (SELECT * FROM {rows} WHERE current AND NOT marker) a
  LEFT JOIN (SELECT * FROM {copies} WHERE current AND NOT marker) b ON a.n = b.n AND a.key = b.key
  WHERE b.key IS NULL OR a.size <> b.size
    OR a.etag <> b.etag AND (b.written < a.written - INTERVAL 5 MINUTE OR {hashed_a} AND {hashed_b}))
JOIN (SELECT unnest(range({tables})) AS n, unnest($due::BIGINT[]) AS due) USING (n) GROUP BY n"""
"""Of two objects of one key with the same size, other ETags show other content where both are hashes of it; else the
copy is of an earlier one where it was stored before the original, by more than clocks differ."""
_HASHED = "({side}.encryption IN ('none', 'provider-managed') AND regexp_full_match({side}.etag, '[0-9a-f]{{32}}'))"
"""Whether an ETag is the MD5 of the content: of what a key service or the client encrypted, or came in parts, it is
not."""
Pair = tuple[VersionTable, VersionTable, datetime, int]
"""The tables of an original and its copy, when the original was read, and the seconds that the copy may lag."""


class _Lacking(msgspec.Struct, frozen=True):
    """What copies lack, by the place of each original's table."""

    pairs: dict[Path, Pair]

    def __call__(self, source: Source) -> list[Behind]:
        pairs = [self.pairs[table.path] for table in source.tables]
        copies = open_source(source.engine, [copy for _, copy, _, _ in pairs], prefix="copy_")
        due = [microseconds(taken - timedelta(seconds=lag)) for _, _, taken, lag in pairs]
        query = _LACKING.format(
            rows=source.rows, copies=copies.rows, tables=len(pairs),
            hashed_a=_HASHED.format(side="a"), hashed_b=_HASHED.format(side="b"),
        )  # fmt: skip
        behind = [Behind(0, 0) for _ in pairs]
        for n, overdue, recent, outdated in source.ask(query, {**copies.bound, "due": due}):
            behind[n] = Behind(overdue, recent, outdated)
        return behind


def lacking(pairs: Sequence[Pair], counter: TableCounter = count_here) -> list[Behind]:
    """Per pair the current objects of the original whose keys the copy lacks, overdue and stored within the lag; and
    those that it has with other content."""
    behind: dict[int, Behind] = {}
    while len(behind) < len(pairs):  # tables that are read together are different ones: a bucket may have two mirrors
        turn: dict[Path, int] = {}
        copies: set[Path] = set()
        for n, (original, copy, *_) in enumerate(pairs):
            if n not in behind and original.path not in turn and copy.path not in copies:
                turn[original.path] = n
                copies.add(copy.path)
        wanted = [pairs[n][0] for n in turn.values()]
        counted = counter(wanted, _Lacking({path: pairs[n] for path, n in turn.items()}))
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


def keys_in(tables: Sequence[VersionTable], counter: TableCounter = count_here) -> list[list[Key]]:
    """Per table what its versions are encrypted with."""
    return counter(tables, _Keys())
