"""`lantern why`: one request, decided step by step."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import completion as completing
from rusty_lantern.cli.files import read_file
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit
from rusty_lantern.cli.session import find_view, moment, opened

if TYPE_CHECKING:
    from rusty_lantern.core.access.evaluator.request_builder import RequestSpec


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("why", short_help="Evaluate one request, rule by rule.")(why)


def why(
    bucket: Annotated[
        str, typer.Argument(help="STORE/BUCKET.", metavar="STORE/BUCKET", autocompletion=completing.buckets)
    ],
    caller: Annotated[
        str,
        typer.Option(
            "--as", help="anyone, any-account, an identity of the store by name, an account number or a resource name."
        ),
    ] = "anyone",
    verb: Annotated[
        str, typer.Option(help="list, read, write, delete, change-settings, bypass-retention, read-settings.")
    ] = "read",
    action: Annotated[str, typer.Option(help="One protocol action instead of a verb, e.g. s3:PutObjectAcl.")] = "",
    key: Annotated[str, typer.Option(help="The object's key.")] = "a",
    address: Annotated[str, typer.Option("--from", help="The address that the request comes from.")] = "203.0.113.9",
    header: Annotated[
        list[str] | None, typer.Option(help="A header, as 'Referer: https://…'; may be repeated.")
    ] = None,
    carrying: Annotated[
        list[str] | None, typer.Option("--with", help="A condition key, as aws:SourceVpce=vpce-1; may be repeated.")
    ] = None,
    at: Annotated[str, typer.Option(help="When it is sent; otherwise the survey's moment.")] = "",
    requests: Annotated[Path | None, typer.Option(help="Decide every line of this JSON Lines file instead.")] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """Decide one request step by step: every rule, matched or the first part of it that did not.

    Use it to see why access is open. Example: lantern why harbour/payroll-drop --as anyone --verb read
    """
    from rusty_lantern.core.access.evaluator.request_builder import RequestSpec, read_pairs, read_request_specs
    from rusty_lantern.core.access.policy.actions import ACTIONS
    from rusty_lantern.core.audit.dialect_differences import read_otherwise
    from rusty_lantern.reports.results.copies import who_can_by_copies
    from rusty_lantern.reports.results.decisions import decision_results, encode_lines
    from rusty_lantern.reports.terminal.access import copies_lines, why_view
    from rusty_lantern.reports.terminal.exposure import read_otherwise_lines
    from rusty_lantern.reports.terminal.layout import console

    session = opened(workspace_folder, survey, as_of)
    taken, when, seen = session.survey, session.when, session.views
    view = find_view(seen, bucket, taken)
    specs: list[RequestSpec]
    if requests is not None:
        specs = read_request_specs(read_file(requests), str(requests))
    else:
        headers, carried = read_pairs(header or [], ":", "header"), read_pairs(carrying or [], "=", "condition key")
        specs = [RequestSpec(caller, verb, action, key, address, headers, carried, at)]
    results = decision_results(view, specs, lambda one: moment(one.at or None, when, "--at"))
    if json:
        emit(encode_lines(results))
    else:
        screen = console()
        for result in results:
            why_view(screen, result)
        verbs = {ACTIONS[result.request.action].verb for result in results}
        copies_lines(screen, view.title, [row for row in who_can_by_copies(view) if row.verb in verbs])
        read_otherwise_lines(screen, view.title, read_otherwise(view))
