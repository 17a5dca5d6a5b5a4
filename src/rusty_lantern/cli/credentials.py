"""`lantern credentials`: who holds which key."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import FailOnOption, end_listing, oldest_allowed, opened

if TYPE_CHECKING:
    from rusty_lantern.core.audit.store_subject import StoreSubject


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("credentials", short_help="List access keys and identities, and what each can do.")(credentials)


def credentials(
    store: Annotated[str | None, typer.Option(help="Only this store.")] = None,
    owner: Annotated[str | None, typer.Option(help="Only owners of this name; * matches anything.")] = None,
    look_in: Annotated[
        list[Path] | None,
        typer.Option(help="Also look for secrets in this file or folder; may be repeated."),
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(help="Draw the ages of all credentials into this .png, .svg or .pdf.")
    ] = None,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """List every credential with its owner, age and last use, what it opens, and what is not as required.

    Use it before people leave, and before an auditor asks. Example: lantern credentials --look-in .
    """
    from fnmatch import fnmatchcase

    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.identities import (
        CredentialsResult,
        credential_rows,
        identity_rows,
        unread_sections,
    )
    from rusty_lantern.reports.terminal.identities import credentials_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of, store)
    judge, stores = session.judge(), session.stores
    wanted = owner or "*"
    result = CredentialsResult(
        **session.about(),
        identities=[r for c in stores for r in identity_rows(c, judge) if fnmatchcase(r.name, wanted)],
        credentials=[r for c in session.stores for r in credential_rows(c, judge) if fnmatchcase(r.owner, wanted)],
        unread=unread_sections(session.stores, "identities", "credentials"),
        **(_look_in(look_in, session.stores) if look_in else {}),
    )
    if owner is not None and not (result.identities or result.credentials):
        _refuse_unknown_name(owner, session.stores)
    if json:
        emit(encode(result))
    else:
        credentials_view(console(), result)
    if figure is not None:
        import msgspec

        from rusty_lantern.reports.figures.credentials import credential_ages

        of_credentials = msgspec.structs.replace(result, unread=unread_sections(session.stores, "credentials"))
        credential_ages(of_credentials, figure, limit=oldest_allowed(judge))
    rows = [*(row.against_baseline for row in result.identities), *(row.against_baseline for row in result.credentials)]
    severities = [severity for judged in rows for severity in judged.drift.values()]
    end_listing(fail_on, [*severities, *("critical" for _ in result.found_in_files or ())], result.unread_stores)


def _refuse_unknown_name(owner: str, stores: list[StoreSubject]) -> None:
    """Raise `BadInput` for a name that no identity and no owner of a credential has."""
    from rusty_lantern.core.errors import BadInput, Problem, nearest

    known = {*(name for one in stores for name in one.index.identities_by_name)}
    known |= {key.owner for one in stores for key in one.index.dossier.credentials.value or ()}
    hint = nearest(owner, known) or "lantern credentials lists all that are known; those of some stores may not be"
    raise BadInput(Problem(f'no identity and no owner of a credential is called "{owner}"', remedy=hint))


def _look_in(places: list[Path], store_subjects: list[StoreSubject]) -> dict[str, Any]:
    """What a result says of key material in files."""
    from rusty_lantern.core.model.identity import masked
    from rusty_lantern.intake.secret_scan import secrets_in
    from rusty_lantern.reports.results.identities import LeakRow

    scan = secrets_in(places)
    rows = []
    for path, leak in scan.leaks:
        owners = [(c, c.index.credentials[leak.key_id]) for c in store_subjects if leak.key_id in c.index.credentials]
        store_subject, credential = owners[0] if owners else (None, None)
        rows.append(
            LeakRow(
                file=path,
                line=leak.line,
                what=leak.what,
                key=masked(leak.key_id) if leak.key_id else "",
                store=store_subject.index.dossier.store if store_subject else "",
                owner=credential.owner if credential else "",
                state=str(credential.state.value or "unknown") if credential else "",
            )
        )
    passed_over = {why: number for why, number in sorted(scan.passed_over.items()) if number}
    return {"found_in_files": rows, "files_looked_into": scan.files, "files_passed_over": passed_over}
