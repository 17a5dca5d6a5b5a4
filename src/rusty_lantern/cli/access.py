"""`lantern access`: named identities, and what buckets grant them."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import printed
from rusty_lantern.cli.session import chosen_views, opened


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("access", short_help="Show what each identity can do on each bucket.")(access)


def access(
    buckets: Annotated[
        list[str] | None,
        typer.Argument(help="STORE/BUCKET; otherwise all.", metavar="STORE/BUCKET", autocompletion=completing.buckets),
    ] = None,
    who: Annotated[
        str | None, typer.Option(help="Only this identity (name, STORE/NAME, account number, resource name, id).")
    ] = None,
    can: Annotated[str | None, typer.Option(help="Only those who can do this verb.")] = None,
    outside: Annotated[bool, typer.Option("--outside", help="Only identities outside the trusted accounts.")] = False,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """List who may do what on which bucket: what rules grant by name, and what identities may by both sides together.

    Of buckets that are named, everybody who can use each verb comes first, unless --who or --outside asks for some.

    Use it to see who else holds a key to the house. Example: lantern access harbour/permit-archive
    """
    from rusty_lantern.core.access.policy.actions import VERBS
    from rusty_lantern.core.errors import BadInput, Problem, nearest
    from rusty_lantern.reports.results.access import AccessChoice, access_result
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.access import access_view

    if can is not None and can not in VERBS:
        raise BadInput(Problem(f'no verb "{can}"', remedy=nearest(can, VERBS) or f"one of {', '.join(VERBS)}"))
    session = opened(workspace_folder, survey, as_of)
    chosen = chosen_views(session, buckets) if buckets else []
    choice = AccessChoice(who=who, verb=can or "", outside=outside)
    result = access_result(session.about(named=who is not None or bool(chosen)), session.stores, chosen, choice)
    printed(
        encode(result) + "\n" if json else None, lambda screen: access_view(screen, result, in_full=who is not None)
    )
