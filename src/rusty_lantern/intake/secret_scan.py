"""Looking for key material in files that an administrator points at. Bounded in size, depth and number."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from rusty_lantern.core.errors import BadInput, Place, Problem
from rusty_lantern.intake.secret_patterns import Leak, find_leaks

MOST_BYTES = 4 << 20
"""A larger file is no configuration, and is passed over."""
MOST_FILES = 50_000


def leaks_in(places: Iterable[Path]) -> Iterator[tuple[str, Leak]]:
    """Key material in files and below folders; links are not followed. Raises `BadInput` for a place that is none."""
    left = MOST_FILES
    for place in places:
        if not place.exists():
            raise BadInput(Problem("there is no such file or folder", Place(str(place))))
        for path in sorted(place.rglob("*")) if place.is_dir() else [place]:
            if path.is_symlink() or not path.is_file() or ".git" in path.parts:
                continue
            left -= 1
            if left < 0:
                raise BadInput(Problem(f"more than {MOST_FILES:,} files", Place(str(place)), "point at less"))
            yield from ((str(path), leak) for leak in _in_file(path))


def _in_file(path: Path) -> Iterator[Leak]:
    try:
        if path.stat().st_size > MOST_BYTES:
            return
        content = path.read_bytes()
    except OSError as error:
        raise BadInput(Problem(f"cannot be read: {error.strerror}", Place(str(path)))) from None
    if b"\x00" in content[:4096] and not content.startswith((b"\xff\xfe", b"\xfe\xff")):
        return
    encoding = "utf-16" if content.startswith((b"\xff\xfe", b"\xfe\xff")) else "utf-8"
    yield from find_leaks(iter(content.decode(encoding, "replace").splitlines()))
