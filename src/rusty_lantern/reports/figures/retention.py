"""Bytes that are locked over the coming years, in one bucket or in many."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import MAXYEAR, UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.value_types import show_bytes, show_moment
from rusty_lantern.reports.figures.canvas import FILLS, INK, PAPER, QUIET, bare, drawn

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from rusty_lantern.objects.retention_summary import Locks


def locked_bytes(
    whose: str, words: str, found: Sequence[Locks], moment: datetime, out: Path | BytesIO, size: str = "slide"
) -> None:
    """Draw the bytes of buckets that are locked over the coming years, by mode, with holds apart.

    `whose`: the bucket, or the buckets, for the title. Raises `BadInput` for a kind of file that cannot be drawn,
    `CannotWrite`.
    """
    told = f"as of {show_moment(moment)}. {words}"
    with drawn(f"Bytes locked in {whose}", told, out, rows=(6, 1), size=size) as (_, (axes, below)):
        _modes(axes, found, moment)
        _holds(below, found)


def _modes(axes: Axes, found: Sequence[Locks], moment: datetime) -> None:
    from matplotlib.dates import date2num

    releases = [release for locks in found for release in locks.releases]
    ends = sorted({release.month for release in releases})
    if not ends:
        axes.text(
            0.5, 0.5, "no period binds any version", ha="center", va="center", transform=axes.transAxes, fontsize=14
        )
        axes.set_axis_off()
        return
    dates = [float(date2num(when)) for when in (moment, *(_after(month) for month in ends))]
    stacks: dict[str, list[int]] = {}
    for mode in ("compliance", "governance"):
        freed: Counter[str] = Counter()
        for release in releases:
            freed[release.month] += release.bytes if release.mode == mode else 0
        left, levels = sum(freed.values()), []
        levels.append(left)
        for month in ends:
            left -= freed[month]
            levels.append(left)
        stacks[mode] = levels
    base = [0] * len(dates)
    for mode, levels in stacks.items():
        if not any(levels):
            continue
        colour, hatch = FILLS[mode]
        top = [b + level for b, level in zip(base, levels, strict=True)]
        axes.fill_between(
            dates, base, top, step="post", facecolor=colour, hatch=hatch, edgecolor=PAPER, linewidth=0.8,
            label=f"{mode}, {show_bytes(levels[0])} now",
        )  # fmt: skip
        base = top
    axes.set_ylim(0, max(base) * 1.12)
    axes.set_xlim(dates[0], dates[-1])
    axes.xaxis_date()
    axes.yaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
    axes.legend(loc="upper right", frameon=False, fontsize=12)
    axes.grid(axis="y", color=QUIET, alpha=0.3, linewidth=0.7)
    axes.set_ylabel("bytes under a period that binds")
    bare(axes)


def _after(month: str) -> datetime:
    """The end of a month, when everything that comes free in it has; no later than the calendar goes."""
    year, number = (int(part) for part in month.split("-"))
    if year + number // 12 > MAXYEAR:
        return datetime(MAXYEAR, 12, 31, tzinfo=UTC)
    return datetime(year + number // 12, number % 12 + 1, 1, tzinfo=UTC)


def _holds(axes: Axes, found: Sequence[Locks]) -> None:
    """Bytes under legal hold: a bar without a date, since a hold has none."""
    colour, hatch = FILLS["hold"]
    total = sum(part.bytes for locks in found for part in locks.parts)
    held_bytes, versions = sum(locks.held_bytes for locks in found), sum(locks.emptying.held for locks in found)
    axes.barh([0], [held_bytes], color=colour, hatch=hatch, edgecolor=INK, linewidth=0.8, height=0.6)
    axes.set_xlim(0, max(total, 1))
    axes.set_yticks([])
    axes.xaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
    held = f"{versions:,} versions, {show_bytes(held_bytes)} of {show_bytes(total)} in all"
    axes.set_title(f"under legal hold, until somebody lifts it: {held}", loc="left", fontsize=12)
    bare(axes, "top", "right", "left")
