"""Whether the surveys of an archive are those that were written, all of them, in order: hashes, signatures, anchors.

What each can show: hashes show that a kept file was altered; the chain, that one was taken out of the middle; the head,
that the newest was; signatures, that somebody without the key rewrote the chain; an anchor outside, that somebody with
the key did. `docs/security.md` has the whole.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import msgspec

from rusty_lantern.archive.signing import ENDING, PublicKey, read_signature
from rusty_lantern.archive.surveys import (
    HEAD,
    MANIFEST,
    REMEDY,
    Head,
    Manifest,
    _manifest,
    names,
    purpose_of,
    verified,
)
from rusty_lantern.core.errors import BadInput, Damaged, Place, Problem


class HistoryEntry(msgspec.Struct, frozen=True):
    """One line of the archive's history: a survey, its hash, and what is wrong with it, if anything."""

    name: str
    manifest: Manifest | None
    digest: str
    wrong: str = ""
    pruned_before: int = 0
    """How many surveys before it were pruned, back to the one before it that is still there."""
    signed: str = ""
    """The fingerprint of the key that signed it, by its signature's own word; empty: nobody did."""


class Pruned(msgspec.Struct, frozen=True):
    """One line of `pruned.jsonl`: a survey that is gone, and what followed from it. The chain is followed through."""

    survey: str
    taken: datetime
    sha256: str
    """Of its `survey.json`."""
    previous: str | None
    rule: str


PRUNED = "pruned.jsonl"


def pruned(archive: Path) -> list[Pruned]:
    """What was pruned, in the order in which it was. Raises `Damaged` for a record that cannot be read."""
    try:
        lines = (archive / PRUNED).read_bytes().splitlines()
        return [msgspec.json.decode(line, type=Pruned) for line in lines]
    except FileNotFoundError:
        return []
    except (OSError, msgspec.DecodeError) as error:
        raise Damaged(Problem(f"cannot be read: {error}", Place(f"{archive.name}/{PRUNED}"), REMEDY)) from None


class Integrity(msgspec.Struct, frozen=True):
    """What is wrong with an archive as a whole, besides its single surveys."""

    unsigned: str = ""
    """That nothing here is signed, where a signer was named."""
    newest_missing: str = ""
    """The survey that was the newest, where it is gone."""
    pruning_record: str = ""
    """What is wrong with the record of what was pruned."""
    anchor: str = ""
    """What is wrong by the anchor that was given."""

    @property
    def wrong(self) -> list[str]:
        """All of it, in words."""
        return [words for words in (self.unsigned, self.newest_missing, self.pruning_record, self.anchor) if words]


def history(archive: Path, *, verify: bool, signer: PublicKey | None = None) -> list[HistoryEntry]:
    """Every saved survey, oldest first. With `verify`, every file is hashed and the chain of surveys is followed; with
    a `signer`, signatures are checked too."""
    surveys: list[HistoryEntry] = []
    digests: dict[str, str] = {}
    followers: dict[str | None, str] = {}
    for name in names(archive):
        folder = archive / name
        manifest, wrong, digest, gone = None, "", "", 0
        try:
            content = (folder / MANIFEST).read_bytes()
            digest = hashlib.sha256(content).hexdigest()
            manifest = verified(archive, name) if verify else _manifest(folder)
            gone, broken = _follows(archive, manifest, surveys[-1].digest if surveys else None, digests, followers)
            wrong = broken if verify else ""
            followers.setdefault(manifest.previous, name)
        except (Damaged, BadInput) as error:
            wrong = str(error.complaints[0].place or "") + ": " + error.complaints[0].what
        except OSError as error:
            wrong = f"{MANIFEST} cannot be read: {error.strerror}"
        signed, forged = _signed(folder, purpose_of(name), signer, must=any(one.signed for one in surveys))
        surveys.append(HistoryEntry(name, manifest, digest, wrong or forged, gone, signed))
        digests[digest] = name
    return surveys


def _follows(
    archive: Path, manifest: Manifest, before: str | None, digests: dict[str, str], followers: dict[str | None, str]
) -> tuple[int, str]:
    """How many pruned surveys precede a survey, and what is wrong with its place in the chain."""
    gone = {one.sha256: one.previous for one in pruned(archive)} if manifest.previous != before else {}
    previous, steps = manifest.previous, 0
    while previous != before and previous in gone and steps <= len(gone):
        previous, steps = gone[previous], steps + 1
    if previous == before:
        return steps, ""
    if manifest.previous in digests:
        other = followers.get(manifest.previous, "another")
        return 0, f"two chains: it follows {digests[manifest.previous]}, as {other} does"
    if manifest.previous is None:
        return 0, "two chains: it follows none, and there are earlier ones"
    return (
        0,
        f"a gap: the survey that it followed ({manifest.previous[:8]}…) is neither here nor written down as pruned",
    )


