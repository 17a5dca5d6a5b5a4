"""Exported documents, decoded."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import msgspec

from rusty_lantern.core.errors import BadInput, Place, Problem


class Document(msgspec.Struct, frozen=True):
    """One exported document: its file's name, and what is in it."""

    file: str
    value: Any


def documents_of(files: Iterator[tuple[str, bytes]]) -> list[Document]:
    """Documents of JSON, and of JSON Lines (a list then), in the order given. Raises `BadInput`."""
    return [Document(name, _decoded(name, body)) for name, body in files]


def _decoded(name: str, body: bytes) -> Any:
    body = body.removeprefix(b"\xef\xbb\xbf")
    if name.endswith((".jsonl", ".ndjson")):
        rows = []
        for number, line in enumerate(body.split(b"\n"), 1):
            if line.strip():
                rows.append(_json(name, line, number))
        return rows
    return _json(name, body, 0)


def _json(name: str, body: bytes, line: int) -> Any:
    try:
        return msgspec.json.decode(body)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        at = line or _line_of(error, body)
        raise BadInput(Problem(f"not JSON: {str(error)[:160]}", Place(name, at))) from None


def _line_of(error: Exception, body: bytes) -> int:
    position = re.search(r"byte (\d+)", str(error))
    return body.count(b"\n", 0, int(position[1])) + 1 if position else 0
