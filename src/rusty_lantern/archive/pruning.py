"""Thinning the archive by a stated rule.

The latest survey always stays, and so does each that is the last of its day, week, month or year as the rule asks. What
goes is written down first, with its hash and that of the survey it followed (`surveys/pruned.jsonl`), so that the chain
of surveys can still be followed, and every gap in it is reported.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.archive.atomic_write import write_whole
from rusty_lantern.archive.chain import PRUNED, Pruned, pruned
from rusty_lantern.archive.errors import CannotWrite
from rusty_lantern.archive.folder_layout import SUMMARIES
from rusty_lantern.archive.surveys import MANIFEST, Manifest, names
from rusty_lantern.core.errors import BadInput, Place, Problem
from rusty_lantern.core.value_types import DURATION, InvalidValue

if TYPE_CHECKING:
    from rusty_lantern.archive.signing import Signer

_PERIODS: dict[str, Callable[[datetime], object]] = {
    "all": lambda moment: moment,
    "daily": lambda moment: moment.date(),
    "weekly": lambda moment: moment.isocalendar()[:2],
    "monthly": lambda moment: (moment.year, moment.month),
    "yearly": lambda moment: moment.year,
}


class PruningRule(msgspec.Struct, frozen=True):
    """Keep the last survey of each period, for so many seconds before the latest survey (0: for ever)."""

    period: str
    seconds: int

    def keeps(self, taken: Sequence[datetime]) -> set[datetime]:
        """The moments of those that stay, of surveys in their order."""
        latest = taken[-1]
        young = [t for t in taken if not self.seconds or latest - t <= timedelta(seconds=self.seconds)]
        last: dict[object, datetime] = {_PERIODS[self.period](moment): moment for moment in young}
        return set(last.values())


def read_rule(written: str) -> PruningRule:
    """Read `all for 30 days`, `weekly for 1 year`, `monthly`. Raises `BadInput`."""
    match = re.fullmatch(r"(all|daily|weekly|monthly|yearly)(?: for (.+))?", written.strip())
    if match is None:
        raise BadInput(Problem(f'"{written}" is no rule', remedy="--keep 'all for 30 days' --keep 'weekly for 1 year'"))
    try:
        return PruningRule(match[1], int(DURATION.read(match[2])) if match[2] else 0)  # type: ignore[arg-type]
    except InvalidValue as error:
        raise BadInput(Problem(f"--keep: {error}")) from None


class PruningPlan(msgspec.Struct, frozen=True):
    """What stays and what goes: names of surveys, oldest first."""

    stay: list[str]
    go: list[str]


def plan(archive: Path, rules: Sequence[PruningRule]) -> PruningPlan:
    """What a set of rules keeps: whatever one of them keeps, and the latest. Raises `BadInput` for a survey unread."""
    manifests = {name: _manifest(archive / name) for name in names(archive)}
    if not manifests:
        return PruningPlan([], [])
    taken = [manifest.taken for manifest in manifests.values()]
    kept = {taken[-1]}.union(*(rule.keeps(taken) for rule in rules))
    return PruningPlan(
        [n for n, m in manifests.items() if m.taken in kept], [n for n, m in manifests.items() if m.taken not in kept]
    )


def prune(archive: Path, go: Sequence[str], rule: str, signer: Signer | None = None) -> None:
    """Take surveys away, with what was counted of them, each written down before it goes.

    Raises `CannotWrite`; what is not written down stays.
    """
    import hashlib

    deleted = pruned(archive)
    for name in go:
        content = (archive / name / MANIFEST).read_bytes()
        manifest = _manifest(archive / name)
        deleted.append(Pruned(name, manifest.taken, hashlib.sha256(content).hexdigest(), manifest.previous, rule))
    record = b"".join(msgspec.json.encode(one) + b"\n" for one in deleted)
    write_whole(archive / PRUNED, record)
    if signer is not None:
        write_whole(archive / f"{PRUNED}.sig", signer.sign("pruning record", record))
    for name in go:
        aside = archive / f".{name}.going"
        try:
            (archive / name).rename(aside)
            shutil.rmtree(aside)
            for counted in (archive.parent / SUMMARIES).glob(f"{name}.*"):
                counted.unlink()
        except OSError as error:
            raise CannotWrite(Problem(f"cannot be deleted: {error.strerror}", Place(str(archive / name)))) from None


def _manifest(folder: Path) -> Manifest:
    try:
        return msgspec.json.decode((folder / MANIFEST).read_bytes(), type=Manifest)
    except (OSError, msgspec.DecodeError) as error:
        what, remedy = f"this survey cannot be read: {error}", "nothing was deleted; lantern history --verify"
        raise BadInput(Problem(what, Place(f"{folder.parent.name}/{folder.name}"), remedy)) from None