def _signed(folder: Path, purpose: str, signer: PublicKey | None, *, must: bool) -> tuple[str, str]:
    """Whose signature a survey has (a fingerprint, empty: nobody's), and what is wrong with it."""
    try:
        signature = read_signature(folder / f"{MANIFEST}{ENDING}")
        content = (folder / MANIFEST).read_bytes()
    except (ValueError, OSError) as error:
        return "", str(error)
    if signature is None:
        return "", "not signed, though an earlier survey is" if must and signer is not None else ""
    if signer is None:
        return signature.key, ""
    if signature.key != signer.fingerprint:
        return signature.key, f"signed by another key: {signature.key}"
    return signature.key, "" if signer.fits(signature, purpose, content) else "its signature is not of this survey"


def integrity(
    archive: Path, kept: Sequence[HistoryEntry], signer: PublicKey | None = None, anchor: str = ""
) -> Integrity:
    """What is wrong with the archive as a whole."""
    bare = signer is not None and bool(kept) and not any(one.signed for one in kept)
    return Integrity(
        "no survey here is signed: anybody may have written them all" if bare else "",
        _newest(archive, kept),
        _pruning(archive, signer),
        against(archive, kept, anchor) if anchor else "",
    )


def _newest(archive: Path, kept: Sequence[HistoryEntry]) -> str:
    try:
        head = msgspec.json.decode((archive / HEAD).read_bytes(), type=Head)
    except FileNotFoundError:
        return ""  # an archive of an earlier lantern
    except (OSError, msgspec.DecodeError) as error:
        return f"{HEAD}, which names the newest survey, cannot be read: {error}"
    if any(one.name == head.survey for one in kept):
        return ""
    return f"the newest survey is missing: {head.survey} was written ({head.sha256[:8]}…), and is not here"


def _pruning(archive: Path, signer: PublicKey | None) -> str:
    path = archive / PRUNED
    if signer is None or not path.is_file():
        return ""
    try:
        signature = read_signature(archive / f"{PRUNED}{ENDING}")
    except ValueError as error:
        return f"{PRUNED}: {error}"
    if signature is None:
        return f"{PRUNED} is not signed: anybody may have written that surveys were pruned"
    return "" if signer.fits(signature, "pruning record", path.read_bytes()) else f"{PRUNED} is not as it was signed"


ANCHOR = re.compile(r"lantern-anchor (\d{8}T\d{6}Z) (\d{1,9}) ([0-9a-f]{64})")
"""An anchor: the newest survey, how many led to it, the hash of its manifest."""


def anchor_of(archive: Path, kept: Sequence[HistoryEntry]) -> str:
    """The line to be put outside. Raises `BadInput` where there is no survey."""
    if not kept:
        raise BadInput(Problem("no survey is saved here yet", remedy="take one with: lantern survey"))
    return f"lantern-anchor {kept[-1].name} {_count(archive, kept[-1].name)} {kept[-1].digest}"


def _count(archive: Path, until: str) -> int:
    """How many surveys were taken up to this one, those that were pruned too."""
    gone = {one.survey for one in pruned(archive)}
    return len({name for name in (*names(archive), *gone) if name <= until})


def against(archive: Path, kept: Sequence[HistoryEntry], line: str) -> str:
    """What is wrong by an anchor; empty where it fits. Raises `BadInput` for a line that is none."""
    match = ANCHOR.search(line)
    if match is None:
        raise BadInput(Problem("that is no anchor", remedy="it is the line that lantern history --anchor prints"))
    name, count, digest = match[1], int(match[2]), match[3]
    mine = next((one.digest for one in kept if one.name == name), None)
    mine = mine or next((one.sha256 for one in pruned(archive) if one.survey == name), None)
    if mine is None:
        return f"the survey of the anchor, {name}, is not here and was not pruned"
    if mine != digest:
        return f"the survey of the anchor, {name}, is not the one that was anchored: it was written anew"
    here = _count(archive, name)
    return "" if here == count else f"the anchor counts {count} surveys up to {name}, and here are {here}"
