"""`lantern try`: what would be so, before anything is applied."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.files import declarations, read_text
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import printed
from rusty_lantern.cli.session import Floor, find_view, opened

if TYPE_CHECKING:
    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.config.declared_bucket import DeclaredBucket
    from rusty_lantern.core.usage.proposed_retention import RetentionCost
    from rusty_lantern.reports.results.proposal import TryResult

    Elsewhere = Callable[[BucketSubject], BucketSubject]


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("try", short_help="Show what a change would do, before it is applied.")(try_)


def try_(
    declared: Annotated[
        Path | None,
        typer.Argument(help="A bucket in dossier form, YAML or JSON; or a folder of them.", metavar="[PATH]"),
    ] = None,
    bucket: Annotated[
        str | None,
        typer.Option(help="An existing STORE/BUCKET that the change is applied to.", autocompletion=completing.buckets),
    ] = None,
    policy: Annotated[Path | None, typer.Option(help="A new policy for --bucket.")] = None,
    as_on: Annotated[
        str | None, typer.Option(help="Read policies as software of this dialect does: common, gateway-16, a file's.")
    ] = None,
    fail_on: Annotated[
        Floor, typer.Option(help="Drift below this severity does not make the exit code 1.")
    ] = Floor.low,
    fail_on_unknown: Annotated[
        bool, typer.Option("--fail-on-unknown", help="End with 3 if anything is unknown, and no such drift.")
    ] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Decide and judge a bucket that does not exist yet, or a change: who gets in, what would drift, what is fixed.

    Use it before a change is applied; nothing is sent anywhere. Exit codes are those of audit, so that it fits into a
    pipeline. --as-on DIALECT answers what would be so in a store of other software. Example: lantern try --bucket
    harbour/payroll-drop --policy restricted.json
    """
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.proposal import TriesResult, try_result
    from rusty_lantern.reports.terminal.proposal import tries_view

    moved = as_on is not None and bucket is not None and declared is None and policy is None
    if not moved and ((declared is None) == (policy is None) or (policy is not None and bucket is None)):
        remedy = "lantern try FILE, or lantern try --bucket STORE/BUCKET --policy NEW.json"
        raise BadInput(Problem("name a declared bucket, or --bucket with --policy", remedy=remedy))
    session = opened(workspace_folder, survey, as_of)
    judge = session.judge()
    there = _elsewhere(session, as_on)
    if moved:
        current = find_view(session.views, bucket or "", session.survey)
        results = [try_result(current, there(current), judge)]
    elif policy is not None:
        results = [_of_policy(session, judge, bucket or "", policy, there)]
    else:
        files = declarations(declared or Path())
        if bucket is not None and len(files) != 1:
            raise BadInput(Problem("--bucket goes with one file", remedy="lantern try FILE --bucket STORE/BUCKET"))
        results = [_of_declared(session, judge, bucket, one, there) for one in files]
    whole = results[0] if declared is None or declared.is_file() else TriesResult(tries=results)
    printed(encode(whole) + "\n" if json else None, lambda screen: tries_view(screen, results))
    raise typer.Exit(
        max(
            (_code(result, fail_on, unknown_counts=fail_on_unknown) for result in results),
            key=(0, 3, 1).index,
            default=0,
        )
    )


def _elsewhere(session: OpenedSurvey, dialect: str | None) -> Elsewhere:
    """How a bucket is taken to a store of another dialect; as it is, where none is named."""
    from rusty_lantern.core.audit.dialect_differences import on_dialect
    from rusty_lantern.intake.dialect_files import find_dialect

    if dialect is None:
        return lambda view: view
    wanted = find_dialect(dialect, session.place.folder)
    return lambda view: on_dialect(view, wanted)


def _of_policy(session: OpenedSurvey, judge: Judge | None, bucket: str, policy: Path, there: Elsewhere) -> TryResult:
    from rusty_lantern.core.audit.proposed_bucket import beside, with_policy
    from rusty_lantern.reports.results.proposal import try_result

    current = find_view(session.views, bucket, session.survey)
    proposed = with_policy(current.bucket, read_text(policy), str(policy))
    return try_result(current, there(beside(current, proposed)), judge)


def _of_declared(
    session: OpenedSurvey, judge: Judge | None, bucket: str | None, declared: DeclaredBucket, there: Elsewhere
) -> TryResult:
    """The result for a declared bucket: over an existing one if that is named, otherwise by itself."""
    from rusty_lantern.core.audit.proposed_bucket import alone, beside
    from rusty_lantern.reports.results.proposal import try_result

    if bucket is not None:
        current = find_view(session.views, bucket, session.survey)
        after = beside(current, declared.over(current.bucket))
        return try_result(current, there(after), judge, *_cost(session, current, after))
    alike = [view for view in session.views if view.bucket.name == declared.name]
    match = next((view for view in alike if declared.store in ("", view.dossier.store)), None)
    if match is not None:
        after = beside(match, declared.whole())
        return try_result(match, there(after), judge, *_cost(session, match, after))
    store = declared.store or session.survey.dossiers[0].store
    neighbour = next((view for view in session.views if view.dossier.store == store), None)
    if neighbour is not None:
        return try_result(None, there(beside(neighbour, declared.whole())), judge)
    return try_result(None, there(alone(store, declared.whole(), session.when, session.place.estate())), judge)


def _cost(session: OpenedSurvey, current: BucketSubject, after: BucketSubject) -> tuple[RetentionCost | None, str]:
    """What another default retention would cost, and in what."""
    from rusty_lantern.cli.usage import earlier_holdings, holdings_of
    from rusty_lantern.core.usage.proposed_retention import retention_cost

    if current.bucket.lock.value == after.bucket.lock.value:
        return None, ""
    earlier = earlier_holdings(session)
    now = holdings_of(session, views=[current])[0]
    prices = session.place.prices()
    cost = retention_cost(current, after, now, earlier[1] if earlier else (), prices)
    return cost, prices.currency if prices else ""


def _code(result: TryResult, floor: Floor, *, unknown_counts: bool) -> int:
    """As audit ends: 1 for drift at or above the floor; 3 where that is unknown, if that was asked for."""
    from rusty_lantern.core.audit.audit import reaches

    if reaches(floor.value, (finding.severity for finding in result.drift or ())):
        return 1
    return 3 if unknown_counts and result.unknown else 0
