"""Start-up: `lantern --version` and `lantern audit` beside `python -c "import typer"`.

CPU time, in turn: medians, and the median of their ratios.

python bench/startup.py [RUNS]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from measure import cpu
from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files

LANTERN = str(Path(sys.executable).parent / "lantern")


def main() -> None:
    """Print medians and ratios."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "ws"
        make(folder, workspace_files("http://127.0.0.1:9"))
        save(folder / "surveys", "bench", saltmarsh.MOMENT, [saltmarsh.harbour().dossier])
        base = [sys.executable, "-c", "import typer"]
        for title, command, aim in (
            ("lantern --version", [LANTERN, "--version"], 2.0),
            ("lantern audit (demo)", [LANTERN, "audit"], 3.0),
        ):
            cpu(command, folder), cpu(base, folder)
            pairs = [(cpu(command, folder)[0], cpu(base, folder)[0]) for _ in range(runs)]
            mine, other = (statistics.median(p[i] for p in pairs) for i in (0, 1))
            ratio = statistics.median(a / b for a, b in pairs)
            times = f"{mine * 1000:6.0f} ms   import typer {other * 1000:5.0f} ms"
            print(f"{title:22} {times}   ratio {ratio:4.2f} (aim <= {aim})")


if __name__ == "__main__":
    main()
