"""What every command shares: the workspace, the console, options, and how errors end the program."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from rusty_lantern.cli.counting import VersionTables, counted_anew

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Sequence
    from datetime import datetime

    from rusty_lantern.archive.audit_cache import AuditSummaries
    from rusty_lantern.archive.surveys import Manifest, Survey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.audit.audit import Audit, Judge
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.audit.choice import Choice
    from rusty_lantern.core.audit.replicas import MirrorSubject
    from rusty_lantern.core.audit.store_subject import StoreSubject
    from rusty_lantern.core.audit.waiver_file import Waiver
    from rusty_lantern.core.config.estate import Estate
    from rusty_lantern.core.history.drift_changes import DriftTurns
    from rusty_lantern.core.history.drift_history import DriftStarts
    from rusty_lantern.objects.retention_summary import ProtectedBytes


class Floor(StrEnum):
    """A severity: it and what is worse count."""

    critical = "critical"
    high = "high"
    medium = "medium"
    low = "low"


FailOnOption = Annotated[
    Floor | None,
    typer.Option(
        "--fail-on", help="Exit with 1 if there is drift of this severity or worse; else 0.", show_default=False
    ),
]


def end_listing(floor: Floor | None, severities: Iterable[str], unread: Collection[str] = ()) -> None:
    """End a listing: with 0; or where a floor was given, with 1 if something reaches it, and otherwise with 3 if a
    store was not read (`unread`): what reaches it may be there."""
    from rusty_lantern.core.audit.audit import reaches

    if floor is not None and reaches(floor.value, severities):
        raise typer.Exit(1)
    if floor is not None and unread:
        raise typer.Exit(3)


def workspace(named: Path | None) -> Workspace:
    """The workspace to work in."""
    from rusty_lantern.archive.workspace import find

    return find(Path.cwd(), named)


def moment(written: str | None, default: datetime, option: str = "--as-of") -> datetime:
    """The moment that an option gives, by default the one that counts as now. Raises `BadInput`, which names it."""
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.value_types import InvalidValue, read_moment

    if written is None:
        return default
    try:
        at = read_moment(written)
    except InvalidValue as error:
        raise BadInput(Problem(f"{option}: {error}")) from None
    if not EARLIEST <= at.year <= LATEST:
        raise BadInput(Problem(f"{option}: {written[:40]} is not between the years {EARLIEST} and {LATEST}"))
    return at


EARLIEST, LATEST = 1970, 2999
"""The years in which a moment can count as now: a time some years before or after is valid too."""


def saved_survey(place: Workspace, name: str | None) -> Survey:
    """A saved survey."""
    from rusty_lantern.archive.surveys import load

    return load(place.surveys, name)


_MADE: dict[tuple[Path, datetime], tuple[Manifest, Estate, list[StoreSubject]]] = {}
MOST_MADE, MOST_BUCKETS = 2, 1_000
"""As many surveys as one command compares are kept, and none of more buckets: those take their memory but once."""


def stores_of(place: Workspace, taken: Survey, when: datetime) -> list[StoreSubject]:
    """The stores of a saved survey, with their buckets. What follows from them is kept for the next command of the same
    process: `demo` runs many on the same two surveys."""
    from rusty_lantern.core.audit.store_subject import store_subjects

    key, estate = (taken.folder, when), place.estate()
    manifest, of_estate, stores = _MADE.pop(key, (None, None, None))
    if stores is None or manifest != taken.manifest or of_estate != estate:
        stores = store_subjects(taken.dossiers, estate, when)
    if sum(len(store.buckets) for store in stores) <= MOST_BUCKETS:
        _MADE[key] = (taken.manifest, estate, stores)
    while len(_MADE) > MOST_MADE:
        del _MADE[next(iter(_MADE))]
    return stores


def audit_saved(
    place: Workspace,
    taken: Survey,
    when: datetime | None = None,
    waivers: Sequence[Waiver] | None = None,
    choice: Choice | None = None,
    stores: list[StoreSubject] | None = None,
) -> Audit:
    """Hold a saved survey against the workspace's baseline; as of its own moment unless another is given. `stores`:
    those of its stores that are meant, as of that moment, where they were made already."""
    from rusty_lantern.core.audit.audit import Judge, audit

    when = when or taken.manifest.taken
    estate = place.estate()
    judge = Judge(place.baseline(), when, tuple(place.waivers() if waivers is None else waivers))
    stores = stores_of(place, taken, when) if stores is None else stores
    buckets = [view for one in stores for view in one.buckets.values()]
    tables = VersionTables(place, taken, when)
    mirrors, tallies = mirrored_in(tables, stores, estate), tables.tallies(judge, buckets)
    return audit(stores, judge, mirrors, tallies, choice, taken.manifest.limits)


def audit_summaries(place: Workspace) -> AuditSummaries:
    """The results of audits of a workspace's saved surveys."""
    from rusty_lantern.archive.audit_cache import AuditSummaries

    return AuditSummaries(place, lambda survey: audit_saved(place, survey), fresh=counted_anew())


