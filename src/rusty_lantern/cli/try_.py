"""`lantern try`: what would be so, before anything is applied."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern.cli.common import (
    AsOfOption,
    JsonOption,
    SurveyOption,
    WorkspaceOption,
    emit,
    find_view,
    opened,
    read_text,
)


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("try", short_help="What a change would do, before it is applied.")(try_)


def try_(
    declared: Annotated[
        Path | None, typer.Argument(help="A bucket in dossier form, YAML or JSON.", metavar="[FILE]")
    ] = None,
    bucket: Annotated[str | None, typer.Option(help="An existing STORE/BUCKET, to compare with.")] = None,
    policy: Annotated[Path | None, typer.Option(help="A new policy for --bucket.")] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Decide a bucket that does not exist yet, or a changed policy: who would gain or lose access.

    Use it before a change is applied; nothing is sent anywhere.
    Example: lantern try --bucket harbour/payroll-drop --policy fenced.json
    """
    from rusty_lantern.core.assess import BucketView
    from rusty_lantern.core.declared import read_declared, with_policy
    from rusty_lantern.core.errors import BadInput, Complaint
    from rusty_lantern.reports.access_results import try_result
    from rusty_lantern.reports.access_views import try_view
    from rusty_lantern.reports.results import encode
    from rusty_lantern.reports.terminal import console

    if (declared is None) == (policy is None) or (policy is not None and bucket is None):
        remedy = "lantern try FILE, or lantern try --bucket STORE/BUCKET --policy NEW.json"
        raise BadInput(Complaint("name a declared bucket, or --bucket with --policy", remedy=remedy))
    _, taken, when, seen = opened(workspace_folder, survey, as_of)
    current = find_view(seen, bucket, taken) if bucket else None
    if policy is not None:
        assert current is not None
        proposed = with_policy(current.bucket, read_text(policy), str(policy))
    else:
        assert declared is not None
        proposed = read_declared(read_text(declared), str(declared))
        current = current or next((view for view in seen if view.bucket.name == proposed.name), None)
    dossier = current.dossier if current else taken.dossiers[0]
    after = BucketView(proposed, dossier, when, None, current.trusted_accounts if current else frozenset())
    result = try_result(current, after)
    if json:
        emit(encode(result))
    else:
        try_view(console(), result)
