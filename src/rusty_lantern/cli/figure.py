"""`lantern figure`: one of the figures by itself."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern.cli.common import AsOfOption, SurveyOption, WorkspaceOption, judge_kept, opened, since_when


class Name(StrEnum):
    """The figures of the whole estate."""

    estate = "estate"
    exposure = "exposure"
    storage = "storage"
    drift = "drift"


class Size(StrEnum):
    """What it is drawn for."""

    slide = "slide"
    page = "page"


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("figure", short_help="A figure by itself, for a slide or a page.")(figure)


def figure(
    name: Annotated[Name, typer.Argument(help="Which.")],
    out: Annotated[Path, typer.Option(help="A .png, .svg or .pdf file.")],
    size: Annotated[Size, typer.Option(help="Drawn for a slide (1280 by 800) or for a page.")] = Size.slide,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
) -> None:
    """Draw one figure: the `estate` at a glance, `exposure` by verb, `storage` by protection, `drift` over time.

    Use it for a slide. Retention has its own (lantern retention --timeline), and so have credentials (--figure).
    Example: lantern figure estate --out estate.png
    """
    found = opened(workspace_folder, survey, as_of)
    place = found.place
    if name is Name.exposure:
        from rusty_lantern.reports.exposure_results import ExposureResult, exposure_row
        from rusty_lantern.reports.figures.exposure import open_doors

        rows = [exposure_row(view) for view in found.views]
        whole = ExposureResult(survey=found.survey.name, as_of=found.when, buckets=rows, probed=None)
        open_doors(whole, out, size.value)
    elif name is Name.storage:
        from rusty_lantern.reports.figures.tiers import where_data_sits

        where_data_sits(found.views, found.survey.name, out, size.value)
    elif name is Name.drift:
        from rusty_lantern.archive.standings import Standings
        from rusty_lantern.archive.surveys import names
        from rusty_lantern.reports.figures.trend import trend

        standings = Standings(place, lambda kept: judge_kept(place, kept))
        until = [one for one in names(place.surveys) if one <= found.survey.name]
        trend([standings.of(one) for one in until], place.baseline().title, out, size.value)
    else:
        from rusty_lantern.reports.figures.estate import at_a_glance
        from rusty_lantern.reports.report_results import report_result

        audit = judge_kept(place, found.survey, found.when)
        since = since_when(place, found.survey, audit, found.when)
        result = report_result(
            found.survey, place.estate().name, found.when, place.baseline(), audit, found.views, since, [], [], None
        )
        at_a_glance(result, out, size.value)
