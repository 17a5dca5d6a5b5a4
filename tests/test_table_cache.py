"""What was counted in version tables is counted once; what is kept of it never makes an answer another one."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rusty_lantern.archive.table_cache import TableCache
from tests.conftest import Lived, Ran, lantern

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)
COMMANDS = (
    ("audit", "--json"), ("objects", "--json"), ("retention", "--json"), ("encryption", "--json"),
    ("mirrors", "--json"), ("changes", "--json"), ("history", "--json"),
)  # fmt: skip


@pytest.fixture
def workspace(lived: Lived, tmp_path: Path) -> Path:
    """The demo's workspace, without anything counted."""
    folder = tmp_path / "ws"
    shutil.copytree(lived.folder, folder)
    shutil.rmtree(folder / "results", ignore_errors=True)
    return folder


def said(folder: Path, *more: str) -> list[Ran]:
    return [lantern(*words, *more, cwd=folder) for words in COMMANDS]


def test_what_is_kept_says_what_counting_says_and_damage_to_it_is_counted_again(workspace: Path) -> None:
    counted = said(workspace)
    kept = {path: path.read_bytes() for path in (workspace / "results").glob("*.*.json")}
    assert {path.name.split(".")[1] for path in kept} == {"tallies", "locks", "keys", "lacking", "weakened"}
    assert said(workspace) == counted
    for path, content in kept.items():
        path.write_bytes(content[: len(content) // 2])
    assert said(workspace) == counted
    assert {path: path.read_bytes() for path in kept} == kept
    for path in kept:
        path.write_bytes(path.read_bytes().replace(b'"failed":', b'"failed":"x","was":').replace(b"[", b"[["))
    assert said(workspace, "--fresh") == counted
    for path, content in kept.items():
        assert path.read_bytes() == content


def test_what_is_kept_is_read_until_something_that_it_depends_on_changes(workspace: Path) -> None:
    first = lantern("audit", "--json", cwd=workspace)
    path = next(path for path in (workspace / "results").glob("20261102*.tallies.json"))
    forged = json.loads(path.read_text())
    for _, counts in forged["counts"].values():
        for tally in counts:
            tally["failed"] = 0
    path.write_text(json.dumps(forged))
    assert lantern("audit", "--json", cwd=workspace).out != first.out, "what is kept was not read"
    assert lantern("audit", "--json", "--fresh", cwd=workspace) == first

    path.write_text(json.dumps(forged))
    for table in (workspace / "surveys").glob("20261102*/objects/*/*.parquet"):
        table.touch()
    assert lantern("objects", "--json", cwd=workspace).out == lantern("objects", "--json", "--fresh", cwd=workspace).out


def test_a_workspace_that_cannot_be_written_to_is_counted_each_time(workspace: Path) -> None:
    expected = lantern("retention", "--json", cwd=workspace)
    shutil.rmtree(workspace / "results")
    (workspace / "results").write_text("not a folder")
    for _ in range(2):
        assert lantern("retention", "--json", cwd=workspace) == expected


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 3), st.sampled_from([0, 0, 1]), st.booleans()), max_size=8))
def test_kept_answers_are_those_of_counting(
    tmp_path_factory: pytest.TempPathFactory, runs: list[tuple[int, int, int, bool]]
) -> None:
    """Whatever is asked one after the other: other tables, other questions, other moments, anew or not."""
    folder = tmp_path_factory.mktemp("cache")
    files = [folder / f"t{n}.parquet" for n in range(5)]
    for n, file in enumerate(files):
        file.write_bytes(b"x" * n)
    for first, what, day, fresh in runs:
        moment = NOW + timedelta(days=day)
        cache = TableCache(folder, "s", moment, fresh)
        asked = [([file], what) for file in files[first:]]
        answers = [f"{file.name} {what} {moment}" for file in files[first:]]

        def count(numbers: list[int], answers: Sequence[str] = answers) -> list[str]:
            return [answers[n] for n in numbers]

        assert cache.each("kind", asked, str, count) == answers
