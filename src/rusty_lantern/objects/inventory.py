"""A version table from an inventory that the provider made, instead of listing and inspecting.

The estate file says where the files are and which of their columns is which; what is not mapped stays unknown. CSV may
be compressed (gzip), with or without a line of headings: without one, columns are named by their number, from 1.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb
import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.export_entry import too_old
from rusty_lantern.core.config.object_scan import Inventory
from rusty_lantern.core.model.bucket_contents import Table, Usage, Versions
from rusty_lantern.objects.duckdb_engine import engine
from rusty_lantern.objects.tables import ABOUT

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

_SWITCH = (
    "CASE WHEN lower({{0}}) IN ('true', 'on', 'yes', '1') THEN true "
    "WHEN lower({{0}}) IN ('false', 'off', 'no', '0'{empty}) THEN false ELSE {otherwise} END"
)
_NEITHER = """error('the column of {name} has "' || left({{0}}, 40) || '", which is neither true nor false')"""
_SIZE = (
    "CASE WHEN {0} = '' THEN 0 WHEN regexp_full_match({0}, '[0-9]{{1,18}}') THEN {0}::BIGINT "
    """ELSE error('the column of sizes has "' || left({0}, 40) || '", which is no count of bytes') END"""
)
_WORDS = {
    "not-sse": "none", "none": "none", "sse-s3": "provider-managed", "provider-managed": "provider-managed",
    "sse-kms": "customer-managed", "dsse-kms": "customer-managed", "customer-managed": "customer-managed",
    "sse-c": "customer-provided", "customer-provided": "customer-provided", "aes256": "provider-managed",
    "aws:kms": "customer-managed", "aws:kms:dsse": "customer-managed",
}  # fmt: skip
_KEEPER = "CASE lower({0}) " + " ".join(f"WHEN '{w}' THEN '{k}'" for w, k in _WORDS.items()) + " END"
_MODE = "CASE lower({0}) WHEN 'governance' THEN 'governance' WHEN 'compliance' THEN 'compliance' WHEN '' THEN '' END"

READ: dict[str, tuple[str, str]] = {
    # column: how its text is read, and what it is where it is not mapped
    "key": ("{0}", ""),
    "version": ("CASE WHEN {0} = '' THEN 'null' ELSE {0} END", "'null'"),
    "current": (_SWITCH.format(empty="", otherwise=_NEITHER.format(name="current versions")), "true"),
    "marker": (_SWITCH.format(empty=", ''", otherwise=_NEITHER.format(name="delete markers")), "false"),
    "size": (_SIZE, "0::BIGINT"),
    "etag": ("trim({0}, '\"')", "''"),
    "written": ("nullif({0}, '')::TIMESTAMPTZ", "NULL::TIMESTAMPTZ"),
    "tier": ("{0}", "''"),
    "content_type": ("nullif({0}, '')", "NULL::VARCHAR"),
    "cache_control": ("nullif({0}, '')", "NULL::VARCHAR"),
    "encryption": (_KEEPER, "NULL::VARCHAR"),
    "encryption_key": ("{0}", "NULL::VARCHAR"),
    "mode": (_MODE, "NULL::VARCHAR"),
    "until": ("nullif({0}, '')::TIMESTAMPTZ", "NULL::TIMESTAMPTZ"),
    "hold": (_SWITCH.format(empty=", ''", otherwise="NULL"), "NULL::BOOLEAN"),
    "replication": ("lower({0})", "NULL::VARCHAR"),
    "checksum": ("lower({0})", "NULL::VARCHAR"),
}
"""The columns that can be mapped."""
_EMPTY = {
    "inspected": "'not asked'", "content_encoding": "NULL::VARCHAR", "disposition": "NULL::VARCHAR",
    "expires": "NULL::TIMESTAMPTZ", "points_to": "''",
    "metadata": "NULL::MAP(VARCHAR, VARCHAR)", "tags": "NULL::MAP(VARCHAR, VARCHAR)", "public": "NULL::VARCHAR",
}  # fmt: skip
_BENEATH = "NOT current AND NOT marker"
_OVER = "OVER (PARTITION BY key)"


class InventoryResult(msgspec.Struct, frozen=True):
    """What came of an inventory."""

    table: Answer[Table]
    usage: Answer[Usage]
    versions: Answer[Versions]


def files_of(inventory: Inventory, workspace: Path, bucket: str) -> list[Path]:
    """The inventory's files for a bucket, in order; a bucket's name cannot lead out of the workspace's folder."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]*", bucket):
        return []
    pattern = inventory.files.replace("{bucket}", bucket)
    return sorted(path for path in workspace.glob(pattern) if path.is_file())


