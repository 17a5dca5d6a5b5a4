"""The archive: `surveys/20261102T060000Z/` holds `survey.json` and `stores/NAME.json`.

A survey is written beside its place, every file fsynced, and renamed into it: it exists whole or not at all.
`survey.json` carries the SHA-256 of every file and of the previous survey's own `survey.json`, so any change to a
saved survey is detectable.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern import __version__
from rusty_lantern.archive.atomic_write import write_whole
from rusty_lantern.archive.errors import CannotWrite, UnderWay, write_problem
from rusty_lantern.archive.folder_layout import MANIFEST, PARTIAL, names, unfinished
from rusty_lantern.core.errors import BadInput, Damaged, Place, Problem
from rusty_lantern.core.model.dossier import Dossier, decode, encode

if TYPE_CHECKING:
    from rusty_lantern.archive.signing import Signer
    from rusty_lantern.core.audit.coverage import Limits

__all__ = ["MANIFEST", "PARTIAL", "names", "unfinished"]

SURVEY_VERSION = 1
NAME_FORM = "%Y%m%dT%H%M%SZ"


class Manifest(msgspec.Struct, frozen=True):
    """`survey.json`: what was read, when, by which version, and the hash of every file."""

    survey: int
    taken: datetime
    tool: str
    estate: str
    stores: dict[str, int | None]
    """Store → number of buckets read; null where they could not be listed."""
    files: dict[str, str]
    """Path inside the survey → SHA-256."""
    previous: str | None
    """SHA-256 of the previous survey's `survey.json`."""
    only: list[str] = []
    """STORE/BUCKET patterns, where the survey was limited to them."""
    only_of: dict[str, list[str]] = {}
    """Store → patterns of its buckets, where the estate file limits it to them."""

    @property
    def limits(self) -> Limits:
        """The buckets that it was limited to."""
        from rusty_lantern.core.audit.coverage import Limits  # loads what who only lists surveys can do without

        return Limits(self.only, self.only_of)


class Survey(msgspec.Struct, frozen=True):
    """A saved survey."""

    folder: Path
    manifest: Manifest
    dossiers: list[Dossier]

    @property
    def name(self) -> str:
        """The folder's name: the moment, in UTC."""
        return self.folder.name

    @property
    def unread(self) -> dict[str, str]:
        """The stores whose buckets could not be listed, and why."""
        return {one.store: one.unlisted for one in self.dossiers if one.unlisted}


JOURNAL = "journal"
TABLES = "objects"
"""Where version tables are: `objects/STORE/BUCKET.parquet`."""


def folder_name(moment: datetime) -> str:
    """The name of a survey of that moment."""
    return moment.astimezone(UTC).strftime(NAME_FORM)


@contextmanager
def sole(archive: Path) -> Iterator[None]:
    """Be the only survey in this archive. Raises `UnderWay` if another is being taken, `CannotWrite`."""
    from filelock import FileLock, Timeout  # it loads an event loop, which who only reads can do without

    lock = FileLock(archive / ".lock", blocking=False)
    try:
        archive.mkdir(mode=0o700, parents=True, exist_ok=True)
        lock.acquire()
    except Timeout:
        what = "another survey is being taken in this workspace"
        raise UnderWay(Problem(what, Place(str(archive)), "wait for it to end")) from None
    except OSError as error:
        raise CannotWrite(write_problem("cannot be written to", archive, error)) from None
    try:
        yield
    finally:
        lock.release()


def refuse_taken(archive: Path, moment: datetime) -> None:
    """Raise `BadInput` if a survey of that moment is kept already."""
    if (archive / folder_name(moment)).exists():
        remedy = "choose another moment with --as-of; a saved survey is never changed"
        raise BadInput(Problem(f"a survey of that moment is already saved: {folder_name(moment)}", remedy=remedy))


