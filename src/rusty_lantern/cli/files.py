"""Files that a command is given."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rusty_lantern.core.config.declared_bucket import DeclaredBucket


MOST_DECLARED = 10_000


def declarations(path: Path) -> list[DeclaredBucket]:
    """The declared buckets of a file, or of every .yaml and .json file in a folder and those below, in order.

    A file that names no store is of the store that its folder is called after, if there is one below. Raises `BadInput`
    with everything that is wrong with any of them.
    """
    import msgspec

    from rusty_lantern.core.config.declared_bucket import read_declared
    from rusty_lantern.core.errors import BadInput, Problem

    if not path.is_dir():
        return [read_declared(read_text(path), str(path))]
    files = sorted(p for p in path.rglob("*") if p.suffix in (".yaml", ".yml", ".json") and p.is_file())
    if not files or len(files) > MOST_DECLARED:
        what = "no declared buckets in it" if not files else f"more than {MOST_DECLARED:,} files in it"
        raise BadInput(Problem(f"{path}: {what}", remedy="one bucket a file, .yaml or .json"))
    declared: list[DeclaredBucket] = []
    wrong: list[Problem] = []
    for file in files:
        try:
            one = read_declared(read_text(file), str(file))
        except BadInput as error:
            wrong += error.complaints
            continue
        inside = file.parent.relative_to(path).parts
        declared.append(msgspec.structs.replace(one, store=one.store or (inside[0] if inside else "")))
    if wrong:
        raise BadInput(*wrong)
    return declared


def read_text(path: Path) -> str:
    """A file's text. Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Place, Problem

    try:
        return read_file(path).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput(Problem("not UTF-8 text", Place(str(path)))) from None


def read_file(path: Path) -> bytes:
    """A file's bytes. Raises `BadInput`."""
    from rusty_lantern.intake.unreadable import unreadable

    try:
        return path.read_bytes()
    except OSError as error:
        raise unreadable(path, error) from None
