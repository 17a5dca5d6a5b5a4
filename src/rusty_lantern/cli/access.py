"""`lantern access`: named identities, and what buckets grant them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import find_view, opened

if TYPE_CHECKING:
    from rusty_lantern.core.audit.store_subject import StoreSubject


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
    from rusty_lantern.reports.results.access import AccessResult, access_rows, name_of, own_rows, unread_rules, who_can
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.identities import unread_sections
    from rusty_lantern.reports.terminal.access import access_view
    from rusty_lantern.reports.terminal.layout import console

    if can is not None and can not in VERBS:
        raise BadInput(Problem(f'no verb "{can}"', remedy=nearest(can, VERBS) or f"one of {', '.join(VERBS)}"))
    session = opened(workspace_folder, survey, as_of)
    stores, name = session.stores, ""
    if who is not None:
        store, name = name_of(who, [one.index.dossier.store for one in stores])
        stores = [one for one in stores if store in ("", one.index.dossier.store)]
    seen = [view for store_subject in stores for view in store_subject.buckets.values()]
    chosen = list(
        {view.title: view for view in (find_view(seen, one, session.survey) for one in buckets or ())}.values()
    )
    everybody = chosen if who is None and not outside else []
    named = who is not None or bool(chosen)
    if chosen:
        seen, stores = chosen, [one for one in stores if one.name in {view.store for view in chosen}]
    own = [] if outside else [row for one in stores for row in own_rows(one, chosen, in_full=named)]
    rows = [row for view in seen for row in access_rows(view)]
    if who is not None:
        own = [row for row in own if name in (row.identity, row.resource)]
        if not own and not any(name in (row.identity, row.account) for row in rows):
            _refuse_unknown_name(name, stores)
        rows = [row for row in rows if name in (row.identity, row.account, *(row.identities or ()))]
    if can is not None:
        own = [row for row in own if row.verbs.get(can, "closed") != "closed"]
    if can is not None:
        rows = [row for row in rows if row.verbs.get(can, "closed") != "closed"]
    if outside:
        rows = [row for row in rows if not row.inside]
    rows.sort(key=lambda row: ((False, None, True).index(row.inside), row.identity, row.store, row.bucket))
    own.sort(key=lambda row: (row.store, row.identity, -row.count))
    unread = unread_sections(stores, "identities")
    result = AccessResult(
        **session.about(named=named),
        who_can=[row for view in everybody for row in who_can(view) if can in (None, row.verb)],
        access=rows,
        identities=own,
        unread=unread,
        unread_rules=unread_rules(seen),
    )
    if json:
        emit(encode(result))
    else:
        access_view(console(), result, in_full=who is not None)


def _refuse_unknown_name(who: str, store_subjects: list[StoreSubject]) -> None:
    """Raise `BadInput` for an identity that no rule names and no store knows."""
    from rusty_lantern.core.errors import BadInput, Problem, nearest

    known = {name for store_subject in store_subjects for name in store_subject.index.identities_by_name}
    if who not in known:
        hint = nearest(who, known) or "lantern access lists everybody; identities of some stores may not have been read"
        raise BadInput(Problem(f'nobody called "{who}" is named in a rule or known to a store', remedy=hint))
