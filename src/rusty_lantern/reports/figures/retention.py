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

    from rusty_lantern.objects.retention_summary import RetentionSummary


def locked_bytes(
    whose: str,
    words: str,
    summaries: Sequence[RetentionSummary],
    moment: datetime,
    out: Path | BytesIO,
    size: str = "slide",
) -> None:
    """Draw the bytes of buckets that are locked over the coming years, by mode, with holds apart.

    `whose`: the bucket, or the buckets, for the title. Raises `BadInput` for a kind of file that cannot be drawn,
    `CannotWrite`.
    """
    caption = f"as of {show_moment(moment)}. {words}"
    with drawn(f"Bytes under retention: {whose}", caption, out, rows=(6, 1), size=size) as (_, (axes, below)):
        _modes(axes, summaries, moment)
        _holds(below, summaries)


def _modes(axes: Axes, summaries: Sequence[RetentionSummary], moment: datetime) -> None:
    from matplotlib.dates import date2num

    releases = [release for locks in summaries for release in locks.releases]
    ends = sorted({release.month for release in releases})
    if not ends:
        axes.text(
            0.5, 0.5, "no version is under retention", ha="center", va="center", transform=axes.transAxes, fontsize=14
        )
        axes.set_axis_off()
        return
    begin = float(date2num(moment))
    dates = [0.0, *(max(0.0, float(date2num(_after(month))) - begin) for month in ends)]
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
    axes.set_xscale("symlog", linthresh=30, linscale=0.6)
    axes.set_xlim(0, max(dates[-1], 31))
    marks = [(days, words) for days, words in _TICKS if days <= dates[-1] * 1.02 or days <= 30]
    axes.set_xticks([days for days, _ in marks], [words for _, words in marks])
    axes.minorticks_off()
    axes.set_xlabel(f"from now on a logarithmic scale; the last retention ends {ends[-1]}")
    axes.yaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
    axes.legend(loc="upper right", frameon=False, fontsize=12)
    axes.grid(axis="y", color=QUIET, alpha=0.3, linewidth=0.7)
    axes.set_ylabel("bytes under retention")
    bare(axes)


def _after(month: str) -> datetime:
    """The end of a month, when everything that comes free in it has; no later than the calendar goes."""
    year, number = (int(part) for part in month.split("-"))
    if year + number // 12 > MAXYEAR:
        return datetime(MAXYEAR, 12, 31, tzinfo=UTC)
    return datetime(year + number // 12, number % 12 + 1, 1, tzinfo=UTC)


_TICKS = (
    (0, "now"), (30, "1 month"), (91, "3 months"), (365, "1 year"), (1095, "3 years"), (3650, "10 years"),
    (10950, "30 years"), (36500, "100 years"), (365000, "1,000 years"),
)  # fmt: skip
"""Days from now → the label of the time axis there."""


def _holds(axes: Axes, summaries: Sequence[RetentionSummary]) -> None:
    """Bytes under legal hold, in words: a hold has no date, and is often too small to be seen beside the rest."""
    total = sum(part.bytes for locks in summaries for part in locks.groups)
    legal_hold_bytes, versions = (
        sum(locks.legal_hold_bytes for locks in summaries),
        sum(locks.earliest_deletion.legal_holds for locks in summaries),
    )
    share = f"{show_bytes(legal_hold_bytes)} of {show_bytes(total)}"
    words = f"Under legal hold, until it is removed: {versions:,} versions, {share}"
    axes.text(0, 0.3, words, fontsize=12.5, color=INK, va="center", transform=axes.transAxes)
    axes.set_axis_off()
