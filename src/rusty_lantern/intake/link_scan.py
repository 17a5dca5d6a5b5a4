"""Share links in files of any kind, streamed: what is kept in memory does not grow with the files."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

import msgspec

from rusty_lantern.core.errors import BadInput, Place, Problem
from rusty_lantern.intake.presigned_url import LONGEST, SignedAddress, find_signed
from rusty_lantern.intake.unreadable import unreadable

CHUNK = 4 << 20
MOST_LINKS = 100_000


@dataclass
class FoundLinks:
    """The links that were found, each once: taken apart, whole (in memory only, for trying it), and where."""

    bytes: int = 0
    links: list[tuple[SignedAddress, str, str]] = field(default_factory=list)


def find_links(files: list[Path]) -> FoundLinks:
    """Find the signed addresses in files; `-` is the standard input. Raises `BadInput`."""
    mined = FoundLinks()
    seen: dict[bytes, None] = {}
    for path in files:
        try:
            if str(path) == "-":
                _mine(sys.stdin.buffer, "-", mined, seen)
            else:
                with path.open("rb") as stream:
                    _mine(stream, str(path), mined, seen)
        except OSError as error:
            raise unreadable(path, error) from None
    return mined


def _mine(stream: BinaryIO, name: str, mined: FoundLinks, seen: dict[bytes, None]) -> None:
    line = 1
    for before, text, fresh in _pieces(stream):
        mined.bytes += fresh
        counted, at = line, 0
        for start, signed, address in find_signed(text):
            counted, at = counted + text.count(b"\n", at, start), start
            key = msgspec.json.encode(signed)
            if key in seen:
                continue
            seen[key] = None
            if len(seen) > MOST_LINKS:
                raise BadInput(Problem(f"more than {MOST_LINKS:,} different links", Place(name), "search less"))
            mined.links.append((signed, address, f"{name}:{counted}"))
        line += text.count(b"\n", 0, len(text) - before)


def _pieces(stream: BinaryIO) -> Iterator[tuple[int, bytes, int]]:
    """Pieces of a stream that overlap by the longest address: how much comes again, the text, how much is new."""
    kept = b""
    while chunk := stream.read(CHUNK):
        text = kept + chunk
        overlap = min(LONGEST, len(text)) if len(chunk) == CHUNK else 0
        yield overlap, text, len(chunk)
        kept = text[len(text) - overlap :]
