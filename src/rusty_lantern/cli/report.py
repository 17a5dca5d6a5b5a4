"""`lantern report`: one page for a manager, the administrator and an auditor; and the tables that it is made of."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import note
from rusty_lantern.cli.session import (
    LOOK_BACK,
    audit_summaries,
    bytes_by_protection,
    drift_since,
    drift_starts_of,
    opened,
)

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.audit import Audit
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.baseline.evaluation import Key
    from rusty_lantern.core.remediation.remedy import Remedy
    from rusty_lantern.reports.html.page import Picture
    from rusty_lantern.reports.results.report import ReportResult

FOR = "docs/facts.md lists the facts of buckets, e.g. --for tags.steward=finance"
"""What to do where `--for` names no fact of buckets."""
MOST_COMPUTED = 200
"""For so many subjects whose exposure drifts, documents are computed; of more, only words."""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("report", short_help="Write one page for a manager, the administrator and an auditor.")(report)


def report(
    out: Annotated[Path, typer.Option(help="A new .html file, or a folder for the page and its tables.")] = Path(
        "report.html"
    ),
    extract: Annotated[
        str | None, typer.Option("--for", help="Only buckets with this fact, e.g. tags.steward=finance.")
    ] = None,
    evidence: Annotated[
        Path | None,
        typer.Option(help="Instead: a new folder for an auditor, with the stores' answers and what checks it."),
    ] = None,
    plain: Annotated[bool, typer.Option("--no-figures", help="Without figures: smaller, and quicker to make.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
) -> None:
    """Write a report as one self-contained HTML page; into a folder, also as CSV, JSON, Markdown and Parquet.

    Use it to hand on what an audit found. Nothing in the page is fetched from anywhere. With --evidence, a folder
    that a reader without lantern can follow from a requirement to the store's own words. Example:
    lantern report --out report --for tags.steward=finance
    """
    from rusty_lantern.archive.atomic_write import make_folder
    from rusty_lantern.reports.html.page import page

    session = opened(workspace_folder, survey, as_of)
    from rusty_lantern.cli.evidence import write_report

    page_alone = evidence is None and out.suffix.lower() in (".html", ".htm")
    result, views = _result(session, extract, whole=not page_alone)
    if evidence is not None:
        from rusty_lantern.cli.evidence import write_evidence

        tables = {"report.html": page(result).encode("utf-8", "backslashreplace"), **_tables(result)}
        number = write_evidence(evidence, session, result, views, tables)
        note(f"{evidence}: {number:,} files; index.html is where to begin, and python3 check.py checks them")
        return
    written = page(result, () if plain else _pictures(session, result, views)).encode("utf-8", "backslashreplace")
    if page_alone:
        write_report(session.place, out, written)
        note(f"{out}: {len(written) / 1e6:.1f} MB")
        return
    make_folder(out)
    for name, content in {"report.html": written, **_tables(result)}.items():
        write_report(session.place, out / name, content)
    note(f"{out}: report.html, and its tables as report.json, report.csv, report.md and report.parquet")


def _result(session: OpenedSurvey, extract: str | None, *, whole: bool) -> tuple[ReportResult, Sequence[BucketSubject]]:
    from rusty_lantern.archive.chain import history
    from rusty_lantern.reports.results.report import report_result

    place = session.place
    audit = session.audit()
    views: Sequence[BucketSubject] = session.views
    since = drift_starts_of(place, session.survey, audit, session.when)
    maybe: list[str] = []
    if extract is not None:
        views, maybe = _extracted(session, extract)
        audit = _audit_of(views, audit)
    kept = [one for one in history(place.surveys, verify=True) if one.name <= session.survey.name]
    result = report_result(
        session.survey, place.estate().name, session.when, place.baseline(), audit, views, since,
        _remedies(views, audit), kept,
        drift_since(place, session.survey.name, audit, named=extract is not None), extract or "", maybe, whole=whole,
    )  # fmt: skip
    return result, views


def _extracted(session: OpenedSurvey, wanted: str) -> tuple[list[BucketSubject], list[str]]:
    """The buckets whose fact has this value, and the names of buckets whose fact is unknown. Raises `BadInput`."""
    from rusty_lantern.core.baseline.finding_words import show_fact
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.core.facts.registry import UnknownFact, lookup
    from rusty_lantern.core.value_types import show_names

    fact, equals, value = wanted.partition("=")
    try:
        if not equals or lookup(fact).subject != "bucket":
            raise BadInput(Problem(f'--for "{wanted}" is no FACT=VALUE of buckets', remedy=FOR))
    except UnknownFact as error:
        raise BadInput(Problem(f'--for: unknown fact "{fact}"', remedy=error.hint or FOR)) from None
    observed = [(view, view.fact(fact)) for view in session.views]
    views = [view for view, seen in observed if show_fact(fact, seen) == value]
    if not views:
        there = sorted({show_fact(fact, seen) for _, seen in observed})
        raise BadInput(Problem(f"no bucket has {fact}={value}", remedy=f"there are: {show_names(there, 12)}"))
    return views, [view.title for view, seen in observed if seen.unread and view not in views]


def _audit_of(views: Sequence[BucketSubject], audit: Audit) -> Audit:
    """What an audit says of these buckets."""
    import msgspec

    names = {(view.store, view.name) for view in views}
    kept = [j for j in audit.findings if j.kind == "bucket" and (j.store, j.name) in names]
    scope = msgspec.structs.replace(audit.scope, buckets=views, only_buckets=True)
    met = audit.met.of(names)
    return msgspec.structs.replace(audit, findings=kept, scope=scope, met=met, buckets=len(views), waivers=[])


def _remedies(views: Sequence[BucketSubject], audit: Audit) -> list[tuple[Remedy, Sequence[Key]]]:
    from rusty_lantern.core.remediation.advice import advice
    from rusty_lantern.core.remediation.remedies import remedies
    from rusty_lantern.core.remediation.remedy import Remedy

    by = {("bucket", view.dossier.store, view.bucket.name): view for view in views}
    subjects: dict[tuple[str, str, str], list] = {}  # type: ignore[type-arg]
    for finding in audit.of("drift"):
        subjects.setdefault((finding.kind, finding.store, finding.name), []).append(finding)
    computed = sum(any(j.requirement.fact.startswith("exposure.") for j in drifted) for drifted in subjects.values())
    remedies_and_keys: list[tuple[Remedy, Sequence[Key]]] = []
    for subject, drifted in subjects.items():
        whole = remedies(by.get(subject), drifted) if computed <= MOST_COMPUTED else []
        whole = whole or [Remedy((j.requirement.fact,), j.requirement.remedy or advice(j)) for j in drifted]
        remedies_and_keys += [(one, [j.key for j in drifted if j.requirement.fact in one.facts]) for one in whole]
    return remedies_and_keys


def _pictures(session: OpenedSurvey, result: ReportResult, views: Sequence[BucketSubject]) -> list[Picture]:
    from io import BytesIO

    from rusty_lantern.reports.figures.heatmap import at_a_glance
    from rusty_lantern.reports.figures.storage import where_data_sits
    from rusty_lantern.reports.html.page import Picture
    from rusty_lantern.reports.results.of_survey import OfSurvey

    glance, tiers = BytesIO(), BytesIO()
    at_a_glance(result, glance)
    where_data_sits(views, bytes_by_protection(session), OfSurvey(**session.about()), tiers)
    words = (
        "The estate at a glance: each bucket by area: drift, unknown, waived or ok.",
        "Where data sits: bytes by store, by encryption, and by the locks that objects have.",
    )
    drawn = [Picture(svg.getvalue().decode(), caption) for svg, caption in zip((glance, tiers), words, strict=True)]
    return drawn if result.only_for else [*drawn, *_drift_so_far(session)]


def _drift_so_far(session: OpenedSurvey) -> Iterator[Picture]:
    """Drift over the surveys until this one; none where there is no earlier one."""
    from io import BytesIO

    from rusty_lantern.archive.surveys import names
    from rusty_lantern.reports.figures.drift import trend
    from rusty_lantern.reports.html.page import Picture

    place = session.place
    summaries = audit_summaries(place)
    until = [name for name in names(place.surveys) if name <= session.survey.name]
    earlier = list(summaries.before(until, LOOK_BACK))[::-1]
    if len(earlier) > 1:
        out = BytesIO()
        trend(earlier, place.baseline().title, out)
        yield Picture(out.getvalue().decode(), f"Drift over time, by severity: {len(earlier)} surveys.")


def _tables(result: ReportResult) -> dict[str, bytes]:
    from rusty_lantern.reports.formats.csv import lines
    from rusty_lantern.reports.formats.markdown import write
    from rusty_lantern.reports.formats.parquet import parquet
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.report import rows_of

    rows = rows_of(result)
    return {
        "report.json": (encode(result) + "\n").encode(),
        "report.csv": lines(rows[0] if rows else (), (row.values() for row in rows)).encode(
            "utf-8", "backslashreplace"
        ),
        "report.md": write(result.audit).encode("utf-8", "backslashreplace"),
        "report.parquet": parquet(rows),
    }
