"""The sheet that every figure is drawn on: one size, one style, a title and a line of words; whole or not at all."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rusty_lantern.archive.atomic_write import write_whole
from rusty_lantern.core.errors import BadInput, Problem
from rusty_lantern.reports.escape import safe

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, PAPER, QUIET = "#1d2429", "#ffffff", "#8a949c"
DEEP, MILD, SAND, PALE = "#24506e", "#7fb0c9", "#d9c08a", "#e8eaec"
FILLS = {"compliance": (DEEP, ""), "governance": (MILD, "//"), "hold": (SAND, "..")}
"""Colour and hatch by what keeps the bytes: they differ in grey and without colour too."""
SEVERITY = {"critical": ("#7a1f2b", ""), "high": ("#c0603f", "//"), "medium": (SAND, ".."), "low": (MILD, "\\\\")}
"""Colour and hatch of each severity, darkest first."""
FORMATS = (".png", ".svg", ".pdf")
SIZES = {"slide": (12.8, 8.0), "page": (8.0, 5.6)}
"""Inches: a slide of 1280 x 800, and the width of a printed page."""
DOTS = 100


@contextmanager
def drawn(
    title: str, words: str, out: Path | io.BytesIO, *, rows: Sequence[float] = (1,), size: str = "slide", kind: str = ""
) -> Iterator[tuple[Figure, list[Axes]]]:
    """A figure to draw on, written when the block ends; `rows`: relative heights of the parts beneath each other.

    Raises `BadInput` for a kind of file that cannot be drawn, `CannotWrite`.
    """
    kind = kind or (out.suffix.lower() if isinstance(out, Path) else ".svg")
    if kind not in FORMATS:
        raise BadInput(Problem(f"a figure cannot be written as {kind or out}", remedy="use .png, .svg or .pdf"))
    import matplotlib as mpl
    from matplotlib.figure import Figure

    inches = SIZES[size]
    scale = inches[0] / SIZES["slide"][0]
    style: dict[Any, Any] = {
        "font.size": 12 * max(scale, 0.75), "text.color": INK, "axes.edgecolor": QUIET, "axes.labelcolor": INK,
        "hatch.linewidth": 0.6, "svg.hashsalt": "lantern", "svg.fonttype": "path",
    }  # fmt: skip
    with mpl.rc_context(style):
        figure = Figure(figsize=inches, dpi=DOTS, facecolor=PAPER)
        axes = figure.subplots(len(rows), 1, gridspec_kw={"height_ratios": list(rows)}, squeeze=False)
        figure.text(0.03, 0.965, plain(title), ha="left", va="top", fontsize=18 * max(scale, 0.75), fontweight="bold")
        wrapped = textwrap.fill(plain(words), int(135 * min(1.0, scale / max(scale, 0.75))))
        figure.text(0.03, 0.91, wrapped, ha="left", va="top", fontsize=11.5 * max(scale, 0.75), linespacing=1.4)
        figure.subplots_adjust(left=0.1, right=0.96, top=0.82, bottom=0.09, hspace=0.32)
        yield figure, [row[0] for row in axes]
        _write(figure, out, kind)


def _write(figure: Figure, out: Path | io.BytesIO, kind: str) -> None:
    held = io.BytesIO()
    figure.savefig(held, format=kind[1:], metadata=_undated(kind))
    if isinstance(out, Path):
        write_whole(out, held.getvalue())
    else:
        out.write(held.getvalue())


def _undated(kind: str) -> dict[str, Any]:
    """File metadata without the moment of drawing, so that the same input gives the same bytes."""
    kinds: dict[str, dict[str, Any]] = {
        ".png": {"Software": None}, ".svg": {"Date": None}, ".pdf": {"CreationDate": None, "Creator": None},
    }  # fmt: skip
    return kinds[kind]


def bare(axes: Axes, *sides: str) -> None:
    """Take away the lines at these sides."""
    for side in sides or ("top", "right"):
        axes.spines[side].set_visible(False)


def make_room_for_names(figure: Figure, axes: Axes, most: float = 0.45) -> None:
    """Widen the left margin until the names beside the axes fit. Names that would take more than `most` of the figure's
    width are written smaller: none is cut."""
    labels, room = axes.get_yticklabels(), 0.025

    def widest() -> float:
        return float(max((label.get_window_extent().width for label in labels), default=0) / figure.bbox.width)

    for _ in range(5):  # a font's sizes are rounded
        if (width := widest()) + room <= most:
            break
        for label in labels:
            label.set_fontsize(float(label.get_fontsize()) * (most - room) / width)
    figure.subplots_adjust(left=min(most, widest() + room))


def plain(text: str) -> str:
    """Text from a store as a figure may carry it: no control characters, and no dollar signs, which begin a formula."""
    return safe(text).replace("$", r"\$")
