"""Every benchmark in one run, and at the end one table: what was measured, beside what is wanted.

    python bench/every.py [NAME ...]

Each benchmark states its figures as `… FIGURE (aim <= WANTED)`, a ratio wherever there is something to measure beside.
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path
from typing import NamedTuple

BENCHES = (
    "startup", "survey", "latency", "access", "inspecting", "objects", "tables", "cluster", "cluster_survey",
    "dialects", "doors", "holders", "judge", "events", "report",
)  # fmt: skip
FIGURE = re.compile(r"([\d.]+(?:,\d{3})*)(?: [A-Za-z]+)? \(aim (<=|>=) ?([\d.]+)\)")


class Row(NamedTuple):
    """One figure: its benchmark, the words before it, what was measured, and what is wanted."""

    bench: str
    words: str
    measured: float
    sense: str
    wanted: float

    @property
    def met(self) -> bool:
        """Whether it is as wanted."""
        return self.measured <= self.wanted if self.sense == "<=" else self.measured >= self.wanted


def rows_of(bench: str, output: str) -> list[Row]:
    """The figures that a benchmark printed.

    >>> rows_of("doors", "exposures: two 3.1 ms   ratio 1.25 (aim <= 1.2)")
    [Row(bench='doors', words='exposures: two 3.1 ms   ratio', measured=1.25, sense='<=', wanted=1.2)]
    """
    found = []
    for line in output.splitlines():
        start = 0
        for match in FIGURE.finditer(line):
            head = line.split(":")[0] if start else ""
            words = f"{head}: {line[start : match.start()].strip(' ,;')}" if start else line[: match.start()].strip()
            found.append(Row(bench, words, float(match[1].replace(",", "")), match[2], float(match[3])))
            start = match.end()
    return found


def main() -> None:
    """Run what is asked for, and print the table."""
    rows: list[Row] = []
    for bench in sys.argv[1:] or BENCHES:
        print(f"== {bench}", flush=True)
        with subprocess.Popen(
            [sys.executable, Path(__file__).parent / f"{bench}.py"], stdout=subprocess.PIPE, text=True
        ) as running:
            told = ""
            for line in running.stdout or ():
                print(line, end="", flush=True)
                told += line
        rows += rows_of(bench, told) or [Row(bench, f"ended with {running.returncode}, no figure", 1, "<=", 0)]
    print("\n== all")
    for row in sorted(rows, key=lambda row: row.met):
        state = "met   " if row.met else "MISSED"
        print(f"{state} {row.measured:>9,.2f} (aim {row.sense} {row.wanted:g})  {row.bench}: {row.words[-90:]}")
    print(f"{sum(row.met for row in rows)} of {len(rows)} as wanted")


if __name__ == "__main__":
    main()
