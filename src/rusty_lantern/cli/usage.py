"""`lantern usage`: how much is kept, by whom, how it grows, and what that costs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import opened

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.bucket_subject import BucketSubject
    from rusty_lantern.core.usage.holding import Holding
    from rusty_lantern.reports.results.usage import UsageResult

_BY = ("store", "bucket", "tier", "tenant")


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("usage", short_help="Show how much is kept, and what it costs.")(usage)


def usage(
    by: Annotated[
        str, typer.Option(help="Group by store, bucket, tier, tenant, or a tag: tags.steward.", metavar="WHAT")
    ] = "store",
    out: Annotated[Path | None, typer.Option(help="Write the rows into this .csv or .parquet file.")] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show bytes of current and old versions, unfinished uploads, what is locked until when, growth, and quotas.

    Use it before buying space or promising to free some. With a prices.yaml in the workspace, also what it costs.
    Example: lantern usage --by tags.steward
    """
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.usage import usage_result
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.usage import usage_view

    _check(by)
    session = opened(workspace_folder, survey, as_of)
    prices = session.place.prices()
    held = holdings_of(session, prices.periods if prices else ())
    result = usage_result(by, held, earlier_holdings(session), prices, **session.about())
    if out is not None:
        _write(result, out)
    if json:
        emit(encode(result))
    else:
        usage_view(console(), result)


def _check(by: str) -> None:
    from rusty_lantern.core.errors import BadInput, Problem, nearest

    if by not in _BY and not (by.startswith("tags.") and len(by) > len("tags.")):
        hint = nearest(by, _BY) or f"one of {', '.join(_BY)}, or a tag: tags.steward"
        raise BadInput(Problem(f'--by cannot be "{by}"', remedy=hint))


def holdings_of(
    session: OpenedSurvey, periods: Sequence[int] = (), views: Sequence[BucketSubject] | None = None
) -> list[Holding]:
    """What every bucket holds, by its dossier and, where all of its versions were listed, by its table. `periods`: the
    shortest billed ones."""
    from rusty_lantern.core.usage.holding import holding

    views = session.views if views is None else views
    seen = [view for view in views if view.bucket.table.value is not None and not view.left_out]
    counted = {view.title: counts for view, counts in zip(seen, session.tables().by_tier(seen, periods), strict=True)}
    made = []
    for view in views:
        counts = counted.get(view.title)
        made.append(
            holding(view, counts.kinds, counts.locked, counts.expiring, counts.written_lately)
            if counts
            else holding(view)
        )
    return made


def earlier_holdings(session: OpenedSurvey) -> tuple[str, list[Holding]] | None:
    """The survey that growth is measured from, and what buckets held then; None without one."""
    from rusty_lantern.archive.earlier import earliest
    from rusty_lantern.core.audit.store_subject import views
    from rusty_lantern.core.usage.holding import growth_floor, holding

    taken = session.survey.manifest.taken
    then = earliest(session.place.surveys, growth_floor(taken), taken)
    if then is None:
        return None
    return then.name, [holding(view) for view in views(then.dossiers, session.place.estate(), then.manifest.taken)]


_KINDS = {"name": "text", "missing": "text"} | dict.fromkeys(
    ("oldest_upload", "locked_until", "growth_since"), "moment"
)
_MONEY = (
    "cost_month", "cost_old_versions_month", "cost_unfinished_uploads_month", "cost_locked_until_free", "cost_restore",
    "cost_early_deletion",
)  # fmt: skip


def _write(result: UsageResult, out: Path) -> None:
    """The rows as a table of their own. Raises `BadInput` for another ending."""
    import msgspec

    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.core.errors import BadInput, Place, Problem
    from rusty_lantern.reports.formats.csv import lines
    from rusty_lantern.reports.formats.parquet import typed_parquet

    rows = []
    for row in [*result.rows, result.total]:
        flat = {k: v for k, v in msgspec.structs.asdict(row).items() if k not in ("cost", "missing")}
        costs = msgspec.structs.asdict(row.cost) if row.cost else {}
        missing = " ".join(f"{name}:{number}" for name, number in row.missing.items())
        rows.append({**flat, **{f"cost_{name}": value for name, value in costs.items()}, "missing": missing})
    if out.suffix == ".csv":
        write_whole(out, lines(rows[0], (row.values() for row in rows)).encode("utf-8", "backslashreplace"))
    elif out.suffix == ".parquet":
        kinds = {name: _KINDS.get(name, "amount" if name in _MONEY else "whole") for name in rows[0]}
        write_whole(out, typed_parquet(rows, kinds))
    else:
        raise BadInput(Problem("a table ends in .csv or .parquet", Place(str(out))))
    note(f"{out}: {len(rows)} rows")