def save(
    archive: Path,
    estate: str,
    moment: datetime,
    dossiers: list[Dossier],
    only: tuple[str, ...] = (),
    signer: Signer | None = None,
    only_of: Mapping[str, Sequence[str]] | None = None,
) -> Path:
    """Write a survey, whole or not at all. Raises `CannotWrite`, or `BadInput` if that moment is taken.

    What was journalled of it stays until the survey is whole, so that a failure here loses nothing.
    """
    refuse_taken(archive, moment)
    name = folder_name(moment)
    final, partial = archive / name, archive / (name + PARTIAL)
    try:
        shutil.rmtree(partial / "stores", ignore_errors=True)
        for written_before in (MANIFEST, f"{MANIFEST}.sig"):
            (partial / written_before).unlink(missing_ok=True)
        (partial / "stores").mkdir(parents=True)
        files = {f"stores/{dossier.store}.json": encode(dossier) for dossier in dossiers}
        for path, content in files.items():
            _write(partial / path, content)
        digests = {path: hashlib.sha256(content).hexdigest() for path, content in files.items()}
        for left in [path for path in (partial / TABLES).rglob("*.*") if path.suffix != ".parquet" and path.is_file()]:
            left.unlink()  # of a table that was under way when an earlier run was stopped
        tables = sorted((partial / TABLES).rglob("*.parquet"))
        digests |= {str(path.relative_to(partial)): _digest(path) for path in tables}
        manifest = Manifest(
            SURVEY_VERSION,
            moment,
            f"rusty-lantern {__version__}",
            estate,
            {d.store: len(d.buckets) if d.listing.settled or d.buckets else None for d in dossiers},
            digests,
            _hash_of_last(archive, name),
            list(only),
            {store: list(patterns) for store, patterns in (only_of or {}).items()},
        )
        written = msgspec.json.format(msgspec.json.encode(manifest), indent=1) + b"\n"
        _write(partial / MANIFEST, written)
        if signer is not None:
            _write(partial / f"{MANIFEST}.sig", signer.sign(purpose_of(name), written))
        shutil.rmtree(partial / JOURNAL, ignore_errors=True)
        for folder in (*(path.parent for path in tables), partial / "stores", partial):
            _sync_folder(folder)
        partial.rename(final)
        newest = max((name, hashlib.sha256(written).hexdigest()), _head_of(archive))
        write_whole(archive / HEAD, msgspec.json.encode(Head(*newest)) + b"\n")
        _sync_folder(archive)
    except OSError as error:
        what = f"the survey could not be written: {error.strerror or error}"
        remedy = "no survey was saved, and earlier ones are untouched; make room, then: lantern survey --resume"
        raise CannotWrite(Problem(what, Place(str(archive)), remedy)) from None
    return final


def _head_of(archive: Path) -> tuple[str, str]:
    try:
        head = msgspec.json.decode((archive / HEAD).read_bytes(), type=Head)
        return head.survey, head.sha256
    except (OSError, msgspec.DecodeError):
        return "", ""


def _write(path: Path, content: bytes) -> None:
    with path.open("xb") as stream:
        stream.write(content)
        stream.flush()
        os.fsync(stream.fileno())


