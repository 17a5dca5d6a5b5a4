"""The estate at a glance: buckets by areas, the state of each by shape and shade."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path

from rusty_lantern.reports.escape import shorten
from rusty_lantern.reports.figures.canvas import DEEP, INK, PALE, drawn, plain
from rusty_lantern.reports.results.report import BucketLine, ReportResult

MOST_ROWS = 44
MARKS = {
    "critical": ("s", "#7a1f2b", 95, "drift: critical"),
    "high": ("^", "#b3402b", 80, "drift: high"),
    "lesser": ("D", "#9a6a12", 46, "drift: medium or low"),
    "unknown": ("$?$", INK, 62, "unknown"),
    "waived": ("o", "#3f6f8f", 42, "waived"),
    "ok": (".", "#6b7f8c", 30, "ok"),
}
"""State → marker, colour, size, words: no two differ by colour alone."""
_RANKS = {mark: rank for rank, mark in enumerate(MARKS)}


def mark_of(status: str, severity: str) -> str:
    """The mark of each state."""
    if status != "drift":
        return status
    return severity if severity in ("critical", "high") else "lesser"


def at_a_glance(result: ReportResult, out: Path | BytesIO, size: str = "slide") -> None:
    """Draw the buckets by area, the worst first. Raises `BadInput`, `CannotWrite`."""
    worst_first = sorted(result.buckets_by_area, key=_badness)
    shown = worst_first[:MOST_ROWS]
    rest = sum(all(cell.status == "ok" for cell in line.cells) for line in worst_first[MOST_ROWS:])
    words = f"survey {result.audit.survey}, {result.audit.baseline}, {len(worst_first)} buckets{result.audit.missing}"
    if len(worst_first) > len(shown):
        words += f"; the {len(shown)} worst; of the others, {rest} are ok in every area"
    halves = [shown[: (len(shown) + 1) // 2], shown[(len(shown) + 1) // 2 :]]
    with drawn("The estate at a glance", words, out, size=size) as (figure, (axes,)):
        axes.set_axis_off()
        boxes = [figure.add_axes((0.17, 0.1, 0.3, 0.68)), figure.add_axes((0.67, 0.1, 0.3, 0.68))]
        for box, half in zip(boxes, halves, strict=True):
            if not half:
                box.set_axis_off()
                continue
            rows = max(len(halves[0]), 1)
            marked: dict[str, list[tuple[int, int]]] = {}
            for row, line in enumerate(half):
                box.axhline(row, color=PALE, linewidth=0.8, zorder=0)
                for column, cell in enumerate(line.cells):
                    marked.setdefault(mark_of(cell.status, cell.severity), []).append((column, row))
            for mark, places in marked.items():
                shape, colour, area, _ = MARKS[mark]
                columns, lines = zip(*places, strict=True)
                box.scatter(columns, lines, marker=shape, color=colour, s=area, linewidths=0)
            box.set_ylim(rows - 0.4, -0.6)
            box.set_xlim(-0.5, len(result.areas) - 0.5)
            names = [plain(shorten(f"{line.store}/{line.bucket}", 30)) for line in half]
            box.set_yticks(range(len(half)), names, fontsize=9)
            box.set_xticks(range(len(result.areas)), [_heading(area) for area in result.areas], fontsize=8.5)
            box.xaxis.tick_top()
            box.tick_params(length=0, colors=INK)
            for side in box.spines.values():
                side.set_visible(False)
        handles = [
            axes.scatter([], [], marker=shape, color=colour, s=area, label=words)
            for shape, colour, area, words in MARKS.values()
        ]
        figure.legend(handles=handles, loc="lower center", ncols=6, frameon=False, fontsize=10, labelcolor=DEEP)


def _heading(area: str) -> str:
    """An area's name in lines that are short enough for its column."""
    return {"versions and locks": "versions\n+ locks", "housekeeping": "house-\nkeeping"}.get(area, area)


def _badness(line: BucketLine) -> tuple[object, ...]:
    marks = sorted(_RANKS[mark_of(cell.status, cell.severity)] for cell in line.cells)
    return *marks, line.store, line.bucket
