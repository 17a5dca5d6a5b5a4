"""What there is in a workspace, read from names and small files alone: nothing of the core is loaded for it."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

import msgspec

from rusty_lantern import __version__
from rusty_lantern.archive.folder_layout import ESTATE, MANIFEST, SUMMARIES, SURVEYS

FORM = 58
"""Of kept summaries: one of another form is worked out again."""


class SavedResult(msgspec.Struct, frozen=True):
    """The part of a saved summary that says what a survey came out as, and by which rules."""

    judged_by: str
    judged_with: list[str]
    counts: dict[str, int]
    drift_by_severity: dict[str, int]
    unread: list[str]
    not_ok: list[tuple[str, str, str, str, str, str, list[str]]] = []
    """Store, kind, fact, status, severity and value of each requirement that was not ok, and the names of subjects."""

    def worst(self) -> list[tuple[str, str, list[str]]]:
        """The buckets with critical drift, the public ones first: store, name, and the facts, the worst first."""
        drifting: dict[tuple[str, str], list[str]] = {}
        for store, kind, fact, status, severity, _, names in self.not_ok:
            if (kind, status, severity) == ("bucket", "drift", "critical"):
                for name in names:
                    drifting.setdefault((store, name), []).append(fact)
        public = {key for key, facts in drifting.items() if any(fact.startswith("exposure.") for fact in facts)}
        order = sorted(drifting.items(), key=lambda one: (one[0] not in public, -len(one[1]), one[0]))
        return [(store, name, sorted(facts, key=_how_bad)) for (store, name), facts in order]


_WORST_VERBS = ("write", "delete", "change-settings", "bypass-retention", "read", "list", "read-settings")


def _how_bad(fact: str) -> tuple[int, str]:
    """The rank of a fact: public access by its verb, then everything else by name."""
    area, _, verb = fact.partition(".")
    order = _WORST_VERBS.index(verb) if area == "exposure" and verb in _WORST_VERBS else len(_WORST_VERBS)
    return order, fact


def judged_by(texts: list[str], manifest: bytes) -> str:
    """A hash of everything that judging a survey depends on: this version, what the team wrote, and the survey."""
    written = hashlib.sha256(msgspec.json.encode([__version__, FORM, texts])).hexdigest()
    return hashlib.sha256(written.encode() + manifest).hexdigest()


def saved_result(folder: Path, survey: str) -> SavedResult | None:
    """The result of a survey's audit, if it is saved and nothing written since would change it."""
    try:
        kept = msgspec.json.decode(_read_kept(folder, folder / SUMMARIES / f"{survey}.json"), type=SavedResult)
        texts = [_text(folder / name) for name in kept.judged_with]
        manifest = (folder / SURVEYS / survey / MANIFEST).read_bytes()
    except (OSError, ValueError):
        return None
    return kept if kept.judged_by == judged_by(texts, manifest) else None


def _read_kept(folder: Path, path: Path) -> bytes:
    """What is kept. Where the team signs, only with its signature; that takes longer to load, so nobody else pays."""
    if not re.search(r"(?m)^sign\s*:", _text(folder / ESTATE)):
        return path.read_bytes()
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.errors import BadInput

    try:
        return Workspace(folder).sealed.read(path)
    except BadInput as error:
        raise ValueError(str(error)) from None


def _text(path: Path) -> str:
    """A file's text; a waivers file that is not there is an empty one."""
    return path.read_bytes().decode("utf-8-sig") if path.is_file() else ""
