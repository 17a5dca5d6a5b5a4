"""`lantern encryption`: what protects data at rest."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import FailOnOption, end_listing, opened


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("encryption", short_help="List encryption keys, and what depends on them.")(encryption)


def encryption(
    store: Annotated[str | None, typer.Option(help="Only this store.")] = None,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show every encryption key with its state and the buckets that hang on it, and what protects each bucket.

    Use it before a key is disabled or rotated, and after. Example: lantern encryption
    """
    from rusty_lantern.reports.results.encryption import EncryptionResult, key_rows, protection_rows
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.identities import unread_sections
    from rusty_lantern.reports.terminal.encryption import encryption_view
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of, store)
    judge = session.judge()
    result = EncryptionResult(
        **session.about(),
        keys=[row for store_subject in session.stores for row in key_rows(store_subject, judge)],
        buckets=[
            row
            for store_subject in session.stores
            for row in protection_rows(store_subject, session.under(store_subject))
        ],
        unread=unread_sections(session.stores, "encryption_keys"),
    )
    if json:
        emit(encode(result))
    else:
        encryption_view(console(), result)
    severities = [severity for row in result.keys for severity in row.against_baseline.drift.values()]
    views = (
        [view for store_subject in session.stores for view in store_subject.buckets.values()]
        if judge and fail_on
        else []
    )
    narrow = judge.about("encryption.") if judge else None
    judged = [j for view in views for j in narrow.findings(view)] if narrow else []
    about = [j for j in judged if j.status == "drift" and j.requirement.fact.startswith("encryption.")]
    end_listing(fail_on, [*severities, *(j.requirement.severity for j in about)], result.unread_stores)
