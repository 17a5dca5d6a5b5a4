"""The archive: `surveys/20261102T060000Z/` holds `survey.json` and `stores/NAME.json`.

A survey is written beside its place, every file fsynced, and renamed into it: it exists whole or not at all.
`survey.json` carries the SHA-256 of every file and of the previous survey's own `survey.json`, so any change to a
kept survey is detectable.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from rusty_lantern import __version__
from rusty_lantern.core.dossier import Dossier, decode, encode
from rusty_lantern.core.errors import BadInput, Complaint, Damaged, LanternError, Place

SURVEY_VERSION = 1
MANIFEST = "survey.json"
NAME_FORM = "%Y%m%dT%H%M%SZ"


class CannotWrite(LanternError):
    """The survey could not be written; nothing was kept, and nothing that was kept before is touched."""


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


@dataclass(frozen=True, slots=True)
class Survey:
    """A kept survey."""

    folder: Path
    manifest: Manifest
    dossiers: list[Dossier]

    @property
    def name(self) -> str:
        """The folder's name: the moment, in UTC."""
        return self.folder.name


def names(archive: Path) -> list[str]:
    """The kept surveys, oldest first. Unfinished ones do not count."""
    if not archive.is_dir():
        return []
    return sorted(p.name for p in archive.iterdir() if re.fullmatch(r"\d{8}T\d{6}Z", p.name) and p.is_dir())


def keep(archive: Path, estate: str, moment: datetime, dossiers: list[Dossier]) -> Path:
    """Write a survey, whole or not at all. Raises `CannotWrite`, or `BadInput` if that moment is taken."""
    name = moment.astimezone(UTC).strftime(NAME_FORM)
    final = archive / name
    if final.exists():
        remedy = "choose another moment with --as-of; a kept survey is never changed"
        raise BadInput(Complaint(f"a survey of that moment is already kept: {final.name}", remedy=remedy))
    partial = archive / f".{name}.{os.getpid()}.partial"
    try:
        partial.mkdir(parents=True)
        (partial / "stores").mkdir()
        files = {f"stores/{dossier.store}.json": encode(dossier) for dossier in dossiers}
        for path, content in files.items():
            _write(partial / path, content)
        manifest = Manifest(
            SURVEY_VERSION,
            moment,
            f"rusty-lantern {__version__}",
            estate,
            {d.store: d.listing.value and len(d.buckets) for d in dossiers},
            {path: hashlib.sha256(content).hexdigest() for path, content in files.items()},
            _hash_of_last(archive, name),
        )
        _write(partial / MANIFEST, msgspec.json.format(msgspec.json.encode(manifest), indent=1) + b"\n")
        for folder in (partial / "stores", partial):
            _sync_folder(folder)
        partial.rename(final)
        _sync_folder(archive)
    except OSError as error:
        raise CannotWrite(
            Complaint(
                f"the survey could not be written: {error.strerror or error}",
                Place(str(archive)),
                "nothing was kept; earlier surveys are untouched",
            )
        ) from None
    finally:
        shutil.rmtree(partial, ignore_errors=True)
    return final


def _write(path: Path, content: bytes) -> None:
    with path.open("xb") as stream:
        stream.write(content)
        stream.flush()
        os.fsync(stream.fileno())


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
    """A kept survey, by name or its beginning; the latest without one. Checks every hash.

    Raises `BadInput` if there is none, `Damaged` if a file is missing, added to, or not what was written.
    """
    kept = names(archive)
    if not kept:
        raise BadInput(Complaint("no survey is kept here yet", Place(str(archive)), "take one with: lantern survey"))
    found = [k for k in kept if name is None or k.startswith(name)]
    if not found or (name is not None and len(found) > 1 and name not in found):
        what = f'no survey "{name}"' if not found else f'more than one survey begins with "{name}"'
        raise BadInput(Complaint(what, Place(str(archive)), f"kept: {', '.join((found or kept)[-5:])}"))
    folder = archive / (name if name in found else found[-1])
    manifest = _manifest(folder)
    present = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()} - {MANIFEST}
    for stray in sorted(present - set(manifest.files)):
        raise Damaged(Complaint("this file is not part of the survey", _place(folder, stray), _REMEDY))
    dossiers = [decode(_checked(folder, path, digest), path) for path, digest in sorted(manifest.files.items())]
    return Survey(folder, manifest, dossiers)


_REMEDY = "a kept survey must not be changed; restore it from a backup, or set its folder aside"


def _place(folder: Path, path: str) -> Place:
    return Place(f"{folder.parent.name}/{folder.name}/{path}")


def _manifest(folder: Path) -> Manifest:
    place = _place(folder, MANIFEST)
    try:
        manifest = msgspec.json.decode((folder / MANIFEST).read_bytes(), type=Manifest)
    except OSError as error:
        raise Damaged(Complaint(f"the survey cannot be read: {error.strerror}", place, _REMEDY)) from None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise Damaged(Complaint(f"not a survey: {error}", place, _REMEDY)) from None
    if manifest.survey > SURVEY_VERSION:
        raise BadInput(Complaint(f"this survey is of version {manifest.survey}", place, "use a newer lantern"))
    return manifest


def _checked(folder: Path, path: str, digest: str) -> bytes:
    place = _place(folder, path)
    if not re.fullmatch(r"stores/[a-z0-9][a-z0-9-]*\.json", path):
        raise Damaged(Complaint("the survey names a file that no survey has", place, _REMEDY))
    try:
        content = (folder / path).read_bytes()
    except OSError as error:
        raise Damaged(Complaint(f"a file of the survey cannot be read: {error.strerror}", place, _REMEDY)) from None
    if hashlib.sha256(content).hexdigest() != digest:
        raise Damaged(Complaint("this file is not what the survey wrote", place, _REMEDY))
    return content
