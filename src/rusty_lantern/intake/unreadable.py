"""What is said of a file that somebody names and that cannot be read."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from rusty_lantern.core.errors import BadInput, Place, Problem, nearest


def unreadable(path: Path, error: OSError) -> BadInput:
    """That it is not there, with the most similar name in its folder; or why it cannot be read."""
    if not isinstance(error, FileNotFoundError):
        return BadInput(Problem(f"cannot be read: {error.strerror or error}", Place(str(path))))
    there: dict[str, str] = {}
    with suppress(OSError):
        there = {one.stem: one.name for one in sorted(path.parent.iterdir())}
    hint = nearest(path.stem, there, there) or f"looked in {path.parent.absolute()}"
    return BadInput(Problem("there is no such file", Place(str(path)), hint))
