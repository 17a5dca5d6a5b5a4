"""Documents that a console exported, from files and folders; layouts by name, or from a file."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path

from rusty_lantern.core.config.dossier_validation import load_untrusted
from rusty_lantern.core.errors import BadInput, Place, Problem, nearest
from rusty_lantern.core.exports.assemble import Assembled, assemble
from rusty_lantern.core.exports.documents import documents_of
from rusty_lantern.core.exports.layout import Layout, read_layout
from rusty_lantern.core.model.dossier import encode
from rusty_lantern.intake.unreadable import unreadable

MOST_BYTES = 512 << 20
"""Of all the documents of one store together."""
ENDINGS = (".json", ".jsonl", ".ndjson")


def shipped_layouts() -> dict[str, str]:
    """Name → text of the layouts that come with the program."""
    folder = files("rusty_lantern.layouts")
    layouts = sorted(
        (entry for entry in folder.iterdir() if entry.name.endswith(".yaml")), key=lambda entry: entry.name
    )
    return {entry.name.removesuffix(".yaml"): entry.read_text(encoding="utf-8") for entry in layouts}


def find_layout(name: str, folder: Path) -> Layout:
    """A layout by name, or from a file relative to `folder`. Raises `BadInput`."""
    shipped = shipped_layouts()
    if name in shipped:
        return read_layout(shipped[name], f"layout {name}")
    try:
        return read_layout((folder / Path(name).expanduser()).read_text(encoding="utf-8-sig"), name)
    except (OSError, UnicodeDecodeError):
        hint = nearest(name, shipped) or f"name a file, or one of {', '.join(shipped)}"
        raise BadInput(Problem(f'no layout "{name}"', remedy=hint)) from None


def assembled(
    folder: Path, patterns: Sequence[str], layout: str, store: str, moment: datetime
) -> tuple[Assembled, datetime]:
    """What documents hold, and when the oldest of them was written. Raises `BadInput` or `Damaged`."""
    how = find_layout(layout, folder)
    paths = list(_paths(folder, patterns))
    if not paths:
        raise BadInput(
            Problem(f"no document is there: {', '.join(patterns)}", remedy="name files, folders or patterns")
        )
    total, oldest, read = 0, None, []
    for path in paths:
        try:
            status = path.stat()
            total += status.st_size
            if total > MOST_BYTES:
                raise BadInput(Problem(f"the documents are larger than {MOST_BYTES >> 20} MiB", Place(str(path))))
            written = datetime.fromtimestamp(int(status.st_mtime), UTC)
            oldest = written if oldest is None or written < oldest else oldest
            read.append((_shown(path, folder), path.read_bytes()))
        except OSError as error:
            raise unreadable(path, error) from None
    export = assemble(documents_of(iter(read)), how, store, moment)
    if not export.rows and export.unmatched:
        remedy = "is it the right layout? lantern dossier layouts lists those that ship"
        raise BadInput(Problem(f"the layout {layout} finds nothing: {export.unmatched[0]}", remedy=remedy))
    load_untrusted(encode(export.dossier), "what the export tells")  # no secret, no contradiction
    assert oldest is not None
    return export, oldest


def _paths(folder: Path, patterns: Sequence[str]) -> Iterator[Path]:
    """The files that patterns name, each once, in order of name."""
    seen: dict[Path, None] = {}
    for pattern in patterns:
        path = folder / Path(pattern).expanduser()
        if path.is_dir():
            inner = sorted(one for one in path.iterdir() if one.suffix in ENDINGS and one.is_file())
            seen |= dict.fromkeys(inner)
        elif path.exists():
            seen[path] = None
        else:
            seen |= dict.fromkeys(sorted(one for one in path.parent.glob(path.name) if one.is_file()))
    yield from seen


def _shown(path: Path, folder: Path) -> str:
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else str(path)
