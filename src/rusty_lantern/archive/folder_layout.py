"""What the files and folders of a workspace are called, and which surveys there are, by their names alone."""

from __future__ import annotations

import re
from pathlib import Path

ESTATE, SURVEYS, SUMMARIES, MANIFEST = "estate.yaml", "surveys", "results", "survey.json"
PARTIAL = ".partial"


def upwards(start: Path) -> Path | None:
    """The nearest folder upwards that is a workspace."""
    return next((folder for folder in (start, *start.parents) if (folder / ESTATE).is_file()), None)


def names(archive: Path) -> list[str]:
    """The saved surveys, oldest first. Unfinished ones do not count."""
    if not archive.is_dir():
        return []
    return sorted(p.name for p in archive.iterdir() if re.fullmatch(r"\d{8}T\d{6}Z", p.name) and p.is_dir())


def unfinished(archive: Path) -> list[str]:
    """Surveys that were stopped before they were whole, oldest first; their answers so far are journalled."""
    if not archive.is_dir():
        return []
    return sorted(p.name.removesuffix(PARTIAL) for p in archive.iterdir() if p.name.endswith(f"Z{PARTIAL}"))
