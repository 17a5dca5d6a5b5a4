"""Commands over the version tables of many buckets, beside one query by hand over the same files.

    python bench/tables.py [BUCKETS [VERSIONS [ROUNDS]]]

By hand: one query of the column engine with the same conditions, grouped by file, in a process of its own. Reported
is the CPU time of whole processes, start included, in turn: medians and their ratio; and the highest peak of memory.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
from pathlib import Path

import duckdb
import msgspec

sys.path.insert(0, str(Path(__file__).parent))
from judge import estate
from measure import cpu
from objects import BASELINE as TWELVE
from objects import GENERATED
from rusty_lantern.archive.surveys import folder_name, save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket_contents import Table
from rusty_lantern.simulator.demo import harbour as saltmarsh

CONTENTS = 20
"""Different tables; the others are links to them: a file costs the same to read whether another is like it or not."""
ENTRY = "{at: 'http://127.0.0.1:9', plain-http: allowed, credential: {profile: x}}"
FACTS = ("size", "encryption", "mode", "retention", "legal-hold")
BASELINE = "\n".join(
    line
    for line in TWELVE.splitlines()
    if "objects." not in line or line.strip().startswith(tuple(f"objects.{fact}:" for fact in FACTS))
)
"""Five of the twelve requirements."""
BY_HAND = """
import duckdb, glob
print(len(duckdb.execute('''SELECT filename,
  count(*) FILTER (size > 40000000 AND current AND NOT marker),
  count(*) FILTER (encryption = 'none' AND current AND NOT marker),
  count(*) FILTER (mode = '' AND NOT marker),
  count(*) FILTER ((mode = '' OR until - written < INTERVAL 30 DAY) AND NOT marker),
  count(*) FILTER (hold AND NOT marker)
FROM read_parquet($1, filename = true) GROUP BY filename''', [glob.glob('surveys/*/objects/harbour/*')]).fetchall()))
"""
AIMS = {"audit": 4, "retention": 5, "objects": 5, "report": 8}
WORDS = {"report": ["report", "--out", "page.html"]}


def workspace(place: Path, buckets: int, versions: int) -> None:
    """A workspace with one survey of buckets that each have a table."""
    make(place, {"estate.yaml": (f"estate: bench\nstores: {{harbour: {ENTRY}}}\n", 0o644),
                 "baseline.yaml": (BASELINE, 0o644)})  # fmt: skip
    folder = place / "surveys" / (folder_name(saltmarsh.MOMENT) + ".partial") / "objects" / "harbour"
    folder.mkdir(parents=True)
    table = Table(rows=versions, versions=versions, inspected=versions, looked="all")
    found = estate(buckets)
    made = [msgspec.structs.replace(b, table=Answer("known", table)) for b in found.buckets]
    first = [folder / f"{bucket.name}.parquet" for bucket in made[:CONTENTS]]
    for n, path in enumerate(first):
        duckdb.execute(GENERATED % (versions - n, path))
    for number, bucket in enumerate(made[CONTENTS:]):
        (folder / f"{bucket.name}.parquet").hardlink_to(first[number % CONTENTS])
    save(place / "surveys", "bench", saltmarsh.MOMENT, [msgspec.structs.replace(found, buckets=made)])


def main() -> None:
    """Print a line for each command."""
    buckets, versions, rounds = [int(word) for word in (*sys.argv[1:4], *("400", "932", "5")[len(sys.argv[1:4]) :])]
    program = str(Path(sys.executable).parent / "lantern")
    with tempfile.TemporaryDirectory() as name:
        place = Path(name) / "ws"
        workspace(place, buckets, versions)
        for command, aim in AIMS.items():
            runs = []
            for _ in range(rounds):
                hand, _ = cpu([sys.executable, "-c", BY_HAND], place)
                for kept in place.glob("results/*"):
                    kept.unlink()
                mine, peak = cpu([program, *WORDS.get(command, [command])], place)
                again, _ = cpu([program, *WORDS.get(command, [command])], place)
                runs.append((mine, hand, mine / hand, again, peak))
            mine, hand, ratio, again, _ = (statistics.median(column) for column in zip(*runs, strict=True))
            peak = max(run[-1] for run in runs)
            words = f"{mine:6.2f} CPU s, by hand {hand:5.2f}, ratio {ratio:5.1f} (aim <= {aim}), "
            words += f"again {again:.2f} CPU s, peak {peak} MiB"
            print(f"{command:9} of {buckets:,} tables: {words}", flush=True)


if __name__ == "__main__":
    main()
