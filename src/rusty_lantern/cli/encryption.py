"""`lantern encryption`: what protects data at rest."""

from __future__ import annotations

from typing import Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    opened_stores,
)


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("encryption", short_help="Which key protects what, and what hangs on it.")(encryption)


def encryption(
    store: Annotated[str | None, typer.Option(help="Only this store.")] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Show every encryption key with its state and the buckets that hang on it, and what protects each bucket.

    Use it before a key is disabled or rotated, and after. Example: lantern encryption
    """
    from rusty_lantern.reports.holder_results import EncryptionResult, key_rows, protection_rows, unread_sections
    from rusty_lantern.reports.holder_views import encryption_view
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    found = opened_stores(workspace_folder, survey, as_of, store)
    cascade = found.cascade()
    result = EncryptionResult(
        survey=found.survey.name,
        as_of=found.when,
        keys=[row for circle in found.circles for row in key_rows(circle, cascade)],
        buckets=[row for circle in found.circles for row in protection_rows(circle, found.under(circle))],
        unread=unread_sections(found.circles, "encryption_keys"),
    )
    if json:
        emit(encode(result))
    else:
        encryption_view(console(), result)