LOOK_BACK = 30
"""How many earlier surveys an audit judges anew, to find out since when drift has been open; the others must be
known."""


def drift_starts_of(
    place: Workspace, taken: Survey, judged: Audit, when: datetime | None = None, *, whole: bool = True
) -> DriftStarts:
    """Since when each drift of an audit has been open, by the surveys saved before it. An audit as of the survey's own
    moment is kept, so that nobody needs to judge it again; `whole`: whether it is all of it."""
    as_its_own = whole and when in (None, taken.manifest.taken)
    from rusty_lantern.archive.surveys import names
    from rusty_lantern.core.history.drift_history import audit_summary, drift_starts

    summaries = audit_summaries(place)
    if as_its_own:
        now = summaries.known(taken.name) or summaries.keep(taken, judged)
    else:
        now = audit_summary(taken.name, taken.manifest.taken, "", judged)
    earlier = [name for name in names(place.surveys) if name < taken.name]
    seen = list(summaries.before(earlier, LOOK_BACK))
    return drift_starts(now, seen, all_seen=len(seen) == len(earlier))


def drift_since(
    place: Workspace, name: str, audit: Audit, choice: Choice | None = None, *, named: bool = False
) -> DriftTurns | None:
    """How drift turned since the survey before, None where there is none; of what was chosen, of that alone. `named`:
    of the subjects that the audit names alone.

    A survey that was limited to some buckets says nothing of the others, so the last one that was not is taken.
    """
    import msgspec

    from rusty_lantern.archive.surveys import names
    from rusty_lantern.core.history.drift_changes import drift_turns

    earlier = [one for one in names(place.surveys) if one < name]
    if not earlier:
        return None
    summaries = audit_summaries(place)
    latest = [summaries.of(one) for one in earlier[-1:]]
    rest = summaries.before(earlier[:-1], LOOK_BACK) if latest[0].coverage.limits.only else ()
    before = next(
        (one for one in (*latest, *rest) if one.coverage.limits.only in ([], audit.coverage.limits.only)), latest[0]
    )
    not_ok = before.not_ok
    if choice is not None:
        of_stores = [one for one in not_ok if not choice.stores or one.store in choice.stores]
        not_ok = [one for one in of_stores if choice.has(one.fact, one.severity)]
    if named or (choice is not None and choice.tag):
        about = audit.met.subjects() | {finding.key[:3] for finding in audit.findings}
        not_ok = [one.of(about) for one in not_ok]
    return drift_turns(msgspec.structs.replace(before, not_ok=not_ok), audit)


class OpenedSurvey(NamedTuple):
    """A saved survey, opened: where it is, what counts as now, and its buckets with all that follows from them."""

    place: Workspace
    survey: Survey
    when: datetime
    stores: list[StoreSubject]

    @property
    def views(self) -> list[BucketSubject]:
        """All its buckets, store by store, by name."""
        return [view for store in self.stores for view in store.buckets.values()]

    def audit(self) -> Audit:
        """These stores, held against the workspace's baseline."""
        return audit_saved(self.place, self.survey, self.when, stores=self.stores)

    def judge(self) -> Judge | None:
        """What everything is judged by; None where the workspace has no baseline. Raises `BadInput`."""
        return judge_of(self.place, self.when)

    def tables(self) -> VersionTables:
        """Its version tables."""
        return VersionTables(self.place, self.survey, self.when)

    def about(self, *, named: bool = False) -> dict[str, Any]:
        """What a result says about the survey; `named`: of one that is about buckets or a store that were named."""
        from rusty_lantern.core.audit.coverage import Limits

        names = {store.name for store in self.stores}
        unread = {} if named else {store: why for store, why in self.survey.unread.items() if store in names}
        limits = Limits() if named else self.survey.manifest.limits
        mine = {store: patterns for store, patterns in limits.of_stores.items() if store in names}
        limited = {"only": limits.only, "only_of": mine}
        return {"survey": self.survey.name, "as_of": self.when, "unread_stores": unread, **limited}

    def under(self, store_subject: StoreSubject) -> dict[str, list[tuple[str, str, int, int]]]:
        """What the versions in a store's buckets are encrypted with, for buckets whose objects were looked at."""
        seen = {n: view for n, view in store_subject.buckets.items() if view.bucket.table.value is not None}
        return dict(zip(seen, self.tables().keys(list(seen.values())), strict=True))