def _digest(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _hash_of_last(archive: Path, before: str) -> str | None:
    earlier = [name for name in names(archive) if name < before]
    if not earlier:
        return None
    manifest = archive / earlier[-1] / MANIFEST
    return hashlib.sha256(manifest.read_bytes()).hexdigest() if manifest.is_file() else None


def load(archive: Path, name: str | None = None) -> Survey:
    """A saved survey, by name or its beginning; the latest without one. Checks every hash but those of version tables,
    which are only looked for.

    Raises `BadInput` if there is none, `Damaged` if a file is missing, added to, or not what was written.
    """
    folder = _folder(archive, name)
    manifest, listed = _listed(folder)
    dossiers = [decode(_checked(folder, path, digest), path) for path, digest in listed if not _is_table(path)]
    for path in (path for path, _ in listed if _is_table(path)):
        _look_for(folder, path)
    return Survey(folder, manifest, dossiers)


def verified(archive: Path, name: str) -> Manifest:
    """The manifest of a saved survey, of which every file is as it was written, version tables too. Raises what `load`
    does."""
    folder = _folder(archive, name)
    manifest, listed = _listed(folder)
    for path, digest in listed:
        if _is_table(path):
            _check_table(folder, path, digest)
        else:
            _checked(folder, path, digest)
    return manifest


def _folder(archive: Path, name: str | None) -> Path:
    kept = names(archive)
    if not kept:
        raise BadInput(Problem("no survey is saved here yet", Place(str(archive)), "take one with: lantern survey"))
    fitting = [k for k in kept if name is None or k.startswith(name)]
    if not fitting or (name is not None and len(fitting) > 1 and name not in fitting):
        what = f'no survey "{name}"' if not fitting else f'more than one survey begins with "{name}"'
        raise BadInput(Problem(what, Place(str(archive)), f"kept: {', '.join((fitting or kept)[-5:])}"))
    return archive / (name if name in fitting else fitting[-1])


def _listed(folder: Path) -> tuple[Manifest, list[tuple[str, str]]]:
    """A survey's manifest, and its files with their hashes, in order. Raises `Damaged` for a file that is not of it."""
    manifest = _manifest(folder)
    for stray in sorted(_files_in(folder) - {MANIFEST, f"{MANIFEST}.sig"} - set(manifest.files)):
        raise Damaged(Problem("this file is not part of the survey", _place(folder, stray), REMEDY))
    return manifest, sorted(manifest.files.items())


def _files_in(folder: Path) -> set[str]:
    """The files below a folder, by their paths from there."""
    paths = set()
    for place, _, files in os.walk(folder):
        within = os.path.relpath(place, folder).replace(os.sep, "/")
        paths |= {name if within == "." else f"{within}/{name}" for name in files}
    return paths


def _is_table(path: str) -> bool:
    return re.fullmatch(rf"{TABLES}/[a-z0-9][a-z0-9-]*/[^/]+\.parquet", path) is not None


def _look_for(folder: Path, path: str) -> None:
    """Raise `Damaged` if a version table is missing."""
    if not (folder / path).is_file():
        raise Damaged(Problem("a file of the survey is missing", _place(folder, path), REMEDY))


def _check_table(folder: Path, path: str, digest: str) -> None:
    """Raise `Damaged` if a version table is missing or altered."""
    try:
        _look_for(folder, path)
        if _digest(folder / path) != digest:
            raise Damaged(Problem("this file is not what the survey wrote", _place(folder, path), REMEDY))
    except OSError as error:
        what = f"a file of the survey cannot be read: {error.strerror}"
        raise Damaged(Problem(what, _place(folder, path), REMEDY)) from None


REMEDY = "a saved survey must not be changed; restore it from a backup, or set its folder aside"


def _place(folder: Path, path: str) -> Place:
    return Place(f"{folder.parent.name}/{folder.name}/{path}")


def _manifest(folder: Path) -> Manifest:
    place = _place(folder, MANIFEST)
    try:
        manifest = msgspec.json.decode((folder / MANIFEST).read_bytes(), type=Manifest)
    except OSError as error:
        raise Damaged(Problem(f"the survey cannot be read: {error.strerror}", place, REMEDY)) from None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise Damaged(Problem(f"not a survey: {error}", place, REMEDY)) from None
    if manifest.survey > SURVEY_VERSION:
        raise BadInput(Problem(f"this survey is of version {manifest.survey}", place, "use a newer lantern"))
    return manifest


def _checked(folder: Path, path: str, digest: str) -> bytes:
    place = _place(folder, path)
    if not re.fullmatch(r"stores/[a-z0-9][a-z0-9-]*\.json", path):
        raise Damaged(Problem("the survey names a file that no survey has", place, REMEDY))
    try:
        content = (folder / path).read_bytes()
    except OSError as error:
        raise Damaged(Problem(f"a file of the survey cannot be read: {error.strerror}", place, REMEDY)) from None
    if hashlib.sha256(content).hexdigest() != digest:
        raise Damaged(Problem("this file is not what the survey wrote", place, REMEDY))
    return content


class Head(msgspec.Struct, frozen=True):
    """`head.json`: which survey is the newest, so that one that is taken away is missed."""

    survey: str
    sha256: str
    """Of its `survey.json`."""


HEAD = "head.json"


def purpose_of(name: str) -> str:
    """What the signature of a survey says that it is of."""
    return f"survey {name}"
