"""The report of 10,000 buckets with 20,000 drifts: made, and opened in Chromium where it is installed.

    python bench/report.py [BUCKETS]     # with a number, without figures, and not opened

CPU time, held against `lantern audit --format json` of the same survey; memory is that of the program's process.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import msgspec

sys.path.insert(0, str(Path(__file__).parent))
from judge import estate
from measure import cpu
from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.simulator.demo import harbour as saltmarsh

ENTRY = "{at: 'http://127.0.0.1:9', plain-http: allowed, credential: {profile: x}}"
REQUIRED = {
    "exposure.read": "closed", "versioning": "on", "logging": "on", "region": "elsewhere", "tags.absent-one": "present",
}  # fmt: skip
BASELINE = json.dumps({"title": "bench", "sheets": [{"sheet": "s", "require": REQUIRED}]})


PROGRAM = str(Path(sys.executable).parent / "lantern")


def opened(page: Path, folder: Path) -> float | None:
    """Seconds that Chromium takes from its start to the printed page, less those of an empty page."""
    if shutil.which("chromium") is None:
        return None
    switches = "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
    switches += " --disable-component-update --disable-sync --window-size=1280,800"
    empty = folder / "empty.html"
    empty.write_text("<!doctype html><title>x</title>")
    taken = []
    for one in (empty, page):
        start = time.perf_counter()
        words = ["chromium", *switches.split(), f"--user-data-dir={folder}/c", f"--screenshot={folder}/x.png"]
        subprocess.run([*words, f"file://{one}"], capture_output=True, check=True)
        taken.append(time.perf_counter() - start)
    return taken[1] - taken[0]


def main() -> None:
    """Print a line each."""
    buckets = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory() as name:
        place = Path(name) / "ws"
        make(place, {"estate.yaml": (f"estate: bench\nstores: {{harbour: {ENTRY}}}\n", 0o644),
                     "baseline.yaml": (BASELINE, 0o644)})  # fmt: skip
        save(place / "surveys", "bench", saltmarsh.MOMENT, [msgspec.structs.replace(estate(buckets))])
        judged, _ = cpu([PROGRAM, "audit", "--format", "json", "--out", "audit.json"], place)
        drift = json.loads((place / "audit.json").read_text())["counts"]["drift"]
        figures = [] if len(sys.argv) == 1 else ["--no-figures"]
        taken, peak = cpu([PROGRAM, "report", "--out", "page.html", *figures], place)
        size = (place / "page.html").stat().st_size / 1e6
        words = f"{taken:.1f} s (aim <= 6), ratio to auditing to JSON {taken / judged:.1f} (aim <= 3)"
        print(f"report of {buckets:,} buckets, {drift:,} drifts: {words}")
        print(f"peak memory {peak} MiB (aim <= 300), page {size:.1f} MB")
        seconds = opened(place / "page.html", Path(name)) if len(sys.argv) == 1 else None
        if seconds is not None:
            print(f"opened in Chromium: {seconds:.1f} s more than an empty page")


if __name__ == "__main__":
    main()
