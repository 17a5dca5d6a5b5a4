"""What was counted in a survey's version tables, kept beside the surveys (`results/`), so that it is counted once.

A saved survey never changes, so neither do the counts of its tables under the same requirements at the same moment.
Nothing here is a source: what is missing, damaged, or was counted otherwise is counted again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import TypeVar

import msgspec

from rusty_lantern import __version__
from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.archive.folder_layout import SUMMARIES
from rusty_lantern.archive.quick_status import FORM
from rusty_lantern.archive.sealed import Sealed

T = TypeVar("T")

NO_SEAL = Sealed()


class _Kept(msgspec.Struct, frozen=True):
    """By what was counted, and per table a hash of its file and of the question, and the answer."""

    by: str
    counts: dict[str, tuple[str, msgspec.Raw]]


class TableCache(msgspec.Struct, frozen=True):
    """Counts over the tables of one survey as of one moment. `fresh`: no kept answer is used; each is replaced."""

    workspace: Path
    survey: str
    moment: datetime
    fresh: bool = False
    sealed: Sealed = NO_SEAL

    def each(
        self,
        kind: str,
        tables: Sequence[tuple[Sequence[Path], object]],
        form: type[T],
        count: Callable[[list[int]], Sequence[T]],
    ) -> list[T]:
        """What is asked of some tables, each by its files and by what else the answer depends on.

        `count` is given the positions of those that are not known, and answers them in that order. `form`: the type of
        one answer. Raises what `count` raises.
        """
        path = self.workspace / SUMMARIES / f"{self.survey}.{kind}.json"
        by = _hash([__version__, FORM, self.moment])
        names = ["/".join(files[0].parts[-2:]) for files, _ in tables]
        hashes = [_hash([[_stamp(file) for file in files], what]) for files, what in tables]
        kept = self._read(path, by)
        answers: dict[int, T] = {}
        for n, name in enumerate(names):
            hashed, answer = kept.get(name, ("", msgspec.Raw()))
            if hashed == hashes[n] and not self.fresh:
                with suppress(msgspec.DecodeError, UnicodeDecodeError):
                    answers[n] = msgspec.json.decode(answer, type=form)
        missing = [n for n in range(len(tables)) if n not in answers]
        if missing:
            answers |= zip(missing, count(missing), strict=True)
            kept |= {
                names[n]: (hashes[n], msgspec.Raw(msgspec.json.encode(answers[n], order="deterministic")))
                for n in missing
            }
            with suppress(CannotWrite, OSError):  # where nothing can be written it only takes longer
                self.sealed.write(path, msgspec.json.encode(_Kept(by, kept), order="deterministic") + b"\n")
        return [answers[n] for n in range(len(tables))]

    def _read(self, path: Path, by: str) -> dict[str, tuple[str, msgspec.Raw]]:
        try:
            kept = msgspec.json.decode(self.sealed.read(path), type=_Kept)
        except (OSError, ValueError):
            return {}
        return dict(kept.counts) if kept.by == by else {}


def _stamp(file: Path) -> tuple[str, int, int]:
    """What shows that a file is not the one that was counted: its place, length and time of change."""
    place = "/".join(file.parts[-4:])
    try:
        known = file.stat()
    except OSError:
        return place, -1, -1
    return place, known.st_size, known.st_mtime_ns


def _hash(what: object) -> str:
    return hashlib.sha256(msgspec.json.encode(what)).hexdigest()[:32]
