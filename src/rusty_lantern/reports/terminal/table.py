"""Tables without lines, for any width: what does not fit wraps, and nothing is ever cut in the middle.

Where a table is wider than the terminal, the columns that may wrap become narrower, down to their least width. If that
is not enough, the leading column (the name of a bucket, of an identity) gets a line of its own, once for all rows that
follow of the same name, and the rest is below it. Only then are columns left out that may be, and it is said which.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import zip_longest

from rich.cells import cell_len
from rich.console import Console
from rich.segment import Segment, Segments

from rusty_lantern.reports.escape import plain_marks, safe
from rusty_lantern.reports.terminal.layout import Cell

LEAST = 12
"""The least width of a column that wraps."""
USUAL = 0.85
"""The share of a column's cells that are to stay on one line as long as possible."""
HEADING_LINES = 2
"""How many lines a heading may take where there is room."""
BELOW = 2
"""How far rows are indented below their leading column."""


class Table:
    """A table without lines. `shrink`: columns that may wrap; `lead`: the one that may get a line of its own; `drop`:
    columns that may be left out, in that order, and `dropped` names them; `sparse`: those that are not shown where none
    of their cells says anything."""

    def __init__(
        self,
        *headings: str,
        shrink: Sequence[int] = (),
        right: Sequence[int] = (),
        drop: Sequence[int] = (),
        lead: int | None = None,
        floors: Mapping[int, int] | None = None,
        sparse: Sequence[int] = (),
    ) -> None:
        self.headings = list(headings)
        self.shrink = set(shrink) - {lead}
        self.right = set(right)
        self.drop = list(drop)
        self.lead = lead
        self.floors = dict(floors or {})
        self.sparse = set(sparse)
        self.dropped: list[str] = []
        self.rows: list[tuple[Cell, ...]] = []

    def add(self, *cells: Cell) -> None:
        """Add a row; a cell may be (text, style)."""
        self.rows.append(cells)

    def show(self, screen: Console, indent: int = 0, *, headings: bool = True) -> None:
        """Print the table."""
        texts = [[safe(_words(cell)) for cell in row] for row in self.rows]
        natural = self._natural(texts, headings=headings)
        shown = [c for c in range(len(self.headings)) if c not in self.sparse or any(row[c] for row in texts)]
        room = screen.width - indent
        stacked = self.lead is not None and self._least(shown, natural) > room
        if stacked:
            shown.remove(self.lead)  # type: ignore[arg-type]
            room -= BELOW
        for gone in self.drop:
            if self._least(shown, natural) <= room:
                break
            if gone in shown:
                shown.remove(gone)
                self.dropped.append(self.headings[gone])
        widths = self._widths(shown, natural, texts, room)
        if headings:
            self._widen(widths, room)
        written: list[Segment] = []
        below = indent + BELOW if stacked else indent
        if headings:
            dim = dict.fromkeys(shown, "dim")
            written += self._lines(screen, {c: self.headings[c] for c in shown}, dim, widths, below)
        before = None
        for row, cells in zip(self.rows, texts, strict=True):
            if stacked and self.lead is not None:
                if cells[self.lead] != before:
                    written += self._alone(screen, cells[self.lead], _style(row[self.lead]), indent)
                before = cells[self.lead]
            styles = {column: _style(row[column]) for column in shown}
            written += self._lines(screen, {c: cells[c] for c in shown}, styles, widths, below)
        screen.print(Segments(written), end="", soft_wrap=True)

    def _natural(self, texts: list[list[str]], *, headings: bool) -> list[int]:
        """The width of each column if nothing wraps."""
        heads = [max(map(cell_len, heading.split()), default=0) if headings else 0 for heading in self.headings]
        return [max([heads[c], *(cell_len(row[c]) for row in texts)]) for c in range(len(self.headings))]

    def _least(self, shown: Sequence[int], natural: Sequence[int]) -> int:
        """The least width of a row of these columns."""
        return sum(self._floor(c, natural) for c in shown) + 2 * max(0, len(shown) - 1)

    def _floor(self, column: int, natural: Sequence[int]) -> int:
        if column not in self.shrink:
            return natural[column]
        return min(natural[column], self.floors.get(column, LEAST))

    def _usual(self, texts: list[list[str]]) -> list[int]:
        """The width of each column that nearly all of its cells fit into."""
        columns = [sorted(cell_len(row[c]) for row in texts) for c in range(len(self.headings))]
        return [column[int(USUAL * (len(column) - 1))] if column else 0 for column in columns]

    def _widths(self, shown: Sequence[int], natural: list[int], texts: list[list[str]], room: int) -> dict[int, int]:
        """The width of each column. The widest of those that wrap gives way first: down to what nearly all of its
        cells need, then to its longest word, then to its least, and at the very last all of them."""
        usual = self._usual(texts)
        pieces = [max((_longest(row[c]) for row in texts), default=0) for c in range(len(self.headings))]
        widths = {column: natural[column] for column in shown}
        room -= 2 * max(0, len(shown) - 1)
        soft = [column for column in shown if column in self.shrink]
        stages: tuple[tuple[Sequence[int], Callable[[int], int]], ...] = (
            (soft, lambda c: max(self._floor(c, natural), min(natural[c], usual[c]))),
            (soft, lambda c: max(self._floor(c, natural), pieces[c])),
            (soft, lambda c: self._floor(c, natural)),
            (shown, lambda c: min(natural[c], 6)),
        )
        for columns, floor in stages:
            while sum(widths.values()) > room:
                wide = [c for c in columns if widths[c] > floor(c)]
                if not wide:
                    break
                widths[max(wide, key=lambda c: widths[c])] -= 1
        return widths

    def _widen(self, widths: dict[int, int], room: int) -> None:
        """Where there is room, let headings take one line; otherwise, as far as there is, none more than two."""
        room -= sum(widths.values()) + 2 * max(0, len(widths) - 1)
        whole = {column: max(width, cell_len(self.headings[column])) for column, width in widths.items()}
        if sum(whole.values()) - sum(widths.values()) <= room:
            widths.update(whole)
            return
        for column, width in list(widths.items()):
            wide = width
            while wide - width < room and len(wrapped(self.headings[column], wide)) > HEADING_LINES:
                wide += 1
            widths[column], room = wide, room - (wide - width)

    def _alone(self, screen: Console, text: str, style: str, indent: int) -> list[Segment]:
        """The leading cell on a line of its own, whole, however wide it is."""
        words = Segment(plain_marks(screen, text), screen.get_style(style or "bold"))
        return [Segment(" " * indent), words, Segment.line()]

    def _lines(
        self,
        screen: Console,
        texts: Mapping[int, str],
        styles: Mapping[int, str],
        widths: Mapping[int, int],
        indent: int,
    ) -> list[Segment]:
        """One row: as many lines as its highest cell; segments, since rich's own text is four times slower."""
        cells = {column: wrapped(text, widths[column]) for column, text in texts.items()}
        written: list[Segment] = []
        for parts in zip_longest(*cells.values(), fillvalue=""):
            pieces = [Segment(" " * indent)]
            last = max((number for number, part in enumerate(parts) if part), default=-1)
            for (column, part), number in zip(zip(cells, parts, strict=True), range(last + 1), strict=False):
                room = Segment(" " * max(0, widths[column] - cell_len(part)))
                style = styles[column]
                words = Segment(plain_marks(screen, part), screen.get_style(style) if style else None)
                if column in self.right:
                    pieces += [room, words]
                else:
                    pieces += [words, room] if number < last else [words]
                if number < last:
                    pieces.append(Segment("  "))
            written += [*pieces, Segment.line()]
        return written


