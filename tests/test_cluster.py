"""Counting on a Dask cluster of real processes: the same bytes as here, also when a process dies."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from threading import Thread

import pyarrow.parquet as pq
import pytest

from rusty_lantern.cli.counting import COMMANDS
from rusty_lantern.core.errors import BadInput, Damaged, LanternError
from rusty_lantern.objects import dask_cluster
from rusty_lantern.objects.dask_cluster import Cluster, ClusterLost
from rusty_lantern.objects.evaluation import tallies
from rusty_lantern.objects.retention_summary import retention_summaries
from rusty_lantern.objects.table_set import Source, VersionTable
from tests.conftest import Lived
from tests.test_objects import NOW, required

ASKED = {
    "remedy": ("harbour/permit-archive",), "baseline": ("draft",), "show": ("harbour/permit-archive", "--required"),
    "figure": ("retention", "--out", "figure.svg"), "report": ("--out", "page.html"),
}  # fmt: skip
"""What is asked of the commands that need to be told; `waive` writes, and counts as `audit` does."""


@dataclass
class Running:
    """A scheduler and two workers, each a process of its own."""

    address: str
    scheduler: subprocess.Popen[bytes]
    workers: list[subprocess.Popen[bytes]]


def _dask(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "dask", *words],
        cwd=Path(__file__).parents[1],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


@contextmanager
def cluster_of_two(folder: Path) -> Iterator[Running]:
    """A cluster on loopback, whose workers can import the tests."""
    folder.mkdir(exist_ok=True)
    found = folder / "scheduler.json"
    place = ("--host", "127.0.0.1", "--no-dashboard", "--scheduler-file", str(found))
    begun = [_dask("scheduler", "--port", "0", *place)]
    try:
        begun += [_dask("worker", "--nthreads", "1", "--local-directory", str(folder), *place) for _ in range(2)]
        while not found.is_file():
            assert all(process.poll() is None for process in begun)
            time.sleep(0.1)
        from distributed import Client

        with Client(scheduler_file=str(found), set_as_default=False) as client:
            address = client.scheduler.address
            client.wait_for_workers(2)
        yield Running(address, begun[0], begun[1:])
    finally:
        for process in begun:
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with cluster_of_two(tmp_path_factory.mktemp("cluster")) as made:
        yield made


def tables_of(lived: Lived) -> list[VersionTable]:
    paths = sorted(lived.folder.glob("surveys/20261102*/objects/*/*.parquet"))
    return [
        VersionTable(
            path, pq.ParquetFile(path).metadata.num_rows, "none", "", default_mode="compliance", default_retention=86400
        )
        for path in paths
    ]


@pytest.mark.parametrize("command", [name for name in COMMANDS if name != "waive"])
def test_every_command_that_counts_says_the_same_on_a_cluster(
    lived: Lived, running: Running, command: str, tmp_path: Path
) -> None:
    words = [command, *(str(tmp_path / w) if "." in w else w for w in ASKED.get(command, ("--json",))), "--fresh"]

    def said(**environment: str) -> tuple[int, str, list[bytes]]:
        ran = lived.run(*words, **environment)
        return ran.code, ran.out, [path.read_bytes() for path in sorted(tmp_path.iterdir())]

    there = said(LANTERN_ENGINE="dask", LANTERN_SCHEDULER=running.address)
    assert there == said()
    assert there[0] in (0, 1)


def test_a_large_table_is_counted_in_parts(
    lived: Lived, running: Running, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    table = max(tables_of(lived), key=lambda one: one.rows)
    parted = table._replace(path=tmp_path / "parted.parquet")
    pq.write_table(pq.read_table(table.path), parted.path, row_group_size=table.rows // 9)
    monkeypatch.setattr(dask_cluster, "MOST_ROWS", 10)
    with closing(Cluster(running.address, groups=2)) as cluster:
        assert tallies([(parted, required())], NOW, cluster.over) == tallies([(table, required())], NOW)
        assert retention_summaries([parted], NOW, cluster.over) == retention_summaries(
            [table], NOW
        )  # which does not join, and is one task


@dataclass(frozen=True)
class DiesOnce:
    """Counts rows; the first process that does dies."""

    mark: Path

    def __call__(self, source: Source) -> list[int]:
        if not self.mark.exists():
            self.mark.touch()
            os._exit(1)
        return [table.rows for table in source.tables]


def test_what_a_worker_that_dies_had_begun_is_counted_elsewhere(lived: Lived, tmp_path: Path) -> None:
    tables = tables_of(lived)
    with cluster_of_two(tmp_path) as running, closing(Cluster(running.address)) as cluster:
        assert cluster.over(tables, DiesOnce(tmp_path / "mark")) == [table.rows for table in tables]
        assert (tmp_path / "mark").exists()


@dataclass(frozen=True)
class Waits:
    """Counts nothing, and says that it has begun."""

    mark: Path

    def __call__(self, source: Source) -> list[int]:
        self.mark.touch()
        time.sleep(600)
        return []


def test_a_scheduler_that_goes_away_ends_the_run_with_a_message(lived: Lived, tmp_path: Path) -> None:
    errors: list[LanternError] = []
    mark = tmp_path / "mark"

    def counting(cluster: Cluster) -> None:
        try:
            cluster.over(tables_of(lived), Waits(mark))
        except LanternError as error:
            errors.append(error)

    with cluster_of_two(tmp_path) as running, closing(Cluster(running.address)) as cluster:
        waiting = Thread(target=counting, args=(cluster,))
        waiting.start()
        while not mark.exists():
            time.sleep(0.1)
        running.scheduler.kill()
        waiting.join(timeout=300)
    assert [type(error) for error in errors] == [ClusterLost]
    assert f"the Dask cluster at {running.address} went away" in str(errors[0])


def test_a_wait_for_a_task_ends_when_the_client_is_closed_meanwhile(tmp_path: Path) -> None:
    """As happens where several wait, and the first one finds that the scheduler is gone."""
    ended: list[type[BaseException]] = []

    def waiting(cluster: Cluster) -> None:
        try:
            cluster.call(time.sleep, 600)
        except LanternError as error:
            ended.append(type(error))

    with cluster_of_two(tmp_path) as running:
        cluster = Cluster(running.address)
        waiters = [Thread(target=waiting, args=(cluster,), daemon=True) for _ in range(2)]
        for waiter in waiters:
            waiter.start()
        time.sleep(1)
        cluster.close()
        for waiter in waiters:
            waiter.join(timeout=60)
    assert ended == [ClusterLost, ClusterLost]


def test_a_file_that_a_worker_does_not_see_or_cannot_read_is_named(
    lived: Lived, running: Running, tmp_path: Path
) -> None:
    tables = tables_of(lived)
    broken = tmp_path / "broken.parquet"
    broken.write_bytes(b"PAR1 not a table")
    with closing(Cluster(running.address)) as cluster:
        with pytest.raises(BadInput, match=r"gone\.parquet: a worker of the Dask cluster does not see this file"):
            retention_summaries([*tables, VersionTable(tmp_path / "gone.parquet", 9)], NOW, cluster.over)
        with pytest.raises(Damaged, match=r"broken\.parquet.*cannot be read"):
            retention_summaries([*tables, VersionTable(broken, 9)], NOW, cluster.over)


def test_a_cluster_that_is_not_named_or_not_there_is_told(lived: Lived) -> None:
    ran = lived.run("objects", "--fresh", "--engine", "dask")
    assert (ran.code, "--engine dask needs --scheduler" in ran.err) == (2, True), ran.err
    for odd in ("nonsense", "http://x:1", "tcp://[::", "tcp://127.0.0.1"):
        ran = lived.run("retention", "--fresh", "--engine", "dask", "--scheduler", odd)
        assert (ran.code, ran.err.splitlines()[0]) == (2, f'lantern: "{odd}" is no address of a Dask scheduler')
    ran = lived.run("retention", "--fresh", "--engine", "dask", "--scheduler", "tcp://127.0.0.1:9")
    assert (ran.code, "no Dask scheduler answers at tcp://127.0.0.1:9" in ran.err) == (2, True), ran.err
