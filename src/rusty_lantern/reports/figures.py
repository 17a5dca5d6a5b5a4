"""Figures, drawn by Matplotlib in one style: calm, labelled in words, legible in grey."""

from __future__ import annotations

import textwrap
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.errors import BadInput, Complaint
from rusty_lantern.core.scales import DAY, show_bytes, show_moment
from rusty_lantern.reports.holder_results import CredentialsResult
from rusty_lantern.reports.object_results import RetentionRow
from rusty_lantern.reports.safe import safe, shorten

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, PAPER, QUIET = "#1d2429", "#ffffff", "#8a949c"
FILLS = {"compliance": ("#24506e", ""), "governance": ("#7fb0c9", "//"), "hold": ("#d9c08a", "..")}
"""Colour and hatch by what keeps the bytes: they differ in grey and without colour too."""
FORMATS = (".png", ".svg", ".pdf")
INCHES, DOTS = (12.8, 8.0), 100


def locked_bytes(row: RetentionRow, moment: datetime, out: Path) -> None:
    """Draw the bytes of a bucket that are locked over the coming years, by mode, with holds apart.

    Raises `BadInput` for a file that cannot be written or is of no known kind.
    """
    _checked(out)
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot

    with mpl.rc_context({"font.size": 12, "text.color": INK, "axes.edgecolor": QUIET, "hatch.linewidth": 0.6,
                         "svg.hashsalt": "lantern"}):  # fmt: skip
        figure, (axes, below) = pyplot.subplots(
            2, 1, figsize=INCHES, dpi=DOTS, height_ratios=(6, 1), facecolor=PAPER, sharex=False
        )
        _modes(axes, row, moment)
        _holds(below, row)
        title = _plain(f"Bytes locked in {row.store}/{row.bucket}")
        figure.text(0.04, 0.965, title, ha="left", va="top", fontsize=18, fontweight="bold")
        words = textwrap.fill(f"as of {show_moment(moment)}. {row.sentence}", 130)
        figure.text(0.04, 0.91, words, ha="left", va="top", fontsize=11.5, linespacing=1.4)
        figure.subplots_adjust(left=0.1, right=0.96, top=0.82, bottom=0.07, hspace=0.32)
        try:
            figure.savefig(out, metadata=_undated(out))
        except OSError as error:
            raise BadInput(Complaint(f"the figure cannot be written to {out}: {error.strerror}")) from None
        finally:
            pyplot.close(figure)


MOST_BARS = 40


def credential_ages(result: CredentialsResult, out: Path) -> None:
    """Draw how old each live credential is, and how much of that it has lain idle. Raises `BadInput`."""
    _checked(out)
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot

    live = [row for row in result.credentials if row.state != "disabled" and row.age is not None]
    rows = sorted(live, key=lambda r: -(r.age or 0))[:MOST_BARS]
    with mpl.rc_context({"font.size": 12, "text.color": INK, "axes.edgecolor": QUIET, "hatch.linewidth": 0.6,
                         "svg.hashsalt": "lantern"}):  # fmt: skip
        figure, axes = pyplot.subplots(figsize=INCHES, dpi=DOTS, facecolor=PAPER)
        for place, row in enumerate(reversed(rows)):
            age, idle = (row.age or 0) / DAY, min(row.idle if row.idle is not None else 0, row.age or 0) / DAY
            axes.barh(place, idle - age, left=-idle, color=FILLS["compliance"][0], height=0.62,
                      label="in use" if place == 0 else None)  # fmt: skip
            colour, hatch = FILLS["hold"]
            axes.barh(place, -idle, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, height=0.62,
                      label="lain idle since it was last used" if place == 0 else None)  # fmt: skip
        axes.set_yticks(
            range(len(rows)),
            [_plain(shorten(f"{r.store}: {r.owner or 'nobody'}  {r.key}", 48)) for r in reversed(rows)],
        )
        oldest = max(((row.age or 0) / DAY for row in rows), default=365)
        years = range(int(oldest // 365) + 2)
        axes.set_xticks(
            [-365 * year for year in years],
            [f"{year} years ago" if year > 1 else ("now", "a year ago")[year] for year in years],
        )
        axes.set_xlim(-oldest * 1.04, 0)
        axes.grid(axis="x", color=QUIET, alpha=0.35, linewidth=0.7)
        axes.set_axisbelow(True)
        for side in ("top", "right", "left"):
            axes.spines[side].set_visible(False)
        axes.tick_params(axis="y", length=0, labelsize=10.5)
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.06), ncols=2, frameon=False)
        figure.text(
            0.03, 0.965, "How old the live credentials are", ha="left", va="top", fontsize=18, fontweight="bold"
        )
        untold = sum(row.age is None for row in result.credentials)
        more = f"; the {len(rows)} oldest of {len(live)}" if len(live) > len(rows) else ""
        also = f"; the age of {untold} more is not known" if untold else ""
        words = f"as of {show_moment(result.as_of)}, survey {result.survey}{more}{also}"
        figure.text(0.03, 0.92, words, ha="left", va="top", fontsize=11.5)
        figure.subplots_adjust(left=0.3, right=0.97, top=0.87, bottom=0.12)
        try:
            figure.savefig(out, metadata=_undated(out))
        except OSError as error:
            raise BadInput(Complaint(f"the figure cannot be written to {out}: {error.strerror}")) from None
        finally:
            pyplot.close(figure)


