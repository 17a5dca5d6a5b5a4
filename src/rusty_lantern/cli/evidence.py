"""`lantern report --evidence FOLDER`: what an auditor takes away, with a manifest of it all, and its signature."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from rusty_lantern.archive.signing import PublicKey
    from rusty_lantern.cli.session import Opened
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
    folder: Path, found: Opened, result: ReportResult, views: Sequence[BucketSubject], tables: dict[str, bytes]
) -> int:
    """Write the folder; how many files are in it. Raises `CannotWrite`, or `BadInput` for one that is not empty."""
    from rusty_lantern.archive.atomic_write import make_folder, write_whole
    from rusty_lantern.archive.signing import ENDING, find_signer
    from rusty_lantern.core.errors import BadInput, Place, Problem
    from rusty_lantern.reports.html.evidence_page import check_script, evidence_page
    from rusty_lantern.reports.results.evidence import evidence_result

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        what = "the folder is not empty" if folder.is_dir() else "this is no folder"
        raise BadInput(Problem(what, Place(str(folder)), "evidence is written into a new folder"))
    place, kept = found.place, found.survey.folder
    signer = find_signer(place.estate().sign, place.folder)
    manifest = (kept / "survey.json").read_bytes()
    evidence = evidence_result(
        result, found.survey.dossiers, views, place.baseline_texts(), hashlib.sha256(manifest).hexdigest(),
        signer.public.fingerprint if signer else "",
    )  # fmt: skip
    dossiers = [path for path in found.survey.manifest.files if path.endswith(".json")]
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
    told = msgspec.json.format(msgspec.json.encode(FolderManifest(1, found.survey.name, digests)), indent=1) + b"\n"
    write_whole(folder / MANIFEST, told)
    if signer is not None:
        write_whole(folder / f"{MANIFEST}{ENDING}", signer.sign(PURPOSE, told))
    return len(files)


def check_evidence(folder: Path, signer: PublicKey | None) -> list[str]:
    """What is wrong with an evidence folder: files altered, missing or added, and its signature. Raises `BadInput`."""
    from rusty_lantern.archive.signing import ENDING, read_signature
    from rusty_lantern.core.errors import BadInput, Place, Problem

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
    if signer is not None:
        try:
            signature = read_signature(folder / f"{MANIFEST}{ENDING}")
        except ValueError as error:
            return [*wrong, str(error)]
        if signature is None:
            wrong.append("it is not signed")
        elif signature.key != signer.fingerprint:
            wrong.append(f"signed by another key: {signature.key}")
        elif not signer.fits(signature, PURPOSE, content):
            wrong.append("its signature is not of this folder")
    return wrong
