"""Drift over time: what stood in each survey, by severity, and what could not be told."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.history.drift_history import Standing
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.figures.canvas import INK, PAPER, QUIET, SEVERITY, bare, drawn

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def trend(standings: Sequence[Standing], baseline: str, out: Path | BytesIO, size: str = "slide") -> None:
    """Draw drift by severity over the surveys, with what could not be told beneath.

    Raises `BadInput`, `CannotWrite`.
    """
    span = f"{show_moment(standings[0].taken)} to {show_moment(standings[-1].taken)}" if standings else "no survey"
    words = f"{len(standings)} surveys, {span}, all judged by {baseline}"
    with drawn("Drift over time", words, out, rows=(4, 1), size=size) as (figure, (axes, below)):
        _drift(axes, standings)
        _unknown(below, standings)
        figure.subplots_adjust(top=0.85, right=0.84)


def _drift(axes: Axes, standings: Sequence[Standing]) -> None:
    from matplotlib.dates import date2num

    days = [float(date2num(standing.taken)) for standing in standings]
    base = [0] * len(days)
    named: list[tuple[float, str]] = []
    for severity in SEVERITIES:
        top = [b + s.drift_by_severity.get(severity, 0) for b, s in zip(base, standings, strict=True)]
        if not any(t > b for t, b in zip(top, base, strict=True)):
            continue
        colour, hatch = SEVERITY[severity]
        axes.fill_between(days, base, top, facecolor=colour, hatch=hatch, edgecolor=PAPER, linewidth=0.8)
        if top[-1] > base[-1]:
            named.append(((top[-1] + base[-1]) / 2, f"{severity}, {top[-1] - base[-1]} now"))
        base = top
    if days:
        axes.set_xlim(days[0], days[-1] if days[-1] > days[0] else days[0] + 1)
    axes.set_ylim(0, max([*base, 1]) * 1.12)
    for place, words in _apart(named, max([*base, 1]) * 0.055):
        axes.annotate(words, (1.01, place), xycoords=("axes fraction", "data"), va="center", fontsize=12, color=INK)
    axes.set_ylabel("drift")
    _dates(axes)
    axes.grid(axis="y", color=QUIET, alpha=0.3, linewidth=0.7)
    bare(axes)


def _apart(named: list[tuple[float, str]], gap: float) -> list[tuple[float, str]]:
    """Labels moved up so far that none covers another."""
    moved: list[tuple[float, str]] = []
    for place, words in named:
        moved.append((max(place, moved[-1][0] + gap) if moved else place, words))
    return moved


def _unknown(axes: Axes, standings: Sequence[Standing]) -> None:
    from matplotlib.dates import date2num

    days = [float(date2num(standing.taken)) for standing in standings]
    counts = [standing.counts.get("unknown", 0) for standing in standings]
    axes.plot(days, counts, color=INK, linewidth=1.6, linestyle="--", marker="o", markersize=3)
    axes.set_ylim(0, max([*counts, 1]) * 1.3)
    if days:
        axes.set_xlim(days[0], days[-1] if days[-1] > days[0] else days[0] + 1)
        axes.annotate(f"{counts[-1]} now", (1.01, counts[-1]), xycoords=("axes fraction", "data"), va="center")
    _dates(axes)
    axes.set_ylabel("unknown")
    axes.grid(axis="y", color=QUIET, alpha=0.3, linewidth=0.7)
    bare(axes)


def _dates(axes: Axes) -> None:
    """A few dates along the bottom, none over another."""
    from matplotlib.dates import AutoDateLocator
    from matplotlib.ticker import MaxNLocator

    axes.xaxis_date()
    axes.xaxis.set_major_locator(AutoDateLocator(maxticks=6))
    axes.yaxis.set_major_locator(MaxNLocator(5, integer=True))
