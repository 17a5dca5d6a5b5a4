"""Writing one file whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.core.errors import Place, Problem


@contextmanager
def private() -> Iterator[None]:
    """What is made meanwhile is for this user alone: files 0600, folders 0700, where the system knows such modes."""
    before = os.umask(0o077)
    try:
        yield
    finally:
        os.umask(before)


def write_whole(path: Path, content: bytes) -> None:
    """Write a file beside its place and rename it into it. Raises `CannotWrite`; what was there before then stays."""
    partial = path.with_name(path.name + ".partial")
    try:
        with partial.open("wb") as stream:
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        partial.replace(path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise CannotWrite(Problem(f"cannot be written: {error.strerror}", Place(str(path)))) from None


def make_folder(folder: Path) -> None:
    """Make a folder, with those above it. Raises `CannotWrite`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise CannotWrite(Problem(f"cannot be made: {error.strerror}", Place(str(folder)))) from None
