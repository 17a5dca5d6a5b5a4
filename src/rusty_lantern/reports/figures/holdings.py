"""Bytes by owner over time, the part of them marked that cannot be deleted."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import NamedTuple

from rusty_lantern.core.usage.holding import Group
from rusty_lantern.core.value_types import show_bytes
from rusty_lantern.reports.escape import shorten
from rusty_lantern.reports.figures.canvas import DEEP, INK, MILD, PALE, PAPER, QUIET, SAND, bare, drawn, plain

MOST_OWNERS = 6
MOST_SURVEYS = 24
FILLS = (MILD, SAND, "#c0603f", "#8a949c", "#5b7f4f", DEEP, PALE)
"""One colour an owner, the largest first; the last is for all the others."""


class Point(NamedTuple):
    """One survey."""

    taken: datetime
    groups: Sequence[Group]
    """What its owners held."""
    missing: str = ""
    """Which stores and buckets are not in it, for the caption."""

    @property
    def uncounted(self) -> int:
        """Of how many buckets the bytes are unknown."""
        return sum(group.bytes.missing for group in self.groups)


def owners_over_time(points: Sequence[Point], out: Path | BytesIO, size: str = "slide") -> None:
    """Draw a bar for each survey. Raises `BadInput`, `CannotWrite`."""
    points = points[-MOST_SURVEYS:]
    last = points[-1]
    latest = {group.name: group.bytes.value + group.old_bytes.value for group in last.groups}
    first = sorted(latest, key=lambda name: (-latest[name], name))[:MOST_OWNERS]
    unknown = sum(group.locked_bytes.missing for group in last.groups)
    words = f"{len(points)} surveys until {last.taken:%Y-%m-%d}; current and old versions together"
    words += f"; {last.uncounted} buckets were not counted" if last.uncounted else ""
    words += f"; of {unknown} buckets what is locked is unknown" if unknown else ""
    words += last.missing
    if any(point.missing or point.uncounted for point in points):
        words += "; a hollow mark: not every bucket was read and counted"
    with drawn("Who holds how much", words, out, size=size) as (figure, (axes,)):
        highest = max(sum(group.bytes.value + group.old_bytes.value for group in point.groups) for point in points)
        for place, point in enumerate(points):
            base = 0
            held = {group.name: group for group in point.groups}
            parts = [(name, [held[name]] if name in held else []) for name in first]
            parts.append(("others", [group for group in point.groups if group.name not in first]))
            for number, (name, inside) in enumerate(parts):
                total = sum(group.bytes.value + group.old_bytes.value for group in inside)
                locked = sum(group.locked_bytes.value for group in inside)
                label = plain(shorten(name, 28)) if place == 0 else None
                axes.bar(
                    place, total, bottom=base, width=0.7, color=FILLS[number], edgecolor=INK, linewidth=0.6, label=label
                )
                if locked:
                    axes.bar(place, min(locked, total), bottom=base, width=0.7, fill=False, hatch="///", edgecolor=INK,
                             linewidth=0.6)  # fmt: skip
                base += total
            axes.text(place, base, f" {show_bytes(base)}", ha="center", va="bottom", fontsize=10.5)
            if point.missing or point.uncounted:
                axes.plot(place, base + (highest or 1) * 0.075, marker="v", markersize=9, markerfacecolor=PAPER,
                          markeredgecolor=INK)  # fmt: skip
        axes.bar(0, 0, fill=False, hatch="///", edgecolor=INK, linewidth=0.6, label="of it locked")
        axes.set_xticks(range(len(points)), [f"{point.taken:%Y-%m-%d}" for point in points], rotation=0)
        axes.set_xlim(-0.7, len(points) - 0.3)
        axes.yaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
        axes.grid(axis="y", color=QUIET, alpha=0.35, linewidth=0.7)
        axes.set_axisbelow(True)
        bare(axes)
        axes.legend(loc="center left", bbox_to_anchor=(1.01, 0.5), frameon=False)
        figure.subplots_adjust(left=0.09, right=0.78, top=0.84, bottom=0.09)
