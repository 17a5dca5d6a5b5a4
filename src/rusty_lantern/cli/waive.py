"""`lantern waive`: accept a drift in writing, until a date."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import note
from rusty_lantern.cli.session import audit_saved, moment, saved_survey, workspace

if TYPE_CHECKING:
    from datetime import datetime

    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.baseline.evaluation import Finding


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("waive", short_help="Waive a drift in writing, until a date.")(waive)


def waive(
    of: Annotated[
        str,
        typer.Argument(
            help="STORE/NAME, as the audit names it.", metavar="STORE/NAME", autocompletion=completing.buckets
        ),
    ],
    fact: Annotated[str, typer.Argument(help="The fact that drifts, or is unknown.", autocompletion=completing.facts)],
    because: Annotated[str, typer.Option(help="Why it is waived.")] = "",
    by: Annotated[str, typer.Option(help="The role that accepts it.")] = "",
    until: Annotated[str, typer.Option(help="When it ends, e.g. 2027-03-31.")] = "",
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
) -> None:
    """Add a waiver to waivers.yaml: this drift, as it is now and no worse, for a reason, by a role, until a date.

    Use it for what cannot be fixed today, or cannot be read. What is missing is asked for. Example:
    lantern waive harbour/press-kit exposure.list --because "until the new site is up" --by "head of outreach"
    --until 2027-03-31
    """

    place = workspace(workspace_folder)
    baseline = place.baseline()
    taken = saved_survey(place, survey)
    when = moment(as_of, taken.manifest.taken)
    had = place.waivers()
    judged = audit_saved(place, taken, when, had)
    drift = _drift([*judged.findings, *judged.met.findings()], of, fact)
    answers = [
        _answered(words, given)
        for words, given in (("why is it waived", because), ("by which role", by), ("until when", until))
    ]
    _add(place, drift, answers, when, baseline.longest_waiver)


def _drift(findings: list[Finding], of: str, fact: str) -> Finding:
    """The drift that is to be waived. Raises `BadInput` where there is none."""
    from rusty_lantern.core.errors import BadInput, Problem, nearest
    from rusty_lantern.core.facts.registry import UnknownFact, lookup

    try:
        lookup(fact)
    except UnknownFact as error:
        raise BadInput(Problem(f'unknown fact "{fact}"', remedy=error.hint or "docs/facts.md")) from None
    mine = [j for j in findings if f"{j.store}/{j.name}" == of and j.requirement.fact == fact]
    drifted = next((j for status in ("drift", "unknown") for j in mine if j.status == status), None)
    if drifted is not None:
        return drifted
    if mine:
        why = f"it is waived already: {mine[0].reason}" if mine[0].status == "waived" else f"it is {mine[0].status}"
        raise BadInput(
            Problem(f"{fact} of {of} has no drift: {why}", remedy="only drift, and what is unknown, can be waived")
        )
    hint = nearest(of, {f"{j.store}/{j.name}" for j in findings if j.requirement.fact == fact})
    raise BadInput(Problem(f"nothing is required of {fact} on {of}", remedy=hint or "lantern audit lists the drift"))


def _answered(words: str, given: str) -> str:
    """What was given, or what the person at the terminal answers. Raises `BadInput` where nobody can be asked."""
    from rusty_lantern.core.errors import BadInput, Problem

    if given.strip():
        return given.strip()
    if not sys.stdin.isatty():
        what = f"a waiver needs an answer to: {words}?"
        raise BadInput(Problem(what, remedy="give --because, --by and --until"))
    return str(typer.prompt(f"{words}?", err=True)).strip()


def _add(place: Workspace, drift: Finding, answers: list[str], when: datetime, longest: int) -> None:
    from datetime import timedelta

    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.archive.workspace import WAIVERS
    from rusty_lantern.core.audit.waiver_file import read_waivers
    from rusty_lantern.core.audit.waivers import written
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.value_types import DURATION, InvalidValue, read_moment, show_moment

    because, by, until = answers
    try:
        end = read_moment(until)
    except InvalidValue as error:
        raise BadInput(Problem(f"--until: {error}")) from None
    if end <= when:
        raise BadInput(Problem(f"--until {until} is over already, as of {show_moment(when)}"))
    if longest and end - when > timedelta(seconds=longest):
        remedy = f"at the latest {show_moment(when + timedelta(seconds=longest))}"
        raise BadInput(Problem(f"the baseline allows waivers of {DURATION.show(longest)} at most", remedy=remedy))
    path = place.folder / WAIVERS
    before = path.read_text(encoding="utf-8-sig") if path.is_file() else "waivers:\n"
    document = before.rstrip("\n") + "\n" + written(drift, because, by, when, end)
    read_waivers(document, WAIVERS)
    write_whole(path, document.encode())
    note(f"{WAIVERS}: {drift.requirement.fact} of {drift.store}/{drift.name} is waived until {show_moment(end)}")
