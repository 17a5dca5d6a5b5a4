"""Writing one file whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rusty_lantern.archive.errors import CannotWrite, write_problem


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
        with suppress(OSError):
            partial.unlink()
        raise CannotWrite(write_problem("cannot be written", path, error)) from None


def make_folder(folder: Path, mode: int = 0o777) -> None:
    """Make a folder, with those above it, where there is none. Raises `CannotWrite`."""
    try:
        folder.mkdir(mode=mode, parents=True, exist_ok=True)
    except OSError as error:
        raise CannotWrite(write_problem("cannot be made", folder, error)) from None
