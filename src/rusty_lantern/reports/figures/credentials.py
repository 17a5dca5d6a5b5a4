"""How old active access keys are, and how long they were not used."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path

from rusty_lantern.core.value_types import DAY, show_moment
from rusty_lantern.reports.escape import shorten
from rusty_lantern.reports.figures.canvas import FILLS, INK, QUIET, bare, drawn, make_room_for_names, plain
from rusty_lantern.reports.results.identities import CredentialsResult

MOST_BARS = 40


def credential_ages(
    result: CredentialsResult, out: Path | BytesIO, size: str = "slide", limit: int | None = None
) -> None:
    """Draw how old each active credential is, and for how long it was not used; those of unknown age come first.
    `limit`: the age in seconds that the baseline allows, as a line. Raises `BadInput`, `CannotWrite`."""
    active = [row for row in result.credentials if row.state != "disabled"]
    rows = sorted(active, key=lambda r: (r.age is not None, -(r.age or 0)))[:MOST_BARS]
    more = f"; the {len(rows)} oldest of {len(active)}" if len(active) > len(rows) else ""
    words = f"as of {show_moment(result.as_of)}, survey {result.survey}{more}{result.missing}"
    with drawn("Age of active access keys", words, out, size=size) as (figure, (axes,)):
        for place, row in enumerate(reversed(rows)):
            if row.age is None:
                axes.text(0, place, "age unknown ", ha="right", va="center", fontsize=10.5, color=INK)
                continue
            age, idle = (row.age or 0) / DAY, min(row.idle if row.idle is not None else 0, row.age or 0) / DAY
            axes.barh(place, idle - age, left=-idle, color=FILLS["compliance"][0], height=0.62,
                      label="in use" if row is rows[-1] else None)  # fmt: skip
            colour, hatch = FILLS["hold"]
            axes.barh(place, -idle, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, height=0.62,
                      label="not used since" if row is rows[-1] else None)  # fmt: skip
        axes.set_yticks(
            range(len(rows)),
            [plain(shorten(f"{r.store}: {r.owner or 'nobody'}  {r.key}", 48)) for r in reversed(rows)],
        )
        oldest = max(((row.age or 0) / DAY for row in rows), default=365)
        years = range(int(oldest // 365) + 2)
        axes.set_xticks(
            [-365 * year for year in years],
            [f"{year} years ago" if year > 1 else ("now", "a year ago")[year] for year in years],
        )
        axes.set_xlim(-oldest * 1.04, 0)
        axes.set_ylim(-0.6, len(rows) - 0.4)
        if limit is not None:
            axes.axvline(-limit / DAY, color=INK, linewidth=1.4, linestyle="--", label="the baseline's limit")
        axes.grid(axis="x", color=QUIET, alpha=0.35, linewidth=0.7)
        axes.set_axisbelow(True)
        bare(axes, "top", "right", "left")
        axes.tick_params(axis="y", length=0, labelsize=10.5)
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.06), ncols=3, frameon=False)
        figure.subplots_adjust(right=0.97, top=0.87, bottom=0.12)
        make_room_for_names(figure, axes)