def read_inventory_files(
    files: list[Path], inventory: Inventory, bucket: str, out: Path, moment: datetime, *, versioned: bool = True
) -> InventoryResult:
    """Make a version table at `out` of an inventory's files. Never raises for what is in them. `versioned`: whether the
    bucket may have old versions, which an inventory without the column `current` leaves out."""
    left_out = versioned and "current" not in dict(inventory.columns)
    evidence = Evidence(f"inventory {', '.join(path.name for path in files)}", "read")
    partial = out.with_suffix(".partial")
    out.parent.mkdir(parents=True, exist_ok=True)
    try:
        _refuse_old(files, inventory, moment)
        with engine(out.parent) as columns:
            names = _names(columns, files, inventory)
            _refuse_others(columns, files, inventory, names, bucket)
            query = _query(files, inventory, names)
            _refuse_twice(columns, query)
            counts = _counts(columns, query)
            rows, objects, size, old, old_size, markers = counts
            table = Table(
                rows=rows, versions=objects + old, looked="listed", source="inventory", current_alone=left_out
            )
            about = msgspec.json.encode(table).decode().replace("'", "''")
            columns.execute(
                f"COPY ({_ordered(query, left_out=left_out)}) TO '{_text(partial)}' "
                f"(FORMAT parquet, COMPRESSION zstd, KV_METADATA {{'{ABOUT}': '{about}'}})"
            )
        partial.rename(out)
    except (duckdb.Error, OSError, Unmapped) as error:
        lost: Answer[Any] = Answer("failed", None, f"the inventory cannot be read: {_first_line(error)}", evidence)
        return InventoryResult(lost, lost, lost)
    finally:
        partial.unlink(missing_ok=True)
    return InventoryResult(
        Answer("known", table, "", evidence),
        Answer("known", Usage(objects, size, by="inventory"), "", evidence),
        Answer("failed", None, _LEFT_OUT, evidence)
        if left_out
        else Answer("known", Versions(old, old_size, markers), "", evidence),
    )


_LEFT_OUT = "the inventory has no column that says which versions are current: old ones may be left out"


def _first_line(error: Exception) -> str:
    return next((line.strip() for line in str(error).splitlines() if line.strip()), type(error).__name__)[:200]


def _text(path: Path) -> str:
    return str(path).replace("'", "''")


def _source(files: list[Path], inventory: Inventory) -> str:
    listed = "[" + ", ".join(f"'{_text(path)}'" for path in files) + "]"
    if files[0].suffix == ".parquet":
        return f"read_parquet({listed})"
    heading = "true" if inventory.headed else "false"
    return f"read_csv({listed}, all_varchar = true, header = {heading}, delim = ',', quote = '\"', escape = '\"')"


def _names(columns: DuckDBPyConnection, files: list[Path], inventory: Inventory) -> list[str]:
    """The files' own names of their columns. Raises `Unmapped` where a mapped one is not among them."""
    columns_there = columns.execute(f"DESCRIBE SELECT * FROM {_source(files, inventory)}").fetchall()
    names = [row[0] for row in columns_there]
    for ours, theirs in inventory.columns:
        if theirs not in names if inventory.headed else int(theirs) > len(names):
            raise Unmapped(f'there is no column "{theirs}" for {ours.replace("_", "-")}')
    return names


class Unmapped(ValueError):
    """A mapped column that the files do not have, or files that are not an inventory of the bucket as it is."""


