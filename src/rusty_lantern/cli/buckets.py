"""`lantern buckets`: what there is."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import opened


class Order(StrEnum):
    """By what buckets are sorted."""

    name = "name"
    created = "created"
    objects = "objects"
    bytes = "bytes"
    exposure = "exposure"


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("buckets", short_help="List the buckets.")(buckets)


def buckets(
    names: Annotated[list[str] | None, typer.Argument(help="STORE/BUCKET patterns, e.g. 'harbour/gallery-*'.")] = None,
    sort: Annotated[
        Order, typer.Option(help="Order of the lines; amounts and exposure have the most first.")
    ] = Order.name,
    exposed: Annotated[bool, typer.Option("--exposed", help="Only buckets with something that is not closed.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """List buckets: place, age, size, exposure, versioning, encryption, lock, steward.

    Use it to see what there is. Example: lantern buckets --sort bytes
    """
    from fnmatch import fnmatchcase

    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.results.buckets import BucketRow, bucket_row, buckets_result
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.buckets import buckets_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of)
    rows = [bucket_row(view) for view in session.views]
    for pattern in names or []:
        if not any(fnmatchcase(f"{row.store}/{row.bucket}", pattern) for row in rows):
            raise BadInput(Problem(f'no bucket fits "{pattern}"', remedy="patterns are STORE/BUCKET, with * and ?"))
    if names:
        rows = [row for row in rows if any(fnmatchcase(f"{row.store}/{row.bucket}", p) for p in names)]
    if exposed:
        rows = [row for row in rows if row.exposure]

    def weight(row: BucketRow) -> tuple[float, str]:
        if sort is Order.created:
            return 0.0, f"{row.created} {row.bucket}"
        if sort is Order.exposure:
            levels = list(row.exposure.values())
            return -(
                100.0 * levels.count("open") + 10 * levels.count("unknown") + levels.count("restricted")
            ), row.bucket
        value = getattr(row, sort.value, 0)
        return (-float(value) if isinstance(value, int) else 0.0), row.bucket

    rows.sort(key=weight)
    result = buckets_result(rows, **session.about(named=bool(names)))
    if json:
        emit(encode(result))
    else:
        buckets_view(console(), result)