def _plain(text: str) -> str:
    """Text from a store as a figure may carry it: no control characters, and no dollar signs, which begin a formula."""
    return safe(text).replace("$", r"\$")


def _checked(out: Path) -> None:
    if out.suffix.lower() not in FORMATS:
        raise BadInput(
            Complaint(f"a figure cannot be written as {out.suffix or out.name}", remedy="use .png, .svg or .pdf")
        )


def _undated(out: Path) -> dict[str, str | None]:
    """File metadata without the moment of drawing, so that the same input gives the same bytes."""
    kinds: dict[str, dict[str, str | None]] = {
        ".png": {"Software": None}, ".svg": {"Date": None}, ".pdf": {"CreationDate": None, "Creator": None},
    }  # fmt: skip
    return kinds[out.suffix.lower()]


def _modes(axes: Axes, row: RetentionRow, moment: datetime) -> None:
    from matplotlib.dates import date2num

    ends = sorted({release.month for release in row.locks.releases})
    if not ends:
        axes.text(
            0.5, 0.5, "no period binds any version", ha="center", va="center", transform=axes.transAxes, fontsize=14
        )
        axes.set_axis_off()
        return
    dates = [float(date2num(when)) for when in (moment, *(_after(month) for month in ends))]
    stacks: dict[str, list[int]] = {}
    for mode in ("compliance", "governance"):
        freed = {release.month: release.bytes for release in row.locks.releases if release.mode == mode}
        left, levels = sum(freed.values()), []
        levels.append(left)
        for month in ends:
            left -= freed.get(month, 0)
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
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _after(month: str) -> datetime:
    """The end of a month, when everything that comes free in it has."""
    year, number = (int(part) for part in month.split("-"))
    return datetime(year + number // 12, number % 12 + 1, 1, tzinfo=UTC)


def _holds(axes: Axes, row: RetentionRow) -> None:
    """Bytes under legal hold: a bar without a date, since a hold has none."""
    colour, hatch = FILLS["hold"]
    total = sum(part.bytes for part in row.locks.parts)
    axes.barh([0], [row.locks.held_bytes], color=colour, hatch=hatch, edgecolor=INK, linewidth=0.8, height=0.6)
    axes.set_xlim(0, max(total, 1))
    axes.set_yticks([])
    axes.xaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
    held = f"{row.locks.emptying.held:,} versions, {show_bytes(row.locks.held_bytes)} of {show_bytes(total)} in all"
    axes.set_title(f"under legal hold, until somebody lifts it: {held}", loc="left", fontsize=12)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
