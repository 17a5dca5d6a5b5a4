"""Version tables on disk: one Parquet file a bucket, one row a version, sorted by key and newest first.

Rows are written as a stream and read as columns; no table is ever whole in memory. A row of a key's current version
also says what is beneath it (`beneath_…`), so that the overwrite trap is found without looking at two rows at once. A
table is written beside its place and renamed into it.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec
import pyarrow as pa
import pyarrow.parquet as pq

from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.core.errors import Place, Problem
from rusty_lantern.core.model.bucket_contents import Table
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.objects.duckdb_engine import engine, reading

_WORD = pa.dictionary(pa.int32(), pa.string())
_MOMENT = pa.timestamp("us", tz="UTC")
_PAIRS = pa.map_(pa.string(), pa.string())

SCHEMA = pa.schema(
    [
        pa.field("key", pa.string(), nullable=False),
        pa.field("version", pa.string(), nullable=False),
        pa.field("current", pa.bool_(), nullable=False),
        pa.field("marker", pa.bool_(), nullable=False),
        pa.field("size", pa.int64(), nullable=False),
        pa.field("etag", pa.string(), nullable=False),
        pa.field("written", _MOMENT),
        pa.field("tier", _WORD, nullable=False),
        pa.field("inspected", _WORD, nullable=False),
        pa.field("content_type", _WORD),
        pa.field("cache_control", _WORD),
        pa.field("content_encoding", _WORD),
        pa.field("disposition", _WORD),
        pa.field("metadata", _PAIRS),
        pa.field("tags", _PAIRS),
        pa.field("encryption", _WORD),
        pa.field("encryption_key", _WORD),
        pa.field("mode", _WORD),
        pa.field("until", _MOMENT),
        pa.field("hold", pa.bool_()),
        pa.field("replication", _WORD),
        pa.field("checksum", _WORD),
        pa.field("expires", _MOMENT),
        pa.field("points_to", pa.string(), nullable=False),
        pa.field("public", _WORD),
        pa.field("beneath_until", _MOMENT),
        pa.field("beneath_hold", pa.bool_()),
        pa.field("beneath_unknown", pa.bool_()),
    ]
)
"""Columns as in `core.versions.Version`. An empty mode is no retention; null is not known."""

ABOUT = "lantern.table"
"""The file's own metadata key under which `core.dossier.Table` is kept as JSON."""
IN_MEMORY = 200_000
"""Listed entries that are sorted without a place to spill to."""
GROUP = 50_000
"""Rows of one row group."""


@contextmanager
def table_writer(path: Path) -> Iterator[TableWriter]:
    """Write a table, whole or not at all. Raises `CannotWrite`."""
    partial = path.with_suffix(".partial")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with pq.ParquetWriter(partial, SCHEMA, compression="zstd", use_dictionary=True) as stream:
            writer = TableWriter(stream)
            yield writer
            writer.flush()
        with partial.open("rb") as written:
            os.fsync(written.fileno())
        partial.rename(path)
    except OSError as error:
        what = f"a version table could not be written: {error.strerror or error}"
        raise CannotWrite(Problem(what, Place(str(path)), "make room, then: lantern survey --resume")) from None
    finally:
        partial.unlink(missing_ok=True)


class TableWriter:
    """Takes versions in order, and writes them in row groups."""

    def __init__(self, stream: pq.ParquetWriter) -> None:
        self.rows = 0
        self._stream = stream
        self._held: list[dict[str, Any]] = []
        self._key: list[ObjectVersion] = []

    def describe(self, table: Table) -> None:
        """Say in the file itself what it holds."""
        self._stream.add_key_value_metadata({ABOUT: msgspec.json.encode(table).decode()})

    def add(self, versions: Iterable[ObjectVersion]) -> None:
        """Add versions: by key, the newest of each first."""
        for version in versions:
            if self._key and self._key[0].key != version.key:
                self._settle()
            self._key.append(version)

    def flush(self) -> None:
        """Write what is held."""
        self._settle()
        if self._held:
            self._stream.write_table(pa.Table.from_pylist(self._held, SCHEMA))
            self._held = []

    def _settle(self) -> None:
        """Finish with the versions of one key."""
        for version in self._key:
            self._held.append({**_row(version), **(_beneath(version, self._key) if version.current else {})})
        self.rows += len(self._key)
        self._key = []
        if len(self._held) >= GROUP:
            self.flush()


