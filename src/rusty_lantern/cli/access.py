"""`lantern access`: named identities, and what buckets grant them."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    opened,
)


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("access", short_help="Who is named in rules, and what each is granted.")(access)


def access(
    who: Annotated[str | None, typer.Option(help="Only this identity (account number, resource name, id).")] = None,
    can: Annotated[str | None, typer.Option(help="Only those who can do this verb.")] = None,
    outside: Annotated[bool, typer.Option("--outside", help="Only identities outside the trusted accounts.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """List the identities that rules name, and what each is granted on which bucket.

    Use it to see who else holds a key to the house. Example: lantern access --outside
    """
    from rusty_lantern.core.access.verbs import VERBS
    from rusty_lantern.core.errors import BadInput, Complaint, nearest
    from rusty_lantern.reports.access_results import AccessResult, access_rows
    from rusty_lantern.reports.access_views import access_view
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    if can is not None and can not in VERBS:
        raise BadInput(Complaint(f'no verb "{can}"', remedy=nearest(can, VERBS) or f"one of {', '.join(VERBS)}"))
    _, taken, when, seen = opened(workspace_folder, survey, as_of)
    rows = [row for view in seen for row in access_rows(view)]
    if who is not None:
        rows = [row for row in rows if who in (row.identity, row.account)]
    if can is not None:
        rows = [row for row in rows if row.verbs.get(can, "closed") != "closed"]
    if outside:
        rows = [row for row in rows if not row.inside]
    rows.sort(key=lambda row: (row.inside, row.identity, row.store, row.bucket))
    result = AccessResult(survey=taken.name, as_of=when, access=rows)
    if json:
        emit(encode(result))
    else:
        access_view(console(), result)
