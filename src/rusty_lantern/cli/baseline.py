"""`lantern baseline`: check it, show what it asks of one subject, draft one, and test it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note, printed
from rusty_lantern.cli.session import find_view, opened, workspace

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from rusty_lantern.core.baseline.selectors import Subject

baselines = typer.Typer(no_args_is_help=True, help="Check, show, draft and test the baseline.")


def register(app: typer.Typer) -> None:
    """Enter the commands."""
    app.add_typer(baselines, name="baseline", short_help="Check, show, draft and test the baseline.")


@baselines.command("check", short_help="Is the baseline sound, and what is odd about it?")
def check(
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Read the baseline, and hold it against the latest survey, if there is one.

    Use it after every change of the baseline. It ends with 1 if something is likely a mistake. Example:
    lantern baseline check
    """
    from rusty_lantern.core.baseline.lint import check, unasked
    from rusty_lantern.reports.results.baseline import BaselineCheck
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.baseline import check_view
    from rusty_lantern.reports.terminal.layout import console

    place = workspace(workspace_folder)
    baseline = place.baseline()
    subjects, when, name = _subjects(workspace_folder, survey, as_of)
    remarks = check(baseline, subjects, when)
    result = BaselineCheck.of(baseline, remarks, unasked(baseline), name)
    if json:
        emit(encode(result))
    else:
        check_view(console(), result)
    raise typer.Exit(1 if any(remark.likely_mistake for remark in remarks) else 0)


def _subjects(named: object, survey: str | None, as_of: str | None) -> tuple[Sequence[Subject], datetime, str]:
    """Everything that was surveyed, and mirrored buckets compared; nothing where no survey is kept yet and none was
    asked for."""
    from datetime import UTC, datetime

    from rusty_lantern.archive.surveys import names
    from rusty_lantern.cli.session import mirrored_in, moment

    folder = named if isinstance(named, Path) else None
    if survey is None and not names(workspace(folder).surveys):
        return [], moment(as_of, datetime.now(UTC)), ""
    session = opened(folder, survey, as_of)
    buckets: list[Subject] = [view for store in session.stores for view in store.buckets.values()]
    others = [subject for store in session.stores for subject in store.subjects()]
    copies = mirrored_in(session.tables(), session.stores, session.place.estate())
    return [*buckets, *others, *copies], session.when, session.survey.name


@baselines.command("show", short_help="What the baseline asks of one bucket, and where.")
def show(
    bucket: Annotated[
        str, typer.Argument(help="STORE/BUCKET.", metavar="STORE/BUCKET", autocompletion=completing.buckets)
    ],
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Print the effective sheet of one bucket: every requirement in force, its origin, and what it displaced.

    Use it to see why something is required. Example: lantern baseline show harbour/permit-archive
    """
    from rusty_lantern.core.baseline.evaluation import required_of
    from rusty_lantern.core.baseline.loader import in_force
    from rusty_lantern.reports.results.baseline import EffectiveSheet
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.baseline import sheet_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of)
    view = find_view(session.views, bucket, session.survey)
    baseline = session.place.baseline()
    required = required_of(in_force(baseline, session.when), view)
    result = EffectiveSheet.of(baseline, view.title, session.when, required)
    if json:
        emit(encode(result))
    else:
        sheet_view(console(), result)


@baselines.command("draft", short_help="Write a first baseline from a survey.")
def draft(
    out: Annotated[Path | None, typer.Option(help="Write it to this new file.", show_default=False)] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
) -> None:
    """Draft a baseline: what most have in common is required, and whatever deviates is a question in a comment.

    Use it where there is no baseline yet. It holds of the survey that it was drafted from. Example:
    lantern baseline draft --out first.yaml
    """
    from rusty_lantern.core.baseline.draft import draft
    from rusty_lantern.core.errors import BadInput, Problem

    if out is not None and out.exists():
        raise BadInput(Problem(f"{out} exists already", remedy="choose another name; a draft overwrites nothing"))
    place = workspace(workspace_folder)
    subjects, _, name = _subjects(workspace_folder, survey, as_of)
    if not subjects:
        raise BadInput(Problem("no survey is saved here yet", remedy="take one with: lantern survey"))
    written = draft(subjects, f"{place.estate().name} baseline", name)
    printed(written, lambda _: None, out)
    if out is not None:
        questions = f"{written.count('# Question ')} questions to answer"
        left_out = "; read what it does not require" if "# Not required of " in written else ""
        note(f"{out}: {questions}{left_out}; then: mv {out} baseline.yaml && lantern audit")


@baselines.command("test", short_help="Run the team's own examples of its baseline.")
def test(
    file: Annotated[Path, typer.Argument(help="Examples: a bucket like this must drift on that.")],
    workspace_folder: WorkspaceOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Judge the examples of a file by the baseline, and say which do not go as they should.

    Use it before a change of the baseline is merged. It ends with 1 if one fails. Example:
    lantern baseline test examples.yaml
    """
    from datetime import UTC, datetime

    from rusty_lantern.cli.files import read_text
    from rusty_lantern.cli.session import moment
    from rusty_lantern.core.audit.proposed_bucket import alone
    from rusty_lantern.core.baseline.examples import read_examples, run
    from rusty_lantern.reports.results.baseline import ExamplesResult
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.baseline import examples_view

    place = workspace(workspace_folder)
    baseline, estate = place.baseline(), place.estate()
    when = moment(as_of, datetime.now(UTC))
    examples = read_examples(read_text(file), str(file))
    outcomes = run(baseline, [(one, alone(one.store, one.bucket, when, estate)) for one in examples], when)
    result = ExamplesResult.of(outcomes)
    printed(encode(result) + "\n" if json else None, lambda screen: examples_view(screen, result))
    raise typer.Exit(1 if result.failed else 0)