def _words(cell: Cell) -> str:
    return cell[0] if isinstance(cell, tuple) else cell


def _style(cell: Cell) -> str:
    return cell[1] if isinstance(cell, tuple) else ""


def wrapped(text: str, width: int) -> list[str]:
    """The text in lines of so many columns of a terminal: broken between words; what is longer, after `.`, `-`, `/`,
    or where a capital letter begins the next word.

    >>> wrapped("lock.enabled, lock.mode", 14), wrapped("exposure.change-settings", 16)
    (['lock.enabled,', 'lock.mode'], ['exposure.change-', 'settings'])
    >>> wrapped("PutBucketVersioning", 12)
    ['PutBucket', 'Versioning']
    >>> wrapped("潮汐観測所の記録", 9)
    ['潮汐観測', '所の記録']
    """
    if cell_len(text) <= width:
        return [text]
    lines = [""]
    for word in text.split():
        space = " " if lines[-1] else ""
        if cell_len(lines[-1] + space + word) <= width:
            lines[-1] += space + word
            continue
        pieces = [word] if cell_len(word) <= width else _PIECES.findall(word)
        lines += [""] if lines[-1] else []
        for piece in pieces:
            for part in (piece,) if cell_len(piece) <= width else _parts(piece, width):
                if cell_len(lines[-1] + part) > width:
                    lines.append("")
                lines[-1] += part
    return lines


def _parts(piece: str, width: int) -> Sequence[str]:
    """The words that a piece is put together from; its letters, where one of them is too long."""
    words = re.split("(?<=[a-z])(?=[A-Z])", piece)
    return words if all(cell_len(word) <= width for word in words) else piece


def _longest(text: str) -> int:
    """The width of the longest part of a text that stays on one line."""
    return max((cell_len(piece) for word in text.split() for piece in _PIECES.findall(word)), default=0)


_PIECES = re.compile(r"[^.\-/,:]+[.\-/,:]*|[.\-/,:]+")
