"""Many version tables read as one say of each what it says alone."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from rusty_lantern.core.errors import Damaged
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.objects import table_set
from rusty_lantern.objects.evaluation import tallies
from rusty_lantern.objects.protection_changes import weakened
from rusty_lantern.objects.replica_diff import keys_in
from rusty_lantern.objects.retention_summary import protected_bytes, retention_summaries
from rusty_lantern.objects.table_set import VersionTable, stretches
from rusty_lantern.objects.tables import table_writer
from tests.test_objects import NOW, TABLES, required

DEFAULTS = st.builds(
    VersionTable,
    path=st.just(Path()),
    rows=st.just(0),
    default_encryption=st.sampled_from([None, "none", "provider-managed"]),
    default_key=st.sampled_from([None, "", "k"]),
    default_mode=st.sampled_from(["", "compliance", "governance"]),
    default_retention=st.sampled_from([0, 30 * 86400]),
    expires_old=st.sampled_from([0, 86400]),
)
CONTENT = tuple[tuple[list[ObjectVersion], ...], VersionTable]


def written(folder: Path, contents: list[CONTENT]) -> list[VersionTable]:
    """Tables in files of their own; some names have to be escaped to stand in a query."""
    tables = []
    for n, (keys, defaults) in enumerate(contents):
        path = folder / f"it's $1 {n} [a*].parquet"
        with table_writer(path) as writer:
            writer.add(version for versions in keys for version in versions)
        tables.append(defaults._replace(path=path, rows=sum(map(len, keys))))
    return tables


@settings(max_examples=6, phases=[Phase.generate])  # shrinking would plan thousands of queries
@given(st.lists(st.tuples(TABLES, DEFAULTS), min_size=2, max_size=5), st.integers(2, 40))
def test_many_tables_together_say_what_each_says_alone(
    tmp_path_factory: pytest.TempPathFactory, contents: list[CONTENT], most: int
) -> None:
    folder = tmp_path_factory.mktemp("many")
    tables, requirements = written(folder, contents), required()
    asked = [(table, requirements if n % 3 else requirements[:4]) for n, table in enumerate(tables)]
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(table_set, "MOST_ROWS", most)
        assert tallies(asked, NOW) == [tallies([one], NOW)[0] for one in asked]
        assert retention_summaries(tables, NOW) == [retention_summaries([table], NOW)[0] for table in tables]
        assert protected_bytes(tables, NOW) == [protected_bytes([table], NOW)[0] for table in tables]
        assert keys_in(tables) == [keys_in([table])[0] for table in tables]
        before = [*tables[1:], tables[0]]
        alone = [weakened([old], [new], NOW)[0] for old, new in zip(before, tables, strict=True)]
        assert weakened(before, tables, NOW) == alone


@given(st.lists(st.integers(0, 30), max_size=12), st.integers(1, 40), st.integers(1, 4))
def test_stretches_hold_every_table_once_in_order_and_are_bounded(rows: list[int], most: int, tables: int) -> None:
    given_ = [VersionTable(Path(str(n % 7)), count) for n, count in enumerate(rows)]
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(table_set, "MOST_ROWS", most)
        patched.setattr(table_set, "MOST_TABLES", tables)
        found = list(stretches(given_))
    assert [n for stretch in found for n in stretch] == list(range(len(rows)))
    for stretch in found:
        assert len({given_[n].path for n in stretch}) == len(stretch)
        assert len(stretch) <= tables
        assert len(stretch) == 1 or sum(rows[n] for n in stretch) <= most


def test_a_table_that_is_asked_for_twice_counts_once_for_each(tmp_path: Path) -> None:
    one = tuple([ObjectVersion(key=f"{n}", inspected="yes")] for n in range(5))
    tables = written(tmp_path, [(one, VersionTable(Path()))] * 2)
    asked = [(table, required()) for table in (*tables, tables[0], tables[1])]
    assert tallies(asked, NOW) == [tallies(asked[:1], NOW)[0]] * 4


def test_of_many_tables_the_one_that_is_damaged_is_named(tmp_path: Path) -> None:
    one = tuple([ObjectVersion(key="a", inspected="yes")] for _ in range(1))
    tables = written(tmp_path, [(one, VersionTable(Path()))] * 3)
    tables[1].path.write_bytes(b"PAR1 not a table")
    with pytest.raises(Damaged, match=r"2?it's \$1 1 \[a\*\]\.parquet.*cannot be read"):
        tallies([(table, required()) for table in tables], NOW)


def test_tables_of_an_earlier_lantern_beside_new_ones_are_read_where_they_hold_what_is_asked(tmp_path: Path) -> None:
    one = tuple([ObjectVersion(key="a", inspected="yes")] for _ in range(1))
    tables = written(tmp_path, [(one, VersionTable(Path()))] * 3)
    whole = keys_in(tables)
    old: pa.Table = pq.read_table(tables[1].path)
    pq.write_table(old.drop_columns(["encryption_key"]), tables[1].path)
    assert retention_summaries(tables, NOW) == [retention_summaries([table], NOW)[0] for table in tables]
    with pytest.raises(Damaged, match="written by an earlier lantern"):
        keys_in(tables)
    assert whole == [whole[0]] * 3
