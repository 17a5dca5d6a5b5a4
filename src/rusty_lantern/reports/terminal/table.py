""""""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.cells import cell_len, set_cell_size
from rich.console import Console
from rich.segment import Segment, Segments

from rusty_lantern.reports.escape import plain_marks, safe, shorten
from rusty_lantern.reports.terminal.layout import Cell

MODEST, SMALLEST = 14, 8
"""Widths to which columns are shortened: all of them to the first, in order, before any to the second."""


class Grid:
    """A table without lines.

    Where it is wider than the terminal, columns of `shrink` are shortened in the middle, in that order; if that is
    not enough, columns of `drop` are left out, in that order, and `dropped` names them. Rather than shorten others
    below `keep` characters (or what `floors` has for a column), a column is left out.
    """

    def __init__(
        self,
        *headings: str,
        shrink: Sequence[int] = (),
        right: Sequence[int] = (),
        drop: Sequence[int] = (),
        keep: int = MODEST,
        floors: Mapping[int, int] | None = None,
    ) -> None:
        self.headings = headings
        self.shrink = shrink
        self.right = right
        self.drop = drop
        self.keep = keep
        self.floors = dict(floors or {})
        self.dropped: list[str] = []
        self.rows: list[tuple[Cell, ...]] = []

    def add(self, *cells: Cell) -> None:
        """Add a row; a cell may be (text, style)."""
        self.rows.append(cells)

    def show(self, screen: Console, indent: int = 0, *, headings: bool = True) -> None:
        """Print the table."""
        self._leave_out(screen.width - indent)
        texts = self._plain()
        widths = self._widths(texts, screen.width - indent, headings=headings)
        written: list[Segment] = []
        if headings:
            written += self._row(screen, list(self.headings), ["dim"] * len(widths), widths, indent)
        for row, cells in zip(self.rows, texts, strict=True):
            written += self._row(screen, cells, [_style(cell) for cell in row], widths, indent)
        screen.print(Segments(written), end="", crop=True)

    def _row(
        self, screen: Console, texts: list[str], styles: list[str], widths: list[int], indent: int
    ) -> list[Segment]:
        """One line of the table; segments, since rich's own text is four times slower over thousands of lines."""
        pieces = [Segment(" " * indent)]
        last = max((number for number, text in enumerate(texts) if text), default=-1)
        for number in range(last + 1):
            shown = fitted(texts[number], widths[number])
            room = Segment(" " * (widths[number] - cell_len(shown)))
            words = Segment(plain_marks(screen, shown), screen.get_style(styles[number]) if styles[number] else None)
            pieces += [room, words] if number in self.right else [words, room]
            pieces.append(Segment("  "))
        if last >= 0:
            del pieces[-1 if last in self.right else -2 :]
        return [*pieces, Segment.line()]

    def _leave_out(self, room: int) -> None:
        """Take out the columns that may be dropped, until the rest fits or none is left to drop."""
        for wanted in [self.headings[number] for number in self.drop]:
            widths = [max(map(cell_len, column)) for column in zip(self.headings, *self._plain(), strict=True)]
            widths = [min(w, self._floor(c)) if c in self.shrink else w for c, w in enumerate(widths)]
            if sum(widths) + 2 * (len(widths) - 1) <= room:
                return
            gone = self.headings.index(wanted)
            self.dropped.append(wanted)
            self.headings = (*self.headings[:gone], *self.headings[gone + 1 :])
            self.rows = [(*row[:gone], *row[gone + 1 :]) for row in self.rows]
            self.shrink = [n - (n > gone) for n in self.shrink if n != gone]
            self.floors = {n - (n > gone): least for n, least in self.floors.items() if n != gone}
            self.right = [n - (n > gone) for n in self.right if n != gone]

    def _plain(self) -> list[list[str]]:
        return [[safe(_words(cell)) for cell in row] for row in self.rows]

    def _widths(self, texts: list[list[str]], room: int, *, headings: bool) -> list[int]:
        columns = range(len(self.headings))
        widths = [
            max([len(self.headings[c]) if headings else 0, *(cell_len(row[c]) for row in texts)], default=0)
            for c in columns
        ]
        room -= 2 * (len(widths) - 1)
        for least in (0, MODEST, SMALLEST):
            for column in self.shrink or columns:
                too_wide = sum(widths) - room
                widths[column] -= max(0, min(too_wide, widths[column] - (least or self._floor(column))))
        return widths

    def _floor(self, column: int) -> int:
        """The least width of a column while another can give way."""
        return self.floors.get(column, self.keep)


def _words(cell: Cell) -> str:
    return cell[0] if isinstance(cell, tuple) else cell


def _style(cell: Cell) -> str:
    return cell[1] if isinstance(cell, tuple) else ""


def fitted(text: str, width: int) -> str:
    """The text in so many columns of a terminal, with its middle left out where it is wider.

    >>> fitted("潮汐観測所の記録", 9)
    '潮汐…記録'
    """
    if cell_len(text) <= width:
        return text
    if text.isascii():
        return shorten(text, width)
    tail = (width - 1) // 2
    return set_cell_size(text, width - 1 - tail) + "…" + set_cell_size(text[::-1], tail)[::-1]
