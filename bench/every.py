"""Every benchmark in one run, and at the end one table: what was measured, beside what is wanted.

    python bench/every.py [NAME ...]

Each benchmark states its figures as `… FIGURE (aim <= WANTED)`, a ratio wherever there is something to measure beside.
Aims in seconds were set on a machine that took 0.148 s of processor time to import typer. How long this one takes is
measured before and after each benchmark, and seconds are held against the aim as that machine would have had them.
"""

from __future__ import annotations

import re
import statistics
import subprocess
import sys
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent))
from measure import cpu

BENCHES = (
    "startup", "survey", "latency", "access", "inspecting", "objects", "tables", "cluster", "cluster_survey",
    "dialects", "doors", "holders", "judge", "events", "report",
)  # fmt: skip
WITHOUT_AIM = ("inspecting",)
FIGURE = re.compile(r"([\d.]+(?:,\d{3})*)(?: ([A-Za-z]+))? \(aim (<=|>=) ?([\d.]+)\)")
IMPORT = 0.148
"""Processor seconds of `import typer` where aims in seconds were set."""


class Row(NamedTuple):
    """One figure: its benchmark, the words before it, what was measured, and what is wanted."""

    bench: str
    words: str
    measured: float
    sense: str
    wanted: float
    timed: bool = False
    """Whether it is a time, which hangs on the machine."""
    slowness: float = 1
    """How many times longer than the aim's machine this one took."""

    @property
    def compared(self) -> float:
        """What is held against the aim."""
        return self.measured / self.slowness if self.timed else self.measured

    @property
    def met(self) -> bool:
        """Whether it is as wanted."""
        return self.compared <= self.wanted if self.sense == "<=" else self.compared >= self.wanted


def rows_of(bench: str, output: str, slowness: float = 1) -> list[Row]:
    """The figures that a benchmark printed.

    >>> [row] = rows_of("doors", "exposures: two 3.1 ms   ratio 1.25 (aim <= 1.2)")
    >>> row.words, row.measured, row.timed
    ('exposures: two 3.1 ms   ratio', 1.25, False)
    >>> [row] = rows_of("report", "a report: 6.6 s (aim <= 6)", slowness=1.2)
    >>> row.measured, row.compared, row.met
    (6.6, 5.5, True)
    """
    found = []
    for line in output.splitlines():
        start = 0
        for match in FIGURE.finditer(line):
            head = line.split(":")[0] if start else ""
            words = f"{head}: {line[start : match.start()].strip(' ,;')}" if start else line[: match.start()].strip()
            measured, timed = float(match[1].replace(",", "")), match[2] in ("s", "ms")
            found.append(Row(bench, words, measured, match[3], float(match[4]), timed, slowness))
            start = match.end()
    return found


def slowness() -> list[float]:
    """How many times longer than the aim's machine this one takes at the moment, tried a few times."""
    return [cpu([sys.executable, "-c", "import typer"], Path.cwd())[0] / IMPORT for _ in range(5)]


def main() -> None:
    """Run what is asked for, and print the table."""
    rows: list[Row] = []
    for bench in sys.argv[1:] or BENCHES:
        print(f"== {bench}", flush=True)
        before = slowness()
        with subprocess.Popen(
            [sys.executable, Path(__file__).parent / f"{bench}.py"], stdout=subprocess.PIPE, text=True
        ) as running:
            told = ""
            for line in running.stdout or ():
                print(line, end="", flush=True)
                told += line
        slow = statistics.median(before + slowness())
        rows += rows_of(bench, told, slow)
        if running.returncode or not (bench in WITHOUT_AIM or rows_of(bench, told)):
            rows.append(Row(bench, f"ended with {running.returncode}, or without a figure", 1, "<=", 0))
    print("\n== all")
    for row in sorted(rows, key=lambda row: row.met):
        state = "met   " if row.met else "MISSED"
        here = (
            f"; measured {row.measured:,.2f}, this machine being {row.slowness:.2f} times slower" if row.timed else ""
        )
        aim = f"(aim {row.sense} {row.wanted:g}{here})"
        print(f"{state} {row.compared:>9,.2f} {aim}  {row.bench}: {row.words[-90:]}")
    print(f"{sum(row.met for row in rows)} of {len(rows)} as wanted")


if __name__ == "__main__":
    main()
