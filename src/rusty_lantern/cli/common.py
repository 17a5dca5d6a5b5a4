"""What every command shares: the workspace, the console, options, and how errors end the program."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from rusty_lantern.cli import completing

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence
    from datetime import datetime

    from rich.console import Console

    from rusty_lantern.archive.surveys import Survey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.assess import Audit, BucketView, Judge
    from rusty_lantern.core.baseline.judge import Tallied
    from rusty_lantern.core.baseline.sheets import Requirement
    from rusty_lantern.core.circles import Circle
    from rusty_lantern.core.declared import Declared
    from rusty_lantern.core.dossier import Bucket
    from rusty_lantern.core.mirrors import Behind, Missing
    from rusty_lantern.core.standings import Key, Since
    from rusty_lantern.core.tally import Tally
    from rusty_lantern.objects.locks import Kept

WorkspaceOption = Annotated[
    Path | None,
    typer.Option(
        "--workspace", "-w", help="The workspace folder; otherwise the nearest one upwards.", show_default=False
    ),
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print the result as JSON (see docs/json.md).")]
SurveyOption = Annotated[
    str | None,
    typer.Option(
        "--survey",
        help="A kept survey, by the beginning of its name; otherwise the latest.",
        show_default=False,
        autocompletion=completing.surveys,
    ),
]
AsOfOption = Annotated[
    str | None,
    typer.Option("--as-of", help="The moment that counts as now, e.g. 2026-11-02T06:00:00Z.", show_default=False),
]


class Floor(StrEnum):
    """A severity: it and what is worse count."""

    critical = "critical"
    high = "high"
    medium = "medium"
    low = "low"


FailOnOption = Annotated[
    Floor | None,
    typer.Option(
        "--fail-on", help="End with 1 if anything of this severity or worse drifted; else 0.", show_default=False
    ),
]


def ended(floor: Floor | None, severities: Iterable[str]) -> None:
    """End a listing: with 0, or where a floor was given and something reaches it with 1."""
    from rusty_lantern.core.assess import reaches

    if floor is not None and reaches(floor.value, severities):
        raise typer.Exit(1)


def workspace(named: Path | None) -> Workspace:
    """The workspace to work in."""
    from rusty_lantern.archive.workspace import find

    return find(Path.cwd(), named)


def moment(written: str | None, default: datetime) -> datetime:
    """The moment that counts as now. Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Complaint
    from rusty_lantern.core.scales import NotOnScale, read_moment

    if written is None:
        return default
    try:
        return read_moment(written)
    except NotOnScale as error:
        raise BadInput(Complaint(f"--as-of: {error}")) from None


def kept(place: Workspace, name: str | None) -> Survey:
    """A kept survey."""
    from rusty_lantern.archive.surveys import load

    return load(place.surveys, name)


def tallied(taken: Survey, when: datetime) -> Tallied:
    """Judges requirements on objects over a survey's version tables; the column engine is loaded only if needed."""

    def over(store: str, bucket: Bucket, requirements: Sequence[Requirement]) -> list[Tally]:
        from rusty_lantern.objects.engine import table_path
        from rusty_lantern.objects.judging import tallies

        return tallies(table_path(taken.folder, store, bucket.name), requirements, bucket, when)

    return over


def judge_kept(place: Workspace, taken: Survey, when: datetime | None = None) -> Audit:
    """Hold a kept survey against the workspace's baseline; as of its own moment unless another is given."""
    from rusty_lantern.core.assess import audit

    when = when or taken.manifest.taken
    return audit(
        taken.dossiers, place.baseline(), place.estate(), when, tallied(taken, when), missing_in(taken), place.waivers()
    )


LOOK_BACK = 30
"""How many earlier surveys an audit judges anew, to tell since when drift stands; the others must be known."""


