"""The journal of a survey under way: every answer, as it arrives, so that a stopped survey asks only what is missing.

One file a store, one JSON line an answer: the question, the status, the headers that matter, the body (deflated,
base64). A line that was not finished when the program died is left out on reading. A survey that resumes replays
these answers through the same reader, so its result is that of a survey that was never stopped.
"""

from __future__ import annotations

import base64
import binascii
import errno
import hashlib
import os
import time
import zlib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec

from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.core.errors import Place, Problem

SYNC_SECONDS = 1.0
MAX_BODY = 64 << 20


class Entry(msgspec.Struct, frozen=True, array_like=True):
    """One line: question, status, headers, body."""

    question: str
    status: int
    headers: dict[str, str]
    body: str


class Journal:
    """The answers of one store. Raises `CannotWrite` when an answer cannot be kept.

    `keeps`: whether a header, by its name, describes something that a survey which resumes needs.
    """

    def __init__(self, path: Path, keeps: Callable[[str], bool]) -> None:
        self.path = path
        self._keeps = keeps
        self.replayed = 0
        self._synced = 0.0
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            _cut_torn_line(path)
            self._places = _places(path)
            self._stream = path.open("ab", buffering=0)
            self._reading = path.open("rb") if self._places else None
        except OSError as error:
            raise self._cannot(error) from None

    def recall(self, question: str) -> tuple[int, dict[str, str], bytes] | None:
        """The answer that a question already got, read from its place in the file."""
        place = self._places.get(_digest(question))
        if place is None or self._reading is None:
            return None
        self._reading.seek(place)
        entry = msgspec.json.decode(self._reading.readline(), type=Entry)
        if entry.question != question:
            return None
        self.replayed += 1
        return entry.status, entry.headers, zlib.decompressobj().decompress(base64.b64decode(entry.body), MAX_BODY)

    def note(self, question: str, status: int, headers: dict[str, str], body: bytes) -> None:
        """Keep an answer."""
        kept = {name: value for name, value in headers.items() if self._keeps(name)}
        entry = Entry(question, status, kept, base64.b64encode(zlib.compress(body, 1)).decode())
        try:
            line = msgspec.json.encode(entry) + b"\n"
            if self._stream.write(line) != len(line):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            if time.monotonic() - self._synced > SYNC_SECONDS:
                os.fsync(self._stream.fileno())
                self._synced = time.monotonic()
        except OSError as error:
            raise self._cannot(error) from None

    def close(self) -> None:
        """Finish with the file."""
        self._stream.close()
        if self._reading is not None:
            self._reading.close()

    def _cannot(self, error: OSError) -> CannotWrite:
        what = f"an answer could not be saved: {error.strerror or error}"
        return CannotWrite(Problem(what, Place(str(self.path)), "make room, then: lantern survey --resume"))


BLOCK = 1 << 20


def _cut_torn_line(path: Path) -> None:
    """Take off what follows the last whole line, so that the next answer begins on a line of its own."""
    if not path.exists():
        return
    with path.open("rb") as stream:
        size = end = stream.seek(0, os.SEEK_END)
        whole_lines = 0
        while end and not whole_lines:
            start = max(0, end - BLOCK)
            stream.seek(start)
            newline = stream.read(end - start).rfind(b"\n")
            whole_lines = start + newline + 1 if newline >= 0 else 0
            end = start
    if whole_lines != size:
        os.truncate(path, whole_lines)


def _digest(question: str) -> int:
    """Stands for a question: millions of them would not fit into memory."""
    return int.from_bytes(hashlib.blake2b(question.encode(), digest_size=8).digest())


def _places(path: Path) -> dict[int, int]:
    """Question, by its digest → where in the file its answer is."""
    known: dict[int, int] = {}
    if not path.is_file():
        return known
    with path.open("rb") as stream:
        place = 0
        for line in stream:
            with suppress(msgspec.DecodeError, binascii.Error, zlib.error, UnicodeDecodeError):
                # where a line is torn or damaged, its question is asked again
                entry = msgspec.json.decode(line, type=Entry)
                zlib.decompressobj().decompress(base64.b64decode(entry.body, validate=True), MAX_BODY)
                known[_digest(entry.question)] = place
            place += len(line)
    return known
