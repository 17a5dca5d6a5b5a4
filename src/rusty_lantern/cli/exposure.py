"""`lantern exposure`: who can get in, and how."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli import interrupt
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import FailOnOption, end_listing, find_view, judge_of, opened

if TYPE_CHECKING:
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.reports.results.exposure import Probed


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("exposure", short_help="Show public access, with a request that would be allowed.")(exposure)


def exposure(
    buckets: Annotated[
        list[str] | None,
        typer.Argument(help="STORE/BUCKET; otherwise all.", metavar="STORE/BUCKET", autocompletion=completing.buckets),
    ] = None,
    probe: Annotated[
        bool,
        typer.Option("--probe", help="Also send one anonymous list and one anonymous read request to each bucket."),
    ] = False,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show public access: buckets by verbs, the worst first, then each way in with a request that would be allowed.

    Use it when something is said to be public, or is meant to be. Example: lantern exposure harbour/payroll-drop
    """
    from rusty_lantern.reports.results.exposure import exposure_result
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.of_survey import OfSurvey
    from rusty_lantern.reports.terminal.exposure import exposure_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of)
    place, taken, when, seen = session.place, session.survey, session.when, session.views
    chosen = [find_view(seen, wanted, taken) for wanted in buckets] if buckets else seen
    probed = _probe(place, chosen) if probe else None
    result = exposure_result(chosen, OfSurvey(**session.about(named=bool(buckets))), probed)
    if json:
        emit(encode(result))
    else:
        exposure_view(console(), result)
    if fail_on is None:
        return
    judge = judge_of(place, when)
    narrow = judge.about("exposure.", "anonymous-test") if judge else None
    judged = [j for view in chosen for j in narrow.findings(view)] if narrow else []
    about = [
        j for j in judged if j.status == "drift" and j.requirement.fact.startswith(("exposure.", "anonymous-test"))
    ]
    answered = ["high" for tested in probed or () if tested.outcome == "disagrees"]
    end_listing(fail_on, [*answered, *(j.requirement.severity for j in about)], result.unread_stores)


def _probe(place: Workspace, chosen: list[BucketSubject]) -> list[Probed]:
    """Say which addresses will be contacted, then send each chosen bucket's anonymous list and read requests."""
    from rusty_lantern.core.model.capabilities import PROTOCOLS
    from rusty_lantern.reports.results.exposure import probed
    from rusty_lantern.stores.door_probe import door_probes
    from rusty_lantern.stores.kinds import reader_of
    from rusty_lantern.stores.reader import Visit
    from rusty_lantern.survey.anonymous_probe import probe_bucket

    async def one_store(name: str) -> list[Probed]:
        store = next((s for s in place.estate().stores if s.name == name), None)
        if store is None or not PROTOCOLS[store.reads].probes:
            why = (
                "it is not in estate.yaml"
                if store is None
                else f"it is read by its {store.reads}, and has no address to ask"
            )
            note(f"{name} is not asked: {why}")
            return []
        note(f"testing anonymously: {store.at}, at most {store.pace.per_second} requests a second")
        results = []
        mine = [view for view in chosen if view.dossier.store == name]
        async with reader_of(Visit(store, place.folder, mine[0].moment)) as reader:
            for view in mine:
                doors = door_probes(reader.visit, view.dossier)
                answers = (await probe_bucket(reader, view, doors)).anonymous_test
                if not answers.settled:
                    note(f"{view.title} was not tried: {answers.reason}")
                tested = answers.value or ()
                results += [probed(view, answer, tested) for answer in tested]
        return results

    async def all_stores() -> list[Probed]:
        names = dict.fromkeys(view.dossier.store for view in chosen)
        return [result for name in names for result in await one_store(name)]

    return interrupt.run(all_stores())
