"""Printing a result."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console


def printed(text: str | None, view: Callable[[Console], None], out: Path | None = None) -> None:
    """Print a result: a finished text as it is, otherwise its view. With `out`, into a file. Raises `CannotWrite`."""
    from rusty_lantern.reports.terminal.layout import PIPE_WIDTH, console

    if out is None:
        if text is None:
            view(console())
        else:
            sys.stdout.write(text)
        return
    from io import StringIO

    from rich.console import Console

    from rusty_lantern.archive.atomic_write import write_whole

    if text is None:
        view(screen := Console(file=StringIO(), width=PIPE_WIDTH, highlight=False, emoji=False, color_system=None))
        text = screen.file.getvalue()  # type: ignore[attr-defined]
    write_whole(out, text.encode("utf-8", "backslashreplace"))


def emit(text: str) -> None:
    """Print a finished result on stdout."""
    sys.stdout.write(text + "\n")


def note(text: str) -> None:
    """Print a note on stderr, where it is in nobody's way."""
    from rusty_lantern.reports.escape import safe

    sys.stderr.write(safe(text) + "\n")
