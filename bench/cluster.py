"""Twelve object requirements over many tables on a Dask cluster: two workers beside one.

    python bench/cluster.py [TABLES [VERSIONS]]

Each worker is a process of one thread on this machine. Reported are medians of seconds, in turn, and their ratio; what
both count is compared with what this machine counts without a cluster.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

import duckdb

sys.path.insert(0, str(Path(__file__).parent))
from objects import BASELINE, GENERATED, NOW
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.object_rules.tally import Tally
from rusty_lantern.objects.dask_cluster import Cluster
from rusty_lantern.objects.evaluation import tallies
from rusty_lantern.objects.table_set import TableCounter, VersionTable, count_here

ROUNDS = 3


def tables_in(folder: Path, tables: int, versions: int) -> list[VersionTable]:
    """Many tables of a few contents; a file costs the same to read whether another is like it or not."""
    made = []
    for n in range(tables):
        path = folder / f"{n}.parquet"
        if n < 20:
            duckdb.execute(GENERATED % (versions, path))
        else:
            path.hardlink_to(folder / f"{n % 20}.parquet")
        made.append(VersionTable(path, versions))
    return made


def main() -> None:
    """Print the figures."""
    import distributed

    local_cluster: Any = partial(distributed.LocalCluster, threads_per_worker=1, dashboard_address=None)
    tables, versions = [int(word) for word in (*sys.argv[1:3], *("2000", "25000")[len(sys.argv[1:3]) :])]
    requirements = list(read_baseline(BASELINE, "bench").sheets[0].require)
    with tempfile.TemporaryDirectory() as name:
        asked = [(table, requirements) for table in tables_in(Path(name), tables, versions)]

        def timed(count_here: TableCounter) -> tuple[float, list[list[Tally]]]:
            start = time.perf_counter()
            found = tallies(asked, NOW, count_here)
            return time.perf_counter() - start, found

        here, expected = timed(count_here)
        taken: dict[int, list[float]] = {1: [], 2: []}
        for _ in range(ROUNDS):
            for workers, seconds_of in taken.items():
                with (
                    local_cluster(n_workers=workers) as running,
                    closing(Cluster(running.scheduler_address)) as cluster,
                ):
                    tallies(asked[:1], NOW, cluster.over)
                    tallies(asked[1:2], NOW, cluster.over)  # both workers have their libraries loaded
                    seconds, found = timed(cluster.over)
                    assert found == expected
                    seconds_of.append(seconds)
        one, two = (statistics.median(seconds) for seconds in taken.values())
        ratio = statistics.median(a / b for a, b in zip(*taken.values(), strict=True))
        print(f"{tables:,} tables, {tables * versions:,} versions: one worker {one:.1f} s, two {two:.1f} s")
        print(f"ratio {ratio:.2f} (aim >= 1.7); without a cluster {here:.1f} s")


if __name__ == "__main__":
    main()
