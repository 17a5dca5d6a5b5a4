"""Twelve object requirements over generated tables of 1, 10 and 50 million versions, beside the same by hand.

By hand: the same twelve conditions written as one query, counting what drifts. Reported: rows a second, the ratio to
the query by hand, the retention summary's own time, and the peak memory of a process of its own.

    python bench/objects.py [MILLIONS...]
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)
ROUNDS = 3
GENERATED = """
COPY (
  SELECT printf('data/%%04d/%%09d.%%s', i // 10000, i,
      CASE i %% 5 WHEN 0 THEN 'jpg' WHEN 1 THEN 'csv' ELSE 'pdf' END) AS key,
    md5(i::VARCHAR)[:20] AS version, true AS current, false AS marker, (hash(i) %% 50000000)::BIGINT AS size,
    md5((i + 1)::VARCHAR) AS etag, make_timestamptz(1600000000000000 + i * 1000000) AS written,
    CASE WHEN i %% 50 = 0 THEN 'COLD' ELSE 'STANDARD' END AS tier, 'yes' AS inspected,
    CASE i %% 5 WHEN 0 THEN 'image/jpeg' WHEN 1 THEN 'text/csv' ELSE 'application/pdf' END AS content_type,
    CASE WHEN i %% 7 = 0 THEN 'no-store' END AS cache_control, NULL::VARCHAR AS content_encoding,
    NULL::VARCHAR AS disposition, MAP {'station': 'north' || (i %% 30)} AS metadata,
    NULL::MAP(VARCHAR, VARCHAR) AS tags,
    CASE WHEN i %% 100 = 0 THEN 'none' ELSE 'provider-managed' END AS encryption, '' AS encryption_key,
    CASE WHEN i %% 3 = 0 THEN 'compliance' WHEN i %% 3 = 1 THEN 'governance' ELSE '' END AS mode,
    CASE WHEN i %% 3 < 2 THEN make_timestamptz(1700000000000000 + (i %% 1000) * 86400000000) END AS until,
    i %% 500 = 0 AS hold, '' AS replication, 'sha256' AS checksum,
    NULL::TIMESTAMPTZ AS expires, '' AS points_to, 'none' AS public,
    NULL::TIMESTAMPTZ AS beneath_until, NULL::BOOLEAN AS beneath_hold, NULL::BOOLEAN AS beneath_unknown
  FROM range(%d) t(i)
) TO '%s' (FORMAT parquet, COMPRESSION zstd, ROW_GROUP_SIZE 100000)
"""
BASELINE = """
title: bench
edition: 1
sheets:
  - sheet: all
    require:
      objects.size: at most 40 MB
      objects.content-type: one of [image/jpeg, text/csv, application/pdf]
      objects.cache-control: absent
      objects.encryption: at least provider-managed
      objects.mode: at least governance
      objects.retention: at least 30 days
      objects.legal-hold: off
      objects.tier: STANDARD
      objects.metadata.station: matches "north[0-9]+"
      objects.age: at least 100 days
      objects.name: 'matches "data/[0-9]+/[0-9]+[.][a-z]+"'
      objects.checksum: present
"""
BY_HAND = """
SELECT count(*) FILTER (size > 40000000),
  count(*) FILTER (content_type NOT IN ('image/jpeg', 'text/csv', 'application/pdf')),
  count(*) FILTER (cache_control IS NOT NULL), count(*) FILTER (encryption = 'none'), count(*) FILTER (mode = ''),
  count(*) FILTER (mode = '' OR until - written < INTERVAL 30 DAY), count(*) FILTER (hold),
  count(*) FILTER (tier <> 'STANDARD'), count(*) FILTER (NOT regexp_full_match(metadata['station'], 'north[0-9]+')),
  count(*) FILTER (written > TIMESTAMPTZ '2026-07-25 06:00:00Z'),
  count(*) FILTER (NOT regexp_full_match(key, 'data/[0-9]+/[0-9]+[.][a-z]+')),
  count(*) FILTER (checksum = '')
FROM read_parquet('%s') WHERE current AND NOT marker
"""


def one(what: str, path: Path) -> tuple[float, list[int]]:
    """Seconds of CPU that one side takes, and how much drift it counted."""
    from rusty_lantern.core.baseline.loader import read_baseline
    from rusty_lantern.objects.duckdb_engine import engine
    from rusty_lantern.objects.evaluation import tallies
    from rusty_lantern.objects.retention_summary import retention_summaries
    from rusty_lantern.objects.table_set import VersionTable

    table = VersionTable(path, 1_000_000_000, default_mode="compliance", default_retention=86400)
    requirements = list(read_baseline(BASELINE, "bench").sheets[0].require)
    start = time.process_time()
    if what == "lantern":
        found = [tally.failed for tally in tallies([(table, requirements)], NOW)[0]]
    elif what == "retention":
        found = [part.versions for part in retention_summaries([table], NOW)[0].groups]
    else:
        with engine() as columns:
            found = list(columns.execute(BY_HAND % path).fetchone() or ())
    return time.process_time() - start, found


def side(what: str, path: Path) -> tuple[float, float, list[int]]:
    """Median seconds, peak MiB and counts of one side, in processes of its own."""
    runs = []
    for _ in range(ROUNDS):
        ran = subprocess.run(
            [sys.executable, __file__, "run", what, str(path)], capture_output=True, text=True, check=True
        )
        runs.append(json.loads(ran.stdout))
    return statistics.median(run[0] for run in runs), max(run[1] for run in runs), runs[0][2]


def main() -> None:
    """Print the figures."""
    if sys.argv[1:2] == ["run"]:
        seconds, found = one(sys.argv[2], Path(sys.argv[3]))
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        sys.stdout.write(json.dumps([seconds, peak, found]))
        return
    import duckdb

    with tempfile.TemporaryDirectory() as folder:
        for millions in [float(word) for word in sys.argv[1:]] or [1, 10, 50]:
            path = Path(folder) / f"{millions}.parquet"
            duckdb.execute(GENERATED % (int(millions * 1_000_000), path))
            mine, peak, counted = side("lantern", path)
            hand, _, by_hand = side("by hand", path)
            locked, locked_peak, _ = side("retention", path)
            if counted != by_hand:
                raise SystemExit(f"the counts differ: {counted} and {by_hand}")
            rate = millions * 1_000_000 / mine
            print(
                f"{millions:4g} million: {mine:6.2f} s, {rate:12,.0f} rows/s, "
                f"ratio to by hand {mine / hand:.2f} (aim <= 1.5), "
                f"peak {peak:,.0f} MiB (aim <= 600); retention summary {locked:.2f} s more, "
                f"{(mine + locked) / mine:.2f} together (aim <= 2), "
                f"peak {locked_peak:,.0f} MiB",
                flush=True,
            )
            path.unlink()


if __name__ == "__main__":
    main()
