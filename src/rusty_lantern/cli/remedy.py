"""`lantern remedy`: what would put drift right."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import printed
from rusty_lantern.cli.session import opened

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.baseline.evaluation import Finding, Status
    from rusty_lantern.core.remediation.remedy import Remedy
    from rusty_lantern.reports.results.remediation import RemedyResult, RemedyRow


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("remedy", short_help="Show what puts drift right, with the document to apply.")(remedy)


def remedy(
    where: Annotated[
        str | None,
        typer.Argument(
            help="STORE/BUCKET; otherwise everything that drifts.",
            metavar="[STORE/BUCKET]",
            autocompletion=completing.buckets,
        ),
    ] = None,
    out: Annotated[
        Path | None, typer.Option(help="Write the documents into this folder, one file each.", show_default=False)
    ] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Say what would put drift right; for a bucket that is too open, compute the policy and decide it again.

    Use it after an audit. It applies nothing; hand the documents to whoever may. Example:
    lantern remedy harbour/payroll-drop
    """
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.remediation import remedy_view

    session = opened(workspace_folder, survey, as_of)
    result = _remedies(session, where)
    if out is not None:
        _write(out, result.remedies)
    printed(encode(result) + "\n" if json else None, lambda s: remedy_view(s, result, out, whole=where is not None))


def _remedies(session: OpenedSurvey, where: str | None) -> RemedyResult:
    from collections import Counter

    from rusty_lantern.cli.session import find_view
    from rusty_lantern.core.remediation.remedies import remedies
    from rusty_lantern.reports.results.remediation import RemedyResult, remedy_row

    audit = session.audit()
    views = {("bucket", view.dossier.store, view.bucket.name): view for view in session.views}
    only = find_view(session.views, where, session.survey).title if where else None
    subjects: dict[tuple[str, str, str], list] = {}  # type: ignore[type-arg]
    counts: Counter[Status] = Counter()
    for finding in audit.findings:
        if only in (None, f"{finding.store}/{finding.name}") and (not only or finding.kind == "bucket"):
            counts[finding.status] += 1
            if finding.status == "drift":
                subjects.setdefault((finding.kind, finding.store, finding.name), []).append(finding)
    rows = [
        remedy_row(store, kind, name, _severity(drifted, one), one)
        for (kind, store, name), drifted in subjects.items()
        for one in remedies(views.get((kind, store, name)), drifted)
    ]
    about = session.about(named=where is not None)
    return RemedyResult(**about, remedies=rows, unknown=counts["unknown"], waived=counts["waived"])


def _severity(drifted: Sequence[Finding], remedy: Remedy) -> str:
    """That of the worst drift which a remedy is for. `drifted`: all of the subject's, the worst first."""
    return next(one.requirement.severity for one in drifted if one.requirement.fact in remedy.facts)


def _write(folder: Path, rows: list[RemedyRow]) -> None:
    """Write every document. Raises `BadInput` before anything is written if one is there already."""
    from rusty_lantern.archive.atomic_write import make_folder, write_whole
    from rusty_lantern.core.errors import BadInput, Problem

    documents = {folder / d.file: d.text for row in rows for d in row.documents if d.text}
    taken = next((path for path in documents if path.exists()), None)
    if taken is not None:
        raise BadInput(Problem(f"{taken} exists already", remedy="nothing was written; choose another folder"))
    make_folder(folder)
    for path, text in documents.items():
        write_whole(path, text.encode())
