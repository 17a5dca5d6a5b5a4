"""How many buckets the public gets into, by audience and verb."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.figures.canvas import DEEP, INK, MILD, SAND, bare, drawn
from rusty_lantern.reports.results.exposure import ExposureResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

LEVELS = {"open": ("#7a1f2b", "", "open from everywhere"), "restricted": (SAND, "..", "restricted"),
          "unknown": ("#ffffff", "xx", "unknown")}  # fmt: skip


def open_doors(result: ExposureResult, out: Path | BytesIO, size: str = "slide") -> None:
    """Draw, for each verb, how many buckets are open, restricted or unknown to each audience. Raises `BadInput`,
    `CannotWrite`."""
    total = len(result.buckets)
    words = (
        f"survey {result.survey}, as of {show_moment(result.as_of)}: {total} buckets; whatever is not drawn is closed"
    )
    words += result.missing
    with drawn("Public access", words, out, size=size) as (figure, (axes,)):
        from matplotlib.patches import Patch
        from matplotlib.ticker import MaxNLocator

        bars = [(verb, audience) for verb in VERBS for audience in AUDIENCES]
        lengths = [
            _bar(axes, place, [row.exposure[audience][verb].verdict for row in result.buckets])
            for place, (verb, audience) in enumerate(bars)
        ]
        names, widest = [f"{verb}   {audience.replace('-', ' ')}" for verb, audience in bars], max(1, *lengths)
        axes.set_yticks(range(len(names)), names)
        axes.set_ylim(len(names) - 0.4, -0.6)
        axes.set_xlim(0, widest * 1.05)
        axes.set_xlabel("buckets")
        axes.xaxis.set_major_locator(MaxNLocator(8, integer=True))
        for line in range(1, len(VERBS)):
            axes.axhline(2 * line - 0.5, color=MILD, linewidth=0.6)
        handles = [Patch(facecolor=c, hatch=h, edgecolor=INK, label=label) for c, h, label in LEVELS.values()]
        place_at = (0.97, 0.98)
        figure.legend(
            handles=handles, loc="upper right", bbox_to_anchor=place_at, ncols=3, frameon=False, labelcolor=DEEP
        )
        axes.tick_params(axis="y", length=0)
        bare(axes, "top", "right", "left")
        figure.subplots_adjust(left=0.26, top=0.86)


def _bar(axes: Axes, place: int, verdicts: Sequence[str]) -> int:
    """Draw one bar, level by level; returns how long it is."""
    left = 0
    for level, (colour, hatch, _) in LEVELS.items():
        number = verdicts.count(level)
        if not number:
            continue
        axes.barh(place, number, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, height=0.7)
        ink = "#ffffff" if level == "open" else INK
        back = None if level == "open" else {"facecolor": "#ffffff", "edgecolor": "none", "pad": 1.2}
        axes.text(left + number / 2, place, str(number), ha="center", va="center", color=ink, bbox=back)
        left += number
    return left
