"""The version tables of a survey, many read as one.

A query costs the same to plan and to start whether it reads one small table or a thousand. So tables are read in
*stretches* of bounded size: one source of rows in which column `n` says which table a row is of, and further columns
say what that table's bucket sets by default. A large table is a stretch of its own, and needs no grouping.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol, TypeVar, runtime_checkable

import msgspec

from rusty_lantern.core.errors import Damaged
from rusty_lantern.core.model.bucket import Bucket, Encryption, LifecycleRule
from rusty_lantern.core.model.capabilities import objects_expire
from rusty_lantern.core.model.resources import EncryptionKey
from rusty_lantern.core.model.store_index import framed, keeper_of, names_of_key
from rusty_lantern.core.object_rules.gateway_expiry import expiry_by_swift
from rusty_lantern.objects.duckdb_engine import reading, table_path

if TYPE_CHECKING:
    from duckdb import DuckDBPyConnection

    from rusty_lantern.core.audit.bucket_subject import BucketSubject

T = TypeVar("T")

MOST_ROWS = 1_000_000
"""Rows that are read together; a table with more is read alone."""
MOST_TABLES = 1_000
"""Tables that are read together."""


class VersionTable(NamedTuple):
    """One bucket's version table: where it is, how long it is, and what the bucket sets by default."""

    path: Path
    rows: int = 0
    default_encryption: str | None = None
    """Who keeps the key of the default encryption; `none`: there is no default; None: unknown."""
    default_key: str | None = None
    """Every name of the default encryption's own key, framed by line ends; empty: it has none; None: unknown."""
    team_keys: str = ""
    """Every name of the keys that are known to be the team's own, framed by line ends."""
    store_keys: str = ""
    """Likewise of those that are known to be the store's."""
    default_mode: str = ""
    default_retention: int = 0
    """Seconds; with an empty mode, 0."""
    expires_old: int = 0
    """Seconds after which the shortest rule deletes old versions; 0 without such a rule."""
    rules: str = ""
    """The expiry rules in force as JSON (`prefix`, `expires`, `old`: seconds; `on`: microseconds); empty: none."""
    versioned: bool = True
    """Whether a current version that expires stays as an old one."""
    rules_known: bool = True
    """Whether these are all, and nothing else narrows them."""
    locks_hold: bool | None = True
    """Whether locked versions cannot be deleted all the same; None: not known."""
    hides_expiry: bool = False
    """Whether a version may be removed at a moment of its own that its inspection does not show."""
    own_expiry: bool = False
    """Whether a version may say itself when it is removed, which only inspecting it shows."""


def version_table(folder: Path, view: BucketSubject) -> VersionTable:
    """The version table of a surveyed bucket. `folder`: the survey's."""
    table, rule = view.bucket.table.value, view.fact("lifecycle.expires-old").value
    made = table_of(table_path(folder, view.store, view.name), view.bucket, view.index.key_named)
    lifecycle, versioning = view.bucket.lifecycle, view.bucket.versioning
    rules = [one for one in lifecycle.value or () if one.enabled and (one.expires or one.expires_old or one.expires_on)]
    never = versioning.state == "absent" or bool(versioning.value and versioning.value.state == "never")
    known = not lifecycle.unread and not any(one.narrowed for one in rules)
    by_swift = expiry_by_swift(view.dossier)
    hidden = view.dossier.protocol != "swift" and (by_swift.unread or bool(by_swift.value))
    return made._replace(
        rows=table.rows if table else 0,
        team_keys=view.index.key_names["customer"],
        store_keys=view.index.key_names["provider"],
        expires_old=rule if isinstance(rule, int) else 0,
        rules=_written(rules) if rules else "",
        versioned=not never,
        rules_known=known and (versioning.settled or versioning.state == "unsupported" or not rules),
        locks_hold=view.locks_hold,
        hides_expiry=hidden,
        own_expiry=objects_expire(view.dossier.protocol),
    )


def _written(rules: Sequence[LifecycleRule]) -> str:
    made = [
        {"prefix": one.prefix, "expires": one.expires, "old": one.expires_old,
         "on": int(one.expires_on.timestamp()) * 1_000_000 if one.expires_on else 0}
        for one in rules
    ]  # fmt: skip
    return msgspec.json.encode(made).decode()


def table_of(
    path: Path, bucket: Bucket | None, key_named: Callable[[str], EncryptionKey | None] = lambda name: None
) -> VersionTable:
    """The version table at a place, with what its bucket sets by default. `key_named`: the store's keys by name."""
    if bucket is None:
        return VersionTable(path)
    default, lock = bucket.encryption, bucket.lock.value
    keeper: str | None = "none" if default.state == "absent" else None
    names: str | None = "" if default.settled else None
    if default.value is not None:
        key = key_named(default.value.key) if default.value.key else None
        keeper, names = keeper_of(default.value, key) or None, _default_names(default.value, key)
    return VersionTable(
        path,
        default_encryption=keeper,
        default_key=names,
        default_mode=lock.mode if lock else "",
        default_retention=lock.retention if lock else 0,
    )


