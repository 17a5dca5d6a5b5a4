"""Drift over time: one bar a survey, by severity, and what is unknown below."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.history.drift_history import AuditSummary
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.figures.canvas import INK, PAPER, QUIET, SEVERITY, bare, drawn

if TYPE_CHECKING:
    from matplotlib.axes import Axes


LEAST_OF_SPAN = 60
"""The part of the whole span that a bar takes at least."""


def trend(summaries: Sequence[AuditSummary], baseline: str, out: Path | BytesIO, size: str = "slide") -> None:
    """Draw drift by severity over the surveys, with what is unknown below.

    Raises `BadInput`, `CannotWrite`.
    """
    span = f"{show_moment(summaries[0].taken)} to {show_moment(summaries[-1].taken)}" if summaries else "no survey"
    words = f"{len(summaries)} surveys, {span}, all audited with {baseline}"
    if not all(summary.coverage.whole for summary in summaries):
        words += "; a hollow mark: not every bucket was read"
    with drawn("Drift over time", words, out, rows=(4, 1), size=size) as (figure, (axes, below)):
        _drift(axes, summaries)
        _unknown(below, summaries)
        figure.subplots_adjust(top=0.85, right=0.84)


def _drift(axes: Axes, summaries: Sequence[AuditSummary]) -> None:
    from matplotlib.dates import date2num

    days = [float(date2num(summary.taken)) for summary in summaries]
    width, base = _width(days), [0] * len(days)
    named: list[tuple[float, str]] = []
    for severity in SEVERITIES:
        counts = [summary.drift_by_severity.get(severity, 0) for summary in summaries]
        if not any(counts):
            continue
        colour, hatch = SEVERITY[severity]
        axes.bar(days, counts, width, base, color=colour, hatch=hatch, edgecolor=PAPER, linewidth=0.8)
        if counts[-1]:
            named.append((base[-1] + counts[-1] / 2, f"{severity}, {counts[-1]} now"))
        base = [low + count for low, count in zip(base, counts, strict=True)]
    _room(axes, days, width)
    highest = max([*base, 1])
    axes.set_ylim(0, highest * 1.12)
    tops = zip(days, base, summaries, strict=True)
    for day, top in ((day, top) for day, top, summary in tops if not summary.coverage.whole):
        axes.plot(day, top + highest * 0.05, marker="v", markersize=9, markerfacecolor=PAPER, markeredgecolor=INK)
    for place, words in _apart(named, highest * 0.055):
        axes.annotate(words, (1.01, place), xycoords=("axes fraction", "data"), va="center", fontsize=12, color=INK)
    axes.set_ylabel("drift")
    _dates(axes)
    axes.grid(axis="y", color=QUIET, alpha=0.3, linewidth=0.7)
    bare(axes)


def _width(days: Sequence[float]) -> float:
    """The width of a bar: one a survey, none over another unless they are too close to be seen by themselves."""
    gaps = [later - earlier for earlier, later in pairwise(days)]
    span = max(days[-1] - days[0], 1.0) if days else 1.0
    return max(min([0.7 * gap for gap in gaps] + [span / 8]), span / LEAST_OF_SPAN)


def _room(axes: Axes, days: Sequence[float], width: float) -> None:
    if days:
        axes.set_xlim(days[0] - width, days[-1] + width)


def _apart(named: list[tuple[float, str]], gap: float) -> list[tuple[float, str]]:
    """Labels moved up so far that none covers another."""
    moved: list[tuple[float, str]] = []
    for place, words in named:
        moved.append((max(place, moved[-1][0] + gap) if moved else place, words))
    return moved


def _unknown(axes: Axes, summaries: Sequence[AuditSummary]) -> None:
    from matplotlib.dates import date2num

    days = [float(date2num(summary.taken)) for summary in summaries]
    counts = [summary.counts.get("unknown", 0) for summary in summaries]
    axes.plot(days, counts, color=INK, linewidth=0, marker="o", markersize=6)
    axes.set_ylim(0, max([*counts, 1]) * 1.3)
    if days:
        _room(axes, days, _width(days))
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
