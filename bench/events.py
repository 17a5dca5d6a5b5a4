"""Events attributed, in MB a second, beside decoding every line with the standard library's JSON.

python bench/events.py [MEGABYTES]
"""

from __future__ import annotations

import json
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

from rusty_lantern.core.history.attribution import Attribution
from rusty_lantern.core.history.changes import Change
from rusty_lantern.intake.event_log import Events, Layout, stream

BEGIN = datetime(2026, 10, 2, 6, tzinfo=UTC)


def written(path: Path, megabytes: int, form: str) -> None:
    """A record in which one event in a thousand is of an action that changes something."""
    with path.open("w") as out:
        if form == "csv":
            out.write("time,actor,action,bucket,key,address,outcome\n")
        number = 0
        while out.tell() < megabytes << 20:
            for _ in range(10_000):
                number += 1
                at = BEGIN + timedelta(seconds=number % 2_000_000)
                action = "PutBucketPolicy" if number % 1000 == 0 else "GetObject"
                bucket, key = f"bucket-{number % 500:04d}", f"data/{number:09d}.csv"
                if form == "web-log":
                    method, target = ("PUT", f"/{bucket}?policy") if number % 1000 == 0 else ("GET", f"/{bucket}/{key}")
                    out.write(
                        f'198.51.100.7 - reader [{at:%d/%b/%Y:%H:%M:%S} +0000] "{method} {target} HTTP/1.1" 200 512\n'
                    )
                    continue
                told = {"time": f"{at:%Y-%m-%dT%H:%M:%SZ}", "actor": "reader", "action": action, "bucket": bucket,
                        "key": key, "address": "198.51.100.7", "outcome": "200"}  # fmt: skip
                out.write((",".join(told.values()) if form == "csv" else json.dumps(told)) + "\n")


def attributed(path: Path, form: str) -> int:
    """Hold the record against a change of every bucket."""
    changes = [Change("s", "bucket", f"bucket-{n:04d}", "gained", "exposure.anyone.read") for n in range(500)]
    attribution = Attribution(changes, BEGIN, BEGIN + timedelta(days=30))
    attribution.feed(stream(path, Layout(form), attribution.actions, Events()))
    return sum(bool(events) for events in attribution.causes().values())


def plainly(path: Path) -> int:
    """Every line through the standard library."""
    with path.open() as lines:
        return sum(json.loads(line)["action"] == "PutBucketPolicy" for line in lines)


def timed(work: Callable[[], int]) -> float:
    """Seconds of CPU, the median of three."""
    taken = []
    for _ in range(3):
        start = time.process_time()
        assert work() > 0
        taken.append(time.process_time() - start)
    return statistics.median(taken)


def main() -> None:
    """Print a table."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    with tempfile.TemporaryDirectory() as folder:
        for form in ("json", "csv", "web-log"):
            path = Path(folder) / f"events.{form}"
            written(path, megabytes, form)
            size = path.stat().st_size / 1e6
            ours = timed(lambda path=path, form=form: attributed(path, form))  # type: ignore[misc]
            line = f"{form:8} {size:6.0f} MB  {size / ours:6.0f} MB/s"
            if form == "json":
                theirs = timed(lambda path=path: plainly(path))  # type: ignore[misc]
                line += (
                    f"   ratio to json.loads of every line ({size / theirs:.0f} MB/s) {theirs / ours:.1f} (aim >= 0.8)"
                )
            print(line)
            path.unlink()


if __name__ == "__main__":
    main()