def _default_names(default: Encryption, key: EncryptionKey | None) -> str | None:
    """The names of a default encryption's key. A key service's own default key has an id that the bucket does not
    show, and so has the key that an alias leads to, where the store's keys were not read."""
    if key is not None:
        return framed([*names_of_key(key), default.key])
    if default.key:
        return None if "alias/" in default.key else framed([default.key, default.key.rpartition("/")[2]])
    return None if default.algorithm.startswith("aws:kms") else ""


def stretches(tables: Sequence[VersionTable], most: int = 0) -> Iterator[list[int]]:
    """The positions of tables that are read together, in order: of at most `most` rows, unless it is one alone.

    A table that is asked for twice is not read twice in one stretch, where its rows would count for both.
    """
    most = most or MOST_ROWS
    held: list[int] = []
    paths: set[Path] = set()
    rows = 0
    for n, table in enumerate(tables):
        if held and (rows + table.rows > most or len(held) == MOST_TABLES or table.path in paths):
            yield held
            held, paths, rows = [], set(), 0
        held.append(n)
        paths.add(table.path)
        rows += table.rows
    if held:
        yield held


class Source(msgspec.Struct, frozen=True):
    """The rows of some tables, opened: `rows` goes into a query's FROM, with `bound` for its parameters."""

    engine: DuckDBPyConnection
    tables: Sequence[VersionTable]
    rows: str
    bound: dict[str, Any]

    def ask(self, query: str, bound: Mapping[str, Any]) -> list[tuple[Any, ...]]:
        """Run a query over the rows; of what could be bound, only what it names is."""
        return self.engine.execute(query, self.needed(query, bound)).fetchall()

    def needed(self, query: str, bound: Mapping[str, Any]) -> dict[str, Any]:
        """The parameters that a query names."""
        every = {**self.bound, **bound}
        return {name: every[name] for name in re.findall(r"\$([a-z]\w*)", query)}


def open_source(
    engine: DuckDBPyConnection, tables: Sequence[VersionTable], *, prefix: str = "", only: str = ""
) -> Source:
    """The rows of version tables as one source: columns `n`, and the defaults of each table's bucket.

    `prefix`: of the names that it binds, where a query reads two sources. `only`: the rows of a single table, where
    they are not read from its file.
    """
    defaults = VersionTable._fields[2:-1]
    if len(tables) == 1:
        columns = ", ".join(f"${prefix}{d}::{_type(d)} AS {d}" for d in defaults)
        rows = f"(SELECT *, 0 AS n, {columns} FROM {only or f'read_parquet(${prefix}path, file_row_number = true)'})"
        bound = {**tables[0]._asdict(), "path": str(tables[0].path)}
        return Source(engine, tables, rows, {prefix + name: value for name, value in bound.items()})
    columns = ", ".join(f"unnest(${prefix}{d}::{_type(d)}[]) AS {d}" for d in defaults)
    rows = (
        f"(SELECT t.* EXCLUDE filename, a.* EXCLUDE filename FROM read_parquet(${prefix}path, filename = true) t JOIN "
        f"(SELECT unnest(${prefix}path) AS filename, unnest(range({len(tables)})) AS n, {columns}) a USING (filename))"
    )
    bound = {name: [getattr(table, name) for table in tables] for name in defaults}
    bound["path"] = [str(table.path) for table in tables]
    return Source(engine, tables, rows, {prefix + name: values for name, values in bound.items()})


def _type(name: str) -> str:
    kinds = dict.fromkeys(("versioned", "locks_hold", "hides_expiry"), "BOOLEAN")
    kinds |= {"default_retention": "BIGINT", "expires_old": "BIGINT"}
    return kinds.get(name, "VARCHAR")


class Count(Protocol[T]):
    """Something that is counted over the rows of tables, one result a table. Plain data: it travels to workers."""

    def __call__(self, source: Source) -> list[T]:
        """The result per table of the source."""


@runtime_checkable
class MergingCount(Protocol[T]):
    """A count that joins: parts of a table may be counted by themselves, in any order."""

    def joined(self, parts: Sequence[T]) -> T:
        """The results of the parts of one table, joined."""


class TableCounter(Protocol):
    """Counts over tables: on this machine, or on several."""

    def __call__(self, tables: Sequence[VersionTable], count: Count[T]) -> list[T]:
        """The counts, one result a table, in order. Raises `Damaged`, and says which table is."""


def count_here(tables: Sequence[VersionTable], count: Count[T]) -> list[T]:
    """The counts on this machine, one result a table, in order. Raises `Damaged`."""
    return [one for stretch in stretches(tables) for one in together([tables[n] for n in stretch], count)]


def together(tables: Sequence[VersionTable], count: Count[T]) -> list[T]:
    """The counts over tables that are read together. Raises `Damaged`, and says which table is.

    Where some cannot be read together, each is read alone: so the one that is damaged is named, and tables that two
    versions of lantern wrote do not disturb each other.
    """
    try:
        with reading(tables[0].path) as engine:
            return count(open_source(engine, tables))
    except Damaged:
        if len(tables) == 1:
            raise
        return [one for table in tables for one in together([table], count)]
