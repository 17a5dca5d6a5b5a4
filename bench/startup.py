"""Start-up: `lantern --version` and `lantern audit` beside `python -c "import typer"`, in turn, medians of ratios."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from rusty_lantern.archive.surveys import keep
from rusty_lantern.archive.workspace import make
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files

RUNS = 15
LANTERN = str(Path(sys.executable).parent / "lantern")


def seconds(command: list[str], folder: Path) -> float:
    """Wall time of one run."""
    start = time.perf_counter()
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - start


def main() -> None:
    """Print medians and ratios."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "ws"
        make(folder, workspace_files("http://127.0.0.1:9"))
        keep(folder / "surveys", "bench", saltmarsh.MOMENT, [saltmarsh.harbour().dossier])
        base = [sys.executable, "-c", "import typer"]
        for title, command, aim in (
            ("lantern --version", [LANTERN, "--version"], 2.0),
            ("lantern audit (demo)", [LANTERN, "audit"], 3.0),
        ):
            seconds(command, folder), seconds(base, folder)
            pairs = [(seconds(command, folder), seconds(base, folder)) for _ in range(RUNS)]
            mine, other = (statistics.median(p[i] for p in pairs) for i in (0, 1))
            ratio = statistics.median(a / b for a, b in pairs)
            times = f"{mine * 1000:6.0f} ms   import typer {other * 1000:5.0f} ms"
            print(f"{title:22} {times}   ratio {ratio:4.2f} (aim <= {aim})")


if __name__ == "__main__":
    main()
