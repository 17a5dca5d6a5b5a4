"""Looking for key material in files that an administrator points at. Bounded in size, depth and number."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from rusty_lantern.core.errors import BadInput, Place, Problem
from rusty_lantern.intake.secret_patterns import Leak, find_leaks
from rusty_lantern.intake.unreadable import unreadable

MOST_BYTES = 4 << 20
"""A larger file is no configuration, and is passed over."""
MOST_FILES = 50_000
TOO_LARGE, BINARY, LINK, UNREADABLE, REPOSITORY = (
    "larger than 4 MiB", "binary", "links", "not readable", "version-control folders",
)  # fmt: skip
_UTF16 = (b"\xff\xfe", b"\xfe\xff")


@dataclass
class SecretScan:
    """What was found so far, in how many files, and what was not looked into."""

    files: int = 0
    leaks: list[tuple[str, Leak]] = field(default_factory=list)
    """Each with its file."""
    passed_over: Counter[str] = field(default_factory=Counter)
    """Why → how many files or folders."""

    def look_in(self, path: Path) -> None:
        """Look into one file. Raises `BadInput` past so many files."""
        if self.files + self.passed_over.total() >= MOST_FILES:
            raise BadInput(Problem(f"more than {MOST_FILES:,} files", Place(str(path)), "point at less"))
        content = self._content(path)
        if content is None:
            return
        self.files += 1
        encoding = "utf-16" if content.startswith(_UTF16) else "utf-8"
        lines = iter(content.decode(encoding, "replace").splitlines())
        self.leaks += [(str(path), leak) for leak in find_leaks(lines)]

    def _content(self, path: Path) -> bytes | None:
        """The content of a text; None for what is passed over."""
        try:
            with path.open("rb") as stream:
                content = stream.read(MOST_BYTES + 1)
        except OSError:
            self.passed_over[UNREADABLE] += 1
            return None
        if b"\x00" in content[:4096] and not content.startswith(_UTF16):
            self.passed_over[BINARY] += 1
            return None
        if len(content) > MOST_BYTES:
            self.passed_over[TOO_LARGE] += 1
            return None
        return content


def secrets_in(places: Iterable[Path]) -> SecretScan:
    """Key material in files and below folders. Links below them are not followed. Raises `BadInput` for a place that is
    none, or cannot be read."""
    scan = SecretScan()
    for place in places:
        if not place.exists():
            raise unreadable(place, FileNotFoundError())
        if not os.access(place, os.R_OK):
            raise BadInput(Problem("cannot be read", Place(str(place))))
        for path in _below(place, scan) if place.is_dir() else [place]:
            scan.look_in(path)
    return scan


def _below(folder: Path, scan: SecretScan) -> Iterator[Path]:
    """The files below a folder, in order."""

    def unreadable(_: OSError) -> None:
        scan.passed_over[UNREADABLE] += 1

    for name, folders, files in os.walk(folder, onerror=unreadable):
        here = Path(name)
        links = [one for one in folders if (here / one).is_symlink()]
        scan.passed_over[LINK] += len(links)
        scan.passed_over[REPOSITORY] += ".git" in folders
        folders[:] = sorted(set(folders) - {*links, ".git"})
        for path in (here / one for one in sorted(files)):
            if path.is_symlink():
                scan.passed_over[LINK] += 1
            elif path.is_file():
                yield path
