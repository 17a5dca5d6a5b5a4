"""`lantern try`: what would be so, before anything is applied."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.files import declarations, read_text
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import printed
from rusty_lantern.cli.session import Floor, find_view, opened

if TYPE_CHECKING:
    from rusty_lantern.cli.session import Opened
    from rusty_lantern.core.audit.audit import Judge
    from rusty_lantern.core.config.declared_bucket import Declared
    from rusty_lantern.reports.results.access import TryResult


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

    Use it before a change is applied; nothing is sent anywhere. Exit codes are those of audit, so that it can stand in
    a pipeline. Example: lantern try --bucket harbour/payroll-drop --policy restricted.json
    """
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.results.access import TriesResult
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.access import tries_view

    if (declared is None) == (policy is None) or (policy is not None and bucket is None):
        remedy = "lantern try FILE, or lantern try --bucket STORE/BUCKET --policy NEW.json"
        raise BadInput(Problem("name a declared bucket, or --bucket with --policy", remedy=remedy))
    found = opened(workspace_folder, survey, as_of)
    judge = found.judge()
    if policy is not None:
        results = [_of_policy(found, judge, bucket or "", policy)]
    else:
        files = declarations(declared or Path())
        if bucket is not None and len(files) != 1:
            raise BadInput(Problem("--bucket goes with one file", remedy="lantern try FILE --bucket STORE/BUCKET"))
        results = [_of_declared(found, judge, bucket, one) for one in files]
    whole = results[0] if declared is None or declared.is_file() else TriesResult(tries=results)
    printed(encode(whole) + "\n" if json else None, lambda screen: tries_view(screen, results))
    raise typer.Exit(
        max(
            (_code(result, fail_on, unknown_counts=fail_on_unknown) for result in results),
            key=(0, 3, 1).index,
            default=0,
        )
    )


def _of_policy(found: Opened, judge: Judge | None, bucket: str, policy: Path) -> TryResult:
    from rusty_lantern.core.audit.proposed_bucket import beside, with_policy
    from rusty_lantern.reports.results.access import try_result

    current = find_view(found.views, bucket, found.survey)
    proposed = with_policy(current.bucket, read_text(policy), str(policy))
    return try_result(current, beside(current, proposed), judge)


def _of_declared(found: Opened, judge: Judge | None, bucket: str | None, declared: Declared) -> TryResult:
    """What a declared bucket comes to: over an existing one if that is named, otherwise by itself."""
    from rusty_lantern.core.audit.proposed_bucket import alone, beside
    from rusty_lantern.reports.results.access import try_result

    if bucket is not None:
        current = find_view(found.views, bucket, found.survey)
        return try_result(current, beside(current, declared.over(current.bucket)), judge)
    there = [view for view in found.views if view.bucket.name == declared.name]
    match = next((view for view in there if declared.store in ("", view.dossier.store)), None)
    if match is not None:
        return try_result(match, beside(match, declared.whole()), judge)
    store = declared.store or found.survey.dossiers[0].store
    neighbour = next((view for view in found.views if view.dossier.store == store), None)
    if neighbour is not None:
        return try_result(None, beside(neighbour, declared.whole()), judge)
    return try_result(None, alone(store, declared.whole(), found.when, found.place.estate()), judge)


def _code(result: TryResult, floor: Floor, *, unknown_counts: bool) -> int:
    """As audit ends: 1 for drift at or above the floor; 3 where that is unknown, if that was asked for."""
    from rusty_lantern.core.audit.audit import reaches

    if reaches(floor.value, (found.severity for found in result.drift or ())):
        return 1
    return 3 if unknown_counts and result.unknown else 0
