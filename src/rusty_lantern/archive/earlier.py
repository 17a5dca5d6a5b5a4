"""Surveys before one: the one that growth is measured from, and what the last one kept of a store."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from rusty_lantern.archive.folder_layout import names
from rusty_lantern.archive.surveys import Survey, folder_name, load
from rusty_lantern.core.errors import LanternError
from rusty_lantern.core.model.dossier import Dossier, decode


def earliest(archive: Path, floor: datetime, before: datetime) -> Survey | None:
    """The earliest survey that is not older than `floor` and older than `before`; None where there is none that can be
    read."""
    for name in names(archive):
        if folder_name(floor) <= name < folder_name(before):
            try:
                return load(archive, name)
            except LanternError:
                continue
    return None


def last_dossier(archive: Path, store: str, before: datetime) -> Dossier | None:
    """What the latest survey before a moment kept of a store; None where there is none, or it cannot be read."""
    earlier = [name for name in names(archive) if name < folder_name(before)]
    try:
        path = archive / earlier[-1] / "stores" / f"{store}.json"
        return decode(path.read_bytes(), str(path))
    except (IndexError, OSError, LanternError):
        return None
