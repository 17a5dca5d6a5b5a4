"""A small form of the benchmarks: ratios of CPU time in one run. One that is lost by more than half fails."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

BENCH = Path(__file__).parents[1] / "bench"


@pytest.mark.parametrize(
    "words,most",
    [
        (("startup.py", "5"), 1.9),  # of its aims one is missed: 3.7 where 3 is wanted
        (("tables.py", "60", "200", "3"), 1.5),
    ],
    ids=["startup", "tables"],
)
def test_no_ratio_is_lost_by_more_than_half(words: tuple[str, ...], most: float) -> None:
    ran = subprocess.run([sys.executable, *words], cwd=BENCH, capture_output=True, text=True, check=True)
    rows = re.findall(r"^(.+?)[ :].*ratio +([\d.]+) \(aim <= ([\d.]+)\)", ran.stdout, re.MULTILINE)
    assert len(rows) >= 2, ran.stdout
    lost = [row for row in rows if float(row[1]) > most * float(row[2])]
    assert not lost, ran.stdout