def since_when(place: Workspace, taken: Survey, found: Audit, when: datetime | None = None) -> dict[Key, Since]:
    """Since when each drift of an audit stands, by the surveys kept before it. An audit as of the survey's own moment
    is kept, so that nobody needs to judge it again."""
    as_its_own = when in (None, taken.manifest.taken)
    from rusty_lantern.archive.standings import Standings
    from rusty_lantern.archive.surveys import names
    from rusty_lantern.core.standings import since, standing_of

    standings = Standings(place, lambda survey: judge_kept(place, survey))
    if as_its_own and standings.known(taken.name) is None:
        standings.keep(taken, found)
    now = standing_of(taken.name, taken.manifest.taken, "", found, taken.manifest.only)
    earlier = [name for name in names(place.surveys) if name < taken.name]
    seen = list(standings.before(earlier, LOOK_BACK))
    return since(now, seen, all_seen=len(seen) == len(earlier))


class Opened(NamedTuple):
    """A kept survey, opened: where it is, what counts as now, and its buckets with all that follows from them."""

    place: Workspace
    survey: Survey
    when: datetime
    views: list[BucketView]

    def judge(self) -> Judge | None:
        """What everything is judged by; None where the workspace has no baseline. Raises `BadInput`."""
        return judge_of(self.place, self.when)


def judge_of(place: Workspace, when: datetime) -> Judge | None:
    """The baseline and the waivers of a workspace; None where it has no baseline. Raises `BadInput`."""
    from rusty_lantern.core.assess import Judge

    if not (place.folder / "baseline.yaml").is_file():
        return None
    return Judge(place.baseline(), when, tuple(place.waivers()))


class OpenedStores(NamedTuple):
    """A kept survey, opened store by store."""

    place: Workspace
    survey: Survey
    when: datetime
    circles: list[Circle]

    def judge(self) -> Judge | None:
        """What everything is judged by; None where the workspace has no baseline. Raises `BadInput`."""
        return judge_of(self.place, self.when)

    def under(self, circle: Circle) -> dict[str, list[tuple[str, str, int, int]]]:
        """What the versions in a store's buckets are encrypted with, for buckets whose objects were looked at."""
        tables = [n for n, view in circle.buckets.items() if view.bucket.table.value is not None]
        if not tables:
            return {}
        from rusty_lantern.objects.copies import keys_in
        from rusty_lantern.objects.engine import table_path

        store = circle.roster.dossier.store
        return {name: keys_in(table_path(self.survey.folder, store, name)) for name in tables}


def opened_stores(named: Path | None, survey: str | None, as_of: str | None, only: str | None = None) -> OpenedStores:
    """Open a kept survey store by store, or one store of it. Raises `BadInput` for a store that it has not."""
    from rusty_lantern.core.assess import circles
    from rusty_lantern.core.errors import BadInput, Complaint, nearest

    place = workspace(named)
    taken = kept(place, survey)
    when = moment(as_of, taken.manifest.taken)
    found = circles(taken.dossiers, place.estate(), when)
    names = [circle.roster.dossier.store for circle in found]
    if only is not None and only not in names:
        hint = nearest(only, names) or f"stores: {', '.join(names)}"
        raise BadInput(Complaint(f'no store "{only}" in the survey {taken.name}', remedy=hint))
    return OpenedStores(place, taken, when, [c for c in found if only in (None, c.roster.dossier.store)])


def missing_in(taken: Survey) -> Missing:
    """Counts what mirrors lack by a survey's version tables; the column engine is loaded only if needed."""

    def count(view: BucketView, copy: BucketView, lag: int) -> Behind | None:
        if view.bucket.table.value is None or copy.bucket.table.value is None:
            return None
        from rusty_lantern.objects.copies import lacking
        from rusty_lantern.objects.engine import table_path

        paths = [table_path(taken.folder, side.dossier.store, side.bucket.name) for side in (view, copy)]
        return lacking(paths[0], paths[1], view.dossier.taken, lag)

    return count


def opened(named: Path | None, survey: str | None, as_of: str | None) -> Opened:
    """Open a kept survey, as of its own moment unless another is given."""
    from rusty_lantern.core.assess import views

    place = workspace(named)
    taken = kept(place, survey)
    when = moment(as_of, taken.manifest.taken)
    return Opened(place, taken, when, views(taken.dossiers, place.estate(), when))


