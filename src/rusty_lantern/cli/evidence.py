"""`lantern report --evidence FOLDER`: what an auditor takes away, with a manifest of it all, and its signature."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from rusty_lantern.archive.signing import PublicKey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.reports.results.report import ReportResult

MANIFEST = "MANIFEST.json"
PURPOSE = "evidence folder"
"""What the signature of a folder says that it is of."""


class FolderManifest(msgspec.Struct, frozen=True):
    """What is in an evidence folder."""

    evidence: int
    """The version of this form."""
    survey: str
    files: dict[str, str]
    """Path → SHA-256."""


def write_evidence(
    folder: Path, session: OpenedSurvey, result: ReportResult, views: Sequence[BucketSubject], tables: dict[str, bytes]
) -> int:
    """Write the folder; how many files are in it. Raises `CannotWrite`, or `BadInput` for one that is not empty."""
    from rusty_lantern.archive.atomic_write import make_folder, write_whole
    from rusty_lantern.archive.signing import ENDING
    from rusty_lantern.core.errors import BadInput, Place, Problem
    from rusty_lantern.reports.html.evidence_page import check_script, evidence_page
    from rusty_lantern.reports.results.evidence import evidence_result

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        what = "the folder is not empty" if folder.is_dir() else "this is no folder"
        raise BadInput(Problem(what, Place(str(folder)), "evidence is written into a new folder"))
    place, kept = session.place, session.survey.folder
    signer = place.signer
    manifest = (kept / "survey.json").read_bytes()
    evidence = evidence_result(
        result, session.survey.dossiers, views, place.baseline_texts(), hashlib.sha256(manifest).hexdigest(),
        signer.public.fingerprint if signer else "",
    )  # fmt: skip
    dossiers = [path for path in session.survey.manifest.files if path.endswith(".json")]
    files = {
        "index.html": evidence_page(evidence).encode("utf-8", "backslashreplace"),
        "check.py": check_script(),
        **{f"report/{name}": content for name, content in tables.items()},
        **{one.file: msgspec.json.format(msgspec.json.encode(one), indent=1) + b"\n" for one in evidence.subjects},
        **{f"rules/{name}": text.encode() for name, text in place.judging_texts().items()},
        "survey/survey.json": manifest,
        **{f"survey/{path}": (kept / path).read_bytes() for path in dossiers},
    }  # fmt: skip
    own = kept / f"survey.json{ENDING}"
    if own.is_file():
        files[f"survey/survey.json{ENDING}"] = own.read_bytes()
    for name, content in files.items():
        make_folder((folder / name).parent)
        write_whole(folder / name, content)
    digests = {name: hashlib.sha256(content).hexdigest() for name, content in sorted(files.items())}
    own_manifest = (
        msgspec.json.format(msgspec.json.encode(FolderManifest(1, session.survey.name, digests)), indent=1) + b"\n"
    )
    write_whole(folder / MANIFEST, own_manifest)
    if signer is not None:
        write_whole(folder / f"{MANIFEST}{ENDING}", signer.sign(PURPOSE, own_manifest))
    return len(files)


def check_evidence(folder: Path, signer: PublicKey | None) -> list[str]:
    """What is wrong with an evidence folder: files altered, missing or added, and its signature; or with a single file
    of a report. Raises `BadInput`."""
    from rusty_lantern.archive.signing import ENDING
    from rusty_lantern.core.errors import BadInput, Place, Problem

    if folder.is_file():
        if signer is None:
            remedy = "name whose signature it should have: --signer PUBLIC.pem"
            raise BadInput(Problem("a single file is checked by its signature alone", Place(str(folder)), remedy))
        return _wrong_signature(folder, folder.read_bytes(), signer, f"report {folder.name}")
    try:
        content = (folder / MANIFEST).read_bytes()
        listed = msgspec.json.decode(content, type=FolderManifest).files
    except (OSError, msgspec.DecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        remedy = "lantern report --evidence FOLDER writes one"
        raise BadInput(Problem(f"this is no evidence folder: {why}", Place(str(folder / MANIFEST)), remedy)) from None
    present = {path.relative_to(folder).as_posix(): path for path in folder.rglob("*") if path.is_file()}
    wrong = [f"{name}: was added" for name in sorted(present.keys() - listed.keys() - {MANIFEST, MANIFEST + ENDING})]
    for name, digest in sorted(listed.items()):
        if name not in present:
            wrong.append(f"{name}: is missing")
        elif hashlib.sha256(present[name].read_bytes()).hexdigest() != digest:
            wrong.append(f"{name}: is not as it was written")
    return wrong + _wrong_signature(folder / MANIFEST, content, signer, PURPOSE)


def _wrong_signature(path: Path, content: bytes, signer: PublicKey | None, purpose: str) -> list[str]:
    """What is wrong with the signature beside a file; nothing where no signer was named."""
    from rusty_lantern.archive.signing import ENDING, read_signature

    if signer is None:
        return []
    try:
        signature = read_signature(path.with_name(path.name + ENDING))
    except ValueError as error:
        return [str(error)]
    if signature is None:
        return ["it is not signed"]
    if signature.key != signer.fingerprint:
        return [f"signed by another key: {signature.key}"]
    return (
        []
        if signer.fits(signature, purpose, content)
        else [f"its signature is not of this {'folder' if purpose == PURPOSE else 'file'}"]
    )


def write_report(place: Workspace, path: Path, content: bytes) -> None:
    """Write one file of a report and, where the team signs, its signature; a reader without the key sees that there is
    a signature. Raises `CannotWrite`."""
    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.archive.signing import ENDING
    from rusty_lantern.cli.output import note
    from rusty_lantern.core.errors import BadInput

    write_whole(path, content)
    beside = path.with_name(path.name + ENDING)
    beside.unlink(missing_ok=True)  # of what was here before
    try:
        signer = place.signer
    except BadInput as error:
        note(f"{path} is not signed: {error.complaints[0].what}")
        return
    if signer is not None:
        write_whole(beside, signer.sign(f"report {path.name}", content))