def _refuse_old(files: list[Path], inventory: Inventory, moment: datetime) -> None:
    """Raises `Unmapped` for files that are older than they may be, by when they were written here."""
    written = datetime.fromtimestamp(min(path.stat().st_mtime for path in files), UTC)
    old = too_old(written, moment, inventory.newer_than)
    if old:
        raise Unmapped(f"it {old}")


def _refuse_others(
    columns: DuckDBPyConnection, files: list[Path], inventory: Inventory, names: list[str], bucket: str
) -> None:
    """Raises `Unmapped` where a row is of another bucket."""
    column = dict(inventory.columns).get("bucket")
    if column is None:
        return
    query = (
        f"SELECT any_value(b) FROM (SELECT {_text_of(column, inventory, names)} AS b FROM {_source(files, inventory)}) "
    )
    other = columns.execute(f"{query} WHERE b <> $1", [bucket]).fetchone()
    if other and other[0] is not None:
        raise Unmapped(f'it has rows of the bucket "{str(other[0])[:80]}"')


def _refuse_twice(columns: DuckDBPyConnection, query: str) -> None:
    """Raises `Unmapped` where a key has two current versions, as in the files of two inventories."""
    twice = columns.execute(
        f"SELECT min(key) FROM (SELECT key FROM ({query}) WHERE current GROUP BY key HAVING count(*) > 1)"
    ).fetchone()
    if twice and twice[0] is not None:
        raise Unmapped(f'"{str(twice[0])[:80]}" has two current versions: these may be the files of two inventories')


def _text_of(column: str, inventory: Inventory, names: list[str]) -> str:
    """The text of a column of the files; empty where it has none."""
    named = column if inventory.headed else names[int(column) - 1]
    return f"""coalesce(CAST("{named.replace('"', '""')}" AS VARCHAR), '')"""


def _query(files: list[Path], inventory: Inventory, names: list[str]) -> str:
    """The inventory's rows as rows of a table, in no order yet."""
    mapped = dict(inventory.columns)
    chosen = []
    for name, (read, otherwise) in READ.items():
        if name not in mapped:
            chosen.append(f"{otherwise} AS {name}")
            continue
        text = _text_of(mapped[name], inventory, names)
        if name == "key" and inventory.encoded:
            text = f"url_decode(replace({text}, '+', ' '))"
        chosen.append(f"{read.format(text)} AS {name}")
    chosen += [f"{value} AS {name}" for name, value in _EMPTY.items()]
    query = f"SELECT {', '.join(chosen)} FROM {_source(files, inventory)}"
    if not {"mode", "until"} <= mapped.keys():
        return query
    # a mode without a date, or a date without a mode, says nothing of either
    return f"SELECT * REPLACE (CASE WHEN (mode = '') = (until IS NULL) THEN mode END AS mode) FROM ({query})"


def _counts(columns: DuckDBPyConnection, query: str) -> tuple[int, ...]:
    current = "current AND NOT marker"
    sums = columns.execute(
        f"SELECT count(*), count(*) FILTER ({current}), coalesce(sum(size) FILTER ({current}), 0)::BIGINT, "
        f"count(*) FILTER ({_BENEATH}), coalesce(sum(size) FILTER ({_BENEATH}), 0)::BIGINT, count(*) FILTER (marker) "
        f"FROM ({query})"
    ).fetchone()
    return sums or ()


def _ordered(query: str, *, left_out: bool) -> str:
    """The rows in order, with what is beneath each; unknown where old versions may be left out."""
    locked = f"FILTER ({_BENEATH} AND mode <> '')"
    beneath = (
        f"CASE WHEN current THEN max(until) {locked} {_OVER} END AS beneath_until, "
        f"CASE WHEN current THEN bool_or(hold) FILTER ({_BENEATH}) {_OVER} END AS beneath_hold, "
        f"CASE WHEN current THEN {str(left_out).lower()} OR bool_or(mode IS NULL OR hold IS NULL) "
        f"FILTER ({_BENEATH}) {_OVER} END "
        "AS beneath_unknown"
    )
    order = "key, current DESC, written DESC"
    return f"SELECT *, {beneath} FROM ({query}) ORDER BY {order}"
