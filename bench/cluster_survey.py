"""Inspecting versions against a stub on loopback: two workers of a Dask cluster beside one.

    python bench/cluster_survey.py [TASKS]

Each worker is a process of one thread on this machine; the stub answers at once, from a process of its own. Reported
are medians of versions a second, in turn, and their ratio.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import socket
import statistics
import sys
import tempfile
import time
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))
import inspecting
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.objects.dask_cluster import Cluster
from rusty_lantern.stores.reader import WantedDetails
from rusty_lantern.survey.inspection import A_TASK, Batch, Subject, Workers

ROUNDS = 3


async def inspected(workers: Workers, subject: Subject, tasks: int) -> list[Batch]:
    """All batches, looked at."""
    versions = [ObjectVersion(key=f"k{n:06d}", version="v") for n in range(A_TASK)]
    return list(await asyncio.gather(*(workers.run(subject, versions) for _ in range(tasks))))


def main() -> None:
    """Print the figures."""
    import distributed

    tasks = int((sys.argv[1:] or ["6"])[0])
    inspecting.LATENCY = 0.0
    with socket.create_server(("127.0.0.1", 0)) as listener, tempfile.TemporaryDirectory() as name:
        serving = multiprocessing.get_context("fork").Process(target=inspecting.stub, args=(listener,), daemon=True)
        serving.start()
        address = f"http://127.0.0.1:{listener.getsockname()[1]}"
        (Path(name) / "key").write_text("[default]\naws_access_key_id=AKIDBENCH\naws_secret_access_key=bench-secret\n")
        (Path(name) / "key").chmod(0o600)
        credential = Credential("file", "key")
        store = StoreConfig("bench", Place("bench"), "s3", address, credential, Pace(64, 1_000_000), plain_http=True)
        bucket = Bucket(name="b", lock=Answer("absent"))
        subject = Subject(store, Path(name), datetime.now(UTC), bucket, WantedDetails())
        local: Any = partial(distributed.LocalCluster, threads_per_worker=1, dashboard_address=None)
        taken: dict[int, list[float]] = {1: [], 2: []}
        with local(n_workers=1) as one, local(n_workers=2) as two:
            for cluster in (one, two) * (ROUNDS + 1):
                with closing(Cluster(cluster.scheduler_address)) as reached:
                    workers = Workers(reached)
                    start = time.perf_counter()
                    made = asyncio.run(inspected(workers, replace(subject, store=workers.share(store)), tasks))
                    taken[workers.count].append(time.perf_counter() - start)
                    assert all(v.inspected == "yes" for batch in made for v in batch.versions)
        serving.terminate()
    speed = {count: tasks * A_TASK / statistics.median(seconds[1:]) for count, seconds in taken.items()}
    words = f"one worker {speed[1]:,.0f} versions/s, two {speed[2]:,.0f}, ratio {speed[2] / speed[1]:.2f}"
    print(f"inspecting on a cluster: {words} (aim >= 1.6)")


if __name__ == "__main__":
    main()
