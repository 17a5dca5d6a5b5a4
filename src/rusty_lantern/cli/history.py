"""`lantern history`: the saved surveys, and how drift went."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.options import JsonOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note, printed
from rusty_lantern.cli.session import audit_summaries, workspace

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from rusty_lantern.archive.chain import HistoryEntry
    from rusty_lantern.archive.signing import PublicKey
    from rusty_lantern.archive.workspace import Workspace
    from rusty_lantern.core.history.drift_history import AuditSummary


ALTERED = 4
"""How the program ends where a saved survey is not as it was written."""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("history", short_help="List saved surveys: drift over time, integrity.")(history)


def history(
    verify: Annotated[bool, typer.Option("--verify", help="Hash every file and follow the chain of surveys.")] = False,
    signer: Annotated[
        Path | None, typer.Option(help="With --verify: whose signatures count, a .public.pem.", metavar="PUBLIC.pem")
    ] = None,
    anchor: Annotated[
        bool, typer.Option("--anchor", help="Print one line to be kept outside: a ticket, a mail, a printed page.")
    ] = False,
    against: Annotated[
        str | None, typer.Option(help="With --verify: hold the archive against such a line.", metavar="LINE")
    ] = None,
    evidence: Annotated[
        Path | None,
        typer.Option(
            help="With --verify: an evidence folder or a signed report, instead of the workspace.", metavar="PATH"
        ),
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(help="Draw drift over time to this .png, .svg or .pdf.", show_default=False)
    ] = None,
    workspace_folder: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """List saved surveys, oldest first: drift by severity, what is unknown, what was public, the hash.

    Use it to see how it goes, and with --verify to see whether a saved survey was altered. All are judged by the
    present baseline. Example: lantern history --figure trend.png
    """
    from rusty_lantern.archive import chain, surveys
    from rusty_lantern.archive.signing import read_public
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.history.drift_history import drift_duration
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.surveys import HistoryResult, drift_duration_result, history_row
    from rusty_lantern.reports.terminal.history import history_view

    if (signer or against or evidence) and not verify:
        what = "--signer, --against and --evidence are for --verify"
        raise BadInput(Problem(what, remedy="lantern history --verify --signer …"))
    public = read_public(signer) if signer else None
    if evidence is not None:
        raise typer.Exit(_check_folder(evidence, public))
    place = workspace(workspace_folder)
    kept = chain.history(place.surveys, verify=verify, signer=public)
    if anchor:
        emit(chain.anchor_of(place.surveys, kept))
        return
    whole = chain.integrity(place.surveys, kept, public, against or "").wrong if verify else []
    summaries = _summaries(place, kept)
    result = HistoryResult(
        verified=verify,
        surveys=[history_row(one, summaries.get(one.name)) for one in kept],
        unfinished=surveys.unfinished(place.surveys),
        drift_duration=drift_duration_result(drift_duration(list(summaries.values()))) if summaries else None,
        integrity_errors=whole,
        signer=public.fingerprint if public else "",
        anchored=bool(against) and not whole,
    )
    if figure is not None:
        _draw(place, list(summaries.values()), figure)
    printed(encode(result) + "\n" if json else None, lambda screen: history_view(screen, result))
    raise typer.Exit(ALTERED if whole or any(one.wrong for one in kept) else 0)


def _summaries(place: Workspace, kept: Sequence[HistoryEntry]) -> Mapping[str, AuditSummary]:
    """The result of each survey's audit, by the present baseline; none where there is no baseline."""
    if not (place.folder / "baseline.yaml").is_file():
        return {}

    summaries = audit_summaries(place)
    readable = [one.name for one in kept if one.manifest is not None and not one.wrong]
    known = {name: summaries.known(name) for name in readable}
    missing = sum(one is None for one in known.values())
    if missing > 5:
        note(f"judging {missing} surveys by the present baseline; the result is saved")
    return {name: one or summaries.of(name) for name, one in known.items()}


def _draw(place: Workspace, summaries: list[AuditSummary], figure: Path) -> None:
    from rusty_lantern.reports.figures.drift import trend

    baseline = place.baseline()
    trend(summaries, f"{baseline.title}, edition {baseline.edition}" if baseline.edition else baseline.title, figure)


def _check_folder(folder: Path, signer: PublicKey | None) -> int:
    """Say what is wrong with an evidence folder; how the program ends."""
    from rusty_lantern.cli.evidence import check_evidence

    wrong = check_evidence(folder, signer)
    for words in wrong:
        emit(words)
    if not wrong:
        emit(f"{folder}: as it was written" + (f", signed by {signer.fingerprint}" if signer else ""))
    return ALTERED if wrong else 0
