"""Dialects by name: those that come with the program, and those in the workspace's folder `dialects/`."""

from __future__ import annotations

from pathlib import Path

from rusty_lantern.core.access.dialects.shipped import SHIPPED
from rusty_lantern.core.config.dialect_file import read_dialect
from rusty_lantern.core.errors import BadInput, Place, Problem, nearest
from rusty_lantern.core.model.dialect import Dialect

FOLDER = "dialects"


def find_dialect(name: str, workspace: Path, place: Place | None = None) -> Dialect:
    """The dialect of this name. Raises `BadInput` where there is none, or where its file is wrong."""
    if name in SHIPPED:
        return SHIPPED[name]
    try:
        return read_dialect((workspace / FOLDER / f"{name}.yaml").read_text(encoding="utf-8"), f"{FOLDER}/{name}.yaml")
    except (OSError, UnicodeDecodeError):
        remedy = nearest(name, SHIPPED) or f"describe it in {FOLDER}/{name}.yaml, or name one of {', '.join(SHIPPED)}"
        raise BadInput(Problem(f'no dialect "{name}"', place, remedy)) from None
