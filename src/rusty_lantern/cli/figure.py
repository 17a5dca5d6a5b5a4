"""`lantern figure`: one of the figures by itself."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from pathlib import Path
from typing import Annotated, NamedTuple

import typer

from rusty_lantern.cli.options import AsOfOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.session import (
    OpenedSurvey,
    audit_summaries,
    bytes_by_protection,
    drift_starts_of,
    oldest_allowed,
    opened,
)


class Name(StrEnum):
    """The figures of the whole estate."""

    estate = "estate"
    exposure = "exposure"
    storage = "storage"
    drift = "drift"
    retention = "retention"
    credentials = "credentials"
    holdings = "holdings"


class Size(StrEnum):
    """What it is drawn for."""

    slide = "slide"
    page = "page"


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("figure", short_help="Draw one figure for a slide or a page.")(figure)


def figure(
    name: Annotated[Name, typer.Argument(help="Which.")],
    out: Annotated[Path, typer.Option(help="A .png, .svg or .pdf file.")],
    size: Annotated[Size, typer.Option(help="Drawn for a slide (1280 by 800) or for a page.")] = Size.slide,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
) -> None:
    """Draw one figure: the `estate` at a glance, `exposure` by verb, `storage` by protection, `drift` over time, what
    `retention` keeps over the coming years, how old `credentials` are, who `holdings` are of.

    Use it for a slide. One bucket's retention: lantern retention --timeline. Example: lantern figure estate --out
    estate.png
    """
    choice = _Choice(workspace_folder, survey, as_of)
    _DRAWN[name](choice, out, size.value)


class _Choice(NamedTuple):
    workspace: Path | None
    survey: str | None
    as_of: str | None

    def opened(self) -> OpenedSurvey:
        return opened(*self)


def _estate(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.reports.figures.heatmap import at_a_glance
    from rusty_lantern.reports.results.report import report_result

    session = choice.opened()
    place = session.place
    audit = session.audit()
    since = drift_starts_of(place, session.survey, audit, session.when)
    result = report_result(
        session.survey, place.estate().name, session.when, place.baseline(), audit, session.views, since, [], [], None,
        whole=False,
    )  # fmt: skip
    at_a_glance(result, out, size)


def _exposure(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.reports.figures.exposure import open_doors
    from rusty_lantern.reports.results.exposure import exposure_result
    from rusty_lantern.reports.results.of_survey import OfSurvey

    session = choice.opened()
    open_doors(exposure_result(session.views, OfSurvey(**session.about()), None), out, size)


def _storage(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.reports.figures.storage import where_data_sits
    from rusty_lantern.reports.results.of_survey import OfSurvey

    session = choice.opened()
    where_data_sits(session.views, bytes_by_protection(session), OfSurvey(**session.about()), out, size)


def _drift(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.archive.surveys import names
    from rusty_lantern.reports.figures.drift import trend

    session = choice.opened()
    place = session.place
    summaries = audit_summaries(place)
    until = [one for one in names(place.surveys) if one <= session.survey.name]
    trend([summaries.of(one) for one in until], place.baseline().title, out, size)


def _retention(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.figures.retention import locked_bytes
    from rusty_lantern.reports.results.of_survey import OfSurvey
    from rusty_lantern.reports.terminal.layout import many

    session = choice.opened()
    seen = [view for view in session.views if view.bucket.table.value is not None]
    if not seen:
        remedy = "lantern survey --objects all looks at objects"
        raise BadInput(Problem("no bucket's objects were inspected in this survey", remedy=remedy))
    kept = session.tables().retention_summaries(seen)
    tables = [view.bucket.table.value for view in seen]
    sampled = sum(table is not None and table.inspected < table.versions for table in tables)
    untold = f", {sampled} of them by a sample" if sampled else ""
    current_alone = sum(bool(view.left_out) for view in seen)
    untold += f", {current_alone} of them without old versions" if current_alone else ""
    missing = OfSurvey(**session.about()).missing
    words = f"{many(len(session.views) - len(seen), 'bucket')} more not inspected{missing}."
    locked_bytes(f"{many(len(seen), 'bucket')}{untold}", words, kept, session.when, out, size)


def _credentials(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.reports.figures.credentials import credential_ages
    from rusty_lantern.reports.results.identities import CredentialsResult, credential_rows, unread_sections

    session = opened(*choice)
    rows = [row for store_subject in session.stores for row in credential_rows(store_subject, None)]
    unread = unread_sections(session.stores, "credentials")
    result = CredentialsResult(**session.about(), identities=[], credentials=rows, unread=unread, found_in_files=None)
    credential_ages(result, out, size, oldest_allowed(session.judge()))


def _holdings(choice: _Choice, out: Path, size: str) -> None:
    from rusty_lantern.archive.surveys import names
    from rusty_lantern.cli.usage import holdings_of
    from rusty_lantern.core.usage.holding import grouped
    from rusty_lantern.reports.figures.holdings import MOST_SURVEYS, Point, owners_over_time
    from rusty_lantern.reports.results.of_survey import OfSurvey

    session = choice.opened()
    until = [one for one in names(session.place.surveys) if one <= session.survey.name][-MOST_SURVEYS:]
    points = []
    for name in until:
        then = opened(choice.workspace, name, None)
        missing = OfSurvey(**then.about()).missing
        points.append(Point(then.survey.manifest.taken, grouped(holdings_of(then), "tags.steward"), missing))
    owners_over_time(points, out, size)


_DRAWN: dict[Name, Callable[[_Choice, Path, str], None]] = {
    Name.estate: _estate,
    Name.exposure: _exposure,
    Name.storage: _storage,
    Name.drift: _drift,
    Name.retention: _retention,
    Name.credentials: _credentials,
    Name.holdings: _holdings,
}