def judge_of(place: Workspace, when: datetime) -> Judge | None:
    """The baseline and the waivers of a workspace; None where it has no baseline. Raises `BadInput`."""
    from rusty_lantern.core.audit.audit import Judge

    if not (place.folder / "baseline.yaml").is_file():
        return None
    return Judge(place.baseline(), when, tuple(place.waivers()))


def oldest_allowed(judge: Judge | None) -> int | None:
    """The age in seconds that the baseline allows an access key, by its last sheet that says so."""
    if judge is None:
        return None
    said = [r for sheet in judge.cascade.baseline.sheets for r in sheet.require if r.fact == "credential.age"]
    limits = [r.comparison.values[0] for r in said if r.comparison and r.comparison.how == "at most"]
    return int(str(limits[-1])) if limits else None


def mirrored_in(tables: VersionTables, stores: list[StoreSubject], estate: Estate) -> list[MirrorSubject]:
    """The estate's mirrored buckets, compared; what a copy lacks is counted where both sides have version tables."""
    from rusty_lantern.core.audit.replicas import mirrored, pairs

    seen = [
        (mirror, view, copy)
        for mirror, view, copy in pairs(stores, estate.mirrors)
        if copy is not None and view.table.value is not None and copy.table.value is not None
    ]
    counted = tables.lacking([(view, copy, mirror.lag) for mirror, view, copy in seen])
    lacks = {(view.title, mirror.target): one for (mirror, view, _), one in zip(seen, counted, strict=True)}
    return list(mirrored(stores, estate.mirrors, lacks))


def opened(named: Path | None, survey: str | None, as_of: str | None, only: str | None = None) -> OpenedSurvey:
    """Open a saved survey, as of its own moment unless another is given, or one store of it. Raises `BadInput` for a
    store that it has not."""
    from rusty_lantern.core.errors import BadInput, Problem, nearest

    place = workspace(named)
    taken = saved_survey(place, survey)
    when = moment(as_of, taken.manifest.taken)
    subjects = stores_of(place, taken, when)
    names = [store.name for store in subjects]
    if only is not None and only not in names:
        hint = nearest(only, names) or f"stores: {', '.join(names)}"
        raise BadInput(Problem(f'no store "{only}" in the survey {taken.name}', remedy=hint))
    return OpenedSurvey(place, taken, when, [store for store in subjects if only in (None, store.name)])


def bytes_by_protection(session: OpenedSurvey) -> dict[str, list[ProtectedBytes]]:
    """STORE/BUCKET → what encrypts and locks its current objects, of buckets whose objects were looked at."""
    seen = [view for view in session.views if view.bucket.table.value is not None]
    each = session.tables().kept_bytes(seen)
    return {view.title: bytes_kept for view, bytes_kept in zip(seen, each, strict=True)}


def chosen_views(session: OpenedSurvey, wanted: Sequence[str] | None) -> list[BucketSubject]:
    """The buckets that are named, each once; all where none is. Raises `BadInput`."""
    named = [find_view(session.views, name, session.survey) for name in wanted or ()]
    return list({view.title: view for view in named}.values()) or session.views


def find_view(views: list[BucketSubject], wanted: str, taken: Survey) -> BucketSubject:
    """The bucket called `STORE/BUCKET` (or by its name alone, if only one store has it). Raises `BadInput`."""
    from rusty_lantern.core.errors import BadInput, Problem

    fitting = [view for view in views if wanted in (view.title, view.bucket.name)]
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        raise BadInput(Problem(f'several stores have a bucket "{wanted}"', remedy=", ".join(v.title for v in fitting)))
    store, _, name = wanted.rpartition("/")
    unread = [one for one in taken.unread if store in ("", one)]
    hint = nearest_bucket(name, store, [view.title for view in views])
    if unread:
        hint = (
            f"store {', '.join(unread)} was not read in it; lantern history lists earlier ones, --survey NAME opens one"
        )
    what = f'no bucket "{wanted}" in the survey {taken.name}'
    raise BadInput(Problem(what, remedy=hint or "lantern buckets lists them"))


def nearest_bucket(name: str, store: str, titles: Sequence[str]) -> str:
    """A question that suggests the bucket that was meant, if one has nearly this name; best in the store that is named.

    >>> nearest_bucket("press-kit", "attic", ["harbour/press-kit", "attic/scans"])
    'did you mean "harbour/press-kit"?'
    >>> nearest_bucket("nope", "harbour", ["harbour/press-kit"])
    ''
    """
    from rusty_lantern.core.errors import nearest

    there = [title for title in titles if title.startswith(f"{store}/")]
    for among in (there, titles):
        by_name = {title.partition("/")[2]: title for title in among}
        if suggested := nearest(name, by_name, in_full=by_name):
            return suggested
    return ""