def _row(version: ObjectVersion) -> dict[str, Any]:
    row = {name: getattr(version, name) for name in version.__struct_fields__}
    for name in ("metadata", "tags"):
        row[name] = None if row[name] is None else sorted(row[name].items())
    return row


def _beneath(current: ObjectVersion, versions: list[ObjectVersion]) -> dict[str, Any]:
    """What is beneath a current version: the latest retention, any hold, anything unknown."""
    old = [v for v in versions if v is not current and not v.marker]
    if not old:
        return {}
    return {
        "beneath_until": max((v.until for v in old if v.mode and v.until), default=None),
        "beneath_hold": any(v.hold for v in old),
        "beneath_unknown": any(v.mode is None or v.hold is None for v in old),
    }


def read_table(path: Path) -> Table | None:
    """What a table says of itself; None if there is no whole one."""
    if not path.is_file():
        return None
    said = (pq.read_metadata(path).metadata or {}).get(ABOUT.encode())
    return msgspec.json.decode(said, type=Table) if said else None


def read_versions(path: Path, key: str | None = None) -> Iterator[ObjectVersion]:
    """The versions of a table, or of one key of it, in order."""
    with reading(path) as columns:
        where = " WHERE key = $key" if key is not None else ""
        query = f"SELECT * FROM read_parquet($path, file_row_number = true){where} ORDER BY file_row_number"
        bound = {"path": str(path), **({"key": key} if key is not None else {})}
        for batch in columns.sql(query, params=bound).to_arrow_reader(5_000):
            for row in batch.select(list(ObjectVersion.__struct_fields__)).to_pylist():
                yield version_of(row)


def version_of(row: dict[str, Any]) -> ObjectVersion:
    """A version from a row."""
    for name in ("metadata", "tags"):
        row[name] = None if row.get(name) is None else dict(row[name])
    return ObjectVersion(**row)


class Spool:
    """Listed entries on disk, in whatever order they come, until they are sorted."""

    COLUMNS = pa.schema(
        [
            pa.field("key", pa.string()), pa.field("seq", pa.int64()), pa.field("version", pa.string()),
            pa.field("current", pa.bool_()), pa.field("marker", pa.bool_()), pa.field("size", pa.int64()),
            pa.field("etag", pa.string()), pa.field("written", _MOMENT), pa.field("tier", pa.string()),
        ]
    )  # fmt: skip

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self.rows = self.versions = 0
        self._stream = pq.ParquetWriter(path, self.COLUMNS, compression="zstd")

    def add(self, versions: list[ObjectVersion]) -> None:
        """Add what one page listed; entries of one key come in their own order."""
        if not versions:
            return
        numbered = itertools.count(self.rows)
        rows = [{**{name: getattr(v, name) for name in self.COLUMNS.names if name != "seq"}, "seq": next(numbered)}
                for v in versions]  # fmt: skip
        self.rows += len(versions)
        self.versions += sum(not v.marker for v in versions)
        self._stream.write_table(pa.Table.from_pylist(rows, self.COLUMNS))

    def sorted(self, size: int) -> Iterator[list[ObjectVersion]]:
        """Everything by key, the newest version of each first, in lists of about `size`."""
        self._stream.close()
        with engine(self.path.parent if self.rows > IN_MEMORY else None) as columns:
            query = "SELECT * EXCLUDE seq FROM read_parquet($1) ORDER BY key, seq"
            for batch in columns.sql(query, params=[str(self.path)]).to_arrow_reader(size):
                yield [ObjectVersion(**row) for row in batch.to_pylist()]

    def close(self) -> None:
        """Let go of the file."""
        self._stream.close()
        self.path.unlink(missing_ok=True)
