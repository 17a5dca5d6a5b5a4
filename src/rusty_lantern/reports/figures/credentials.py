"""How old active access keys are, and how long they were not used."""

from __future__ import annotations

from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import Any

from rusty_lantern.core.value_types import DAY, show_moment
from rusty_lantern.reports.escape import shorten
from rusty_lantern.reports.figures.canvas import FILLS, INK, QUIET, bare, drawn, make_room_for_names, plain
from rusty_lantern.reports.results.identities import CredentialRow, CredentialsResult

MOST_BARS = 40
BARS = {
    "in use": FILLS["compliance"], "not used since": FILLS["hold"], "last use unknown": ("#ffffff", "xx"),
}  # fmt: skip
"""Colour and hatch of the parts of a bar."""


def credential_ages(
    result: CredentialsResult, out: Path | BytesIO, size: str = "slide", limit: int | None = None
) -> None:
    """Draw how old each credential is that is not disabled, and for how long it was not used; those of unknown age come
    first. `result.unread`: the stores whose credentials are unknown; `limit`: the age in seconds that the baseline
    allows, as a line. Raises `BadInput`, `CannotWrite`."""
    active = [row for row in result.credentials if row.state != "disabled"]
    rows = sorted(active, key=lambda r: (r.age is not None, -(r.age or 0)))[:MOST_BARS]
    more = f"; the {len(rows)} oldest of {len(active)}" if len(active) > len(rows) else ""
    words = f"as of {show_moment(result.as_of)}, survey {result.survey}{more}{result.missing}"
    unread = sorted(result.unread.keys() - result.unread_stores.keys())
    words += f"; credentials unknown: {', '.join(unread)}" * bool(unread)
    with drawn("Age of active access keys", words, out, size=size) as (figure, (axes,)):
        from matplotlib.patches import Patch

        for place, row in enumerate(reversed(rows)):
            if row.age is None:
                axes.text(0, place, "age unknown ", ha="right", va="center", fontsize=10.5, color=INK)
                continue
            left = 0.0
            for part, length in _parts(row.age, row.idle):
                colour, hatch = BARS[part]
                axes.barh(place, -length / DAY, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6,
                          height=0.62)  # fmt: skip
                left -= length / DAY
        axes.set_yticks(
            range(len(rows)),
            [plain(_name(row)) for row in reversed(rows)],
        )
        oldest = max(((row.age or 0) / DAY for row in rows), default=365)
        years = range(int(oldest // 365) + 2)
        axes.set_xticks(
            [-365 * year for year in years],
            [f"{year} years ago" if year > 1 else ("now", "a year ago")[year] for year in years],
        )
        axes.set_xlim(-oldest * 1.04, 0)
        axes.set_ylim(-0.6, len(rows) - 0.4)
        handles: list[Any] = [Patch(facecolor=c, hatch=h, edgecolor=INK, label=part) for part, (c, h) in BARS.items()]
        if limit is not None:
            words = "the baseline's limit"
            handles.append(axes.axvline(-limit / DAY, color=INK, linewidth=1.4, linestyle="--", label=words))
        axes.grid(axis="x", color=QUIET, alpha=0.35, linewidth=0.7)
        axes.set_axisbelow(True)
        bare(axes, "top", "right", "left")
        axes.tick_params(axis="y", length=0, labelsize=10.5)
        axes.legend(handles=handles, loc="upper center", bbox_to_anchor=(0.5, -0.06), ncols=4, frameon=False)
        figure.subplots_adjust(right=0.97, top=0.87, bottom=0.12)
        make_room_for_names(figure, axes)


def _parts(age: int, idle: int | None) -> Iterator[tuple[str, int]]:
    """The parts of a bar with their seconds, from now backwards.

    >>> list(_parts(10, 4)), list(_parts(10, 12)), list(_parts(10, None))
    ([('not used since', 4), ('in use', 6)], [('not used since', 10)], [('last use unknown', 10)])
    """
    if idle is None:
        yield "last use unknown", age
        return
    if idle > 0:
        yield "not used since", min(idle, age)
    if age > idle:
        yield "in use", age - idle


def _name(row: CredentialRow) -> str:
    doubt = "" if row.state == "active" else ", state unknown"
    return shorten(f"{row.store}: {row.owner or 'nobody'}  {row.key}{doubt}", 48)