def kept_bytes(found: Opened) -> dict[str, list[Kept]]:
    """STORE/BUCKET → what encrypts and locks its current objects, of buckets whose objects were looked at."""
    tables = [view for view in found.views if view.bucket.table.value is not None]
    if not tables:
        return {}
    from rusty_lantern.objects.engine import table_path
    from rusty_lantern.objects.locks import kept as kept_in

    folder = found.survey.folder
    return {v.title: kept_in(table_path(folder, v.dossier.store, v.bucket.name), found.when) for v in tables}


def find_view(views: list[BucketView], wanted: str, taken: Survey) -> BucketView:
    """The bucket called `STORE/BUCKET` (or by its name alone, if only one store has it). Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Complaint, nearest

    found = [view for view in views if wanted in (view.title, view.bucket.name)]
    if len(found) == 1:
        return found[0]
    if found:
        raise BadInput(Complaint(f'several stores have a bucket "{wanted}"', remedy=", ".join(v.title for v in found)))
    hint = nearest(wanted, [v.title for v in views] + [v.bucket.name for v in views])
    unread = ", ".join(dossier.store for dossier in taken.dossiers if not dossier.listing.settled)
    if unread:
        hint = f"store {unread} was not read in it; lantern history lists earlier ones, --survey NAME opens one"
    what = f'no bucket "{wanted}" in the survey {taken.name}'
    raise BadInput(Complaint(what, remedy=hint or "lantern buckets lists them"))


def printed(text: str | None, view: Callable[[Console], None], out: Path | None = None) -> None:
    """Print a result: a finished text as it is, otherwise its view. With `out`, into a file. Raises `CannotWrite`."""
    from rusty_lantern.reports.terminal import PIPE_WIDTH, console

    if out is None:
        if text is None:
            view(console())
        else:
            sys.stdout.write(text)
        return
    from io import StringIO

    from rich.console import Console

    from rusty_lantern.archive.writing import write_whole

    if text is None:
        view(screen := Console(file=StringIO(), width=PIPE_WIDTH, highlight=False, emoji=False, color_system=None))
        text = screen.file.getvalue()  # type: ignore[attr-defined]
    write_whole(out, text.encode("utf-8", "backslashreplace"))


def emit(text: str) -> None:
    """Print a finished result on stdout."""
    sys.stdout.write(text + "\n")


def note(text: str) -> None:
    """Print a note on stderr, where it is in nobody's way."""
    from rusty_lantern.reports.safe import safe

    sys.stderr.write(safe(text) + "\n")


MOST_DECLARED = 10_000


def declarations(path: Path) -> list[Declared]:
    """The declared buckets of a file, or of every .yaml and .json file in a folder and those below, in order.

    A file that names no store is of the store that its folder is called after, if there is one below. Raises `BadInput`
    with everything that is wrong with any of them.
    """
    import msgspec

    from rusty_lantern.core.declared import read_declared
    from rusty_lantern.core.errors import BadInput, Complaint

    if not path.is_dir():
        return [read_declared(read_text(path), str(path))]
    files = sorted(p for p in path.rglob("*") if p.suffix in (".yaml", ".yml", ".json") and p.is_file())
    if not files or len(files) > MOST_DECLARED:
        what = "no declared buckets in it" if not files else f"more than {MOST_DECLARED:,} files in it"
        raise BadInput(Complaint(f"{path}: {what}", remedy="one bucket a file, .yaml or .json"))
    found: list[Declared] = []
    wrong: list[Complaint] = []
    for file in files:
        try:
            one = read_declared(read_text(file), str(file))
        except BadInput as error:
            wrong += error.complaints
            continue
        inside = file.parent.relative_to(path).parts
        found.append(msgspec.structs.replace(one, store=one.store or (inside[0] if inside else "")))
    if wrong:
        raise BadInput(*wrong)
    return found


def read_text(path: Path) -> str:
    """A file's text. Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Complaint, Place

    try:
        return read_file(path).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput(Complaint("not UTF-8 text", Place(str(path)))) from None


def read_file(path: Path) -> bytes:
    """A file's bytes. Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Complaint, Place

    try:
        return path.read_bytes()
    except OSError as error:
        raise BadInput(Complaint(f"cannot be read: {error.strerror}", Place(str(path)))) from None
