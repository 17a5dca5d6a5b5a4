"""`lantern dossier`: check, export, and make dossiers."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern.cli.files import read_file
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note

dossiers = typer.Typer(
    no_args_is_help=True, help="Check a dossier, export one from a survey, make one from CSV or JSON."
)


def register(app: typer.Typer) -> None:
    """Enter the commands."""
    app.add_typer(dossiers, name="dossier", short_help="Check, export and make dossiers.")


@dossiers.command("check", short_help="Check a dossier before it is used.")
def check(
    file: Annotated[Path, typer.Argument(help="A dossier, as JSON.", metavar="FILE")],
    json: JsonOption = False,
) -> None:
    """Check a dossier: its shape, what it refers to, where it contradicts itself, and that it holds no secret.

    Use it on what a store's owner sends, before it goes into the estate. Example: lantern dossier check undercroft.json
    """
    from rusty_lantern.core.config.dossier_validation import check as faults_in
    from rusty_lantern.reports.results.dossier import CheckResult
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.terminal.dossier import check_view
    from rusty_lantern.reports.terminal.layout import console

    faults, dossier = faults_in(read_file(file), str(file))
    result = CheckResult.of(str(file), faults, dossier)
    if json:
        emit(encode(result))
    else:
        check_view(console(), result)
    raise typer.Exit(2 if any(fault.fatal for fault in faults) else 0)


@dossiers.command("export", short_help="What a survey found of a store, as a dossier.")
def export(
    store: Annotated[str, typer.Argument(help="The store.")],
    out: Annotated[Path | None, typer.Option(help="Write it into this file.")] = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
) -> None:
    """Export what a survey found of a store, as a dossier that can be read again.

    Use it to hand a store's state to somebody who has no access to it. Example: lantern dossier export harbour
    """
    import msgspec

    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.cli.session import opened
    from rusty_lantern.core.answer import Answer, unread
    from rusty_lantern.core.model.bucket_contents import Table
    from rusty_lantern.core.model.dossier import encode

    session = opened(workspace_folder, survey, None, store)
    dossier = next(d for d in session.survey.dossiers if d.store == store)
    gone: Answer[Table] = unread("a dossier holds no version tables")
    buckets = [msgspec.structs.replace(bucket, table=gone) for bucket in dossier.buckets]
    document = encode(msgspec.structs.replace(dossier, buckets=buckets, tag=""))
    if out is None:
        emit(document.decode().rstrip("\n"))
    else:
        write_whole(out, document)
        note(f"written: {out}")


@dossiers.command("from-csv", short_help="Make a dossier from a console's flat export.")
def from_csv(
    file: Annotated[Path, typer.Argument(help="The CSV file.", metavar="FILE")],
    columns: Annotated[Path, typer.Option(help="Which of its columns is which, as YAML.")],
    store: Annotated[str, typer.Option(help="The name of the store.")],
    onto: Annotated[Path | None, typer.Option(help="A dossier to add to, instead of a new one.")] = None,
    out: Annotated[Path | None, typer.Option(help="Write it into this file.")] = None,
    as_of: AsOfOption = None,
) -> None:
    """Make a dossier from the flat usage and credential exports that consoles offer.

    Use it where a console offers nothing better. Columns that nothing maps are named, never guessed. Example:
    lantern dossier from-csv usage.csv --columns usage-columns.yaml --store depot --as-of 2026-11-02
    """
    from datetime import UTC, datetime

    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.cli.session import moment
    from rusty_lantern.core.config.csv_import import join_rows, read_layout, read_rows
    from rusty_lantern.core.config.dossier_validation import load_untrusted
    from rusty_lantern.core.model.dossier import Dossier, encode

    layout = read_layout(read_file(columns).decode("utf-8-sig", "replace"), str(columns))
    taken = moment(as_of, datetime.now(UTC)).replace(microsecond=0)
    base = load_untrusted(read_file(onto), str(onto)) if onto else Dossier(store=store, taken=taken)
    imported = read_rows(read_file(file), str(file), layout)
    document = encode(join_rows(base, layout, imported))
    for heading in imported.unmapped:
        note(f'{file}: nothing maps the column "{heading}"; name it under columns: or under leave-out:')
    if out is None:
        emit(document.decode().rstrip("\n"))
    else:
        write_whole(out, document)
        note(f"written: {out} ({len(imported.entries):,} rows)")


@dossiers.command("from-json", short_help="A dossier from JSON documents that a console exported.")
def from_json(
    files: Annotated[list[Path], typer.Argument(help="Files, folders or patterns.", metavar="FILE…")],
    layout: Annotated[str, typer.Option(help="A layout by name, or a layout file: which document tells what.")],
    store: Annotated[str, typer.Option(help="The name of the store.")],
    out: Annotated[Path | None, typer.Option(help="Write it into this file.")] = None,
    as_of: AsOfOption = None,
) -> None:
    """Make a dossier from JSON documents, JSON Lines or a folder of them, by a layout file.

    Use it for a store that speaks no open protocol. Places that no layout maps are named, never guessed. Example:
    lantern dossier from-json exports/boathouse --layout visibility --store boathouse --out boathouse.json
    """
    from datetime import UTC, datetime

    from rusty_lantern.archive.atomic_write import write_whole
    from rusty_lantern.cli.session import moment
    from rusty_lantern.core.model.dossier import encode
    from rusty_lantern.core.value_types import show_names
    from rusty_lantern.intake.exported import assembled

    taken = moment(as_of, datetime.now(UTC)).replace(microsecond=0)
    export, _ = assembled(Path(), [str(file) for file in files], layout, store, taken)
    document = encode(export.dossier)
    for lost in export.unmatched:
        note(f"missing: {lost}")
    for name, places in export.unmapped.items():
        note(f"{name}: nothing maps {show_names(places, MOST_PLACES)}; name it under fields: or under leave-out:")
    if out is None:
        emit(document.decode().rstrip("\n"))
    else:
        write_whole(out, document)
        note(f"written: {out} ({export.rows:,} rows)")


MOST_PLACES = 12
"""How many places of a document are named that nothing maps."""


@dossiers.command("layouts", short_help="The layouts for exported JSON documents.")
def layouts(
    name: Annotated[
        str | None, typer.Argument(help="Show this layout whole, to copy and change.", metavar="NAME")
    ] = None,
) -> None:
    """List the layouts that come with the program, or print one.

    Use it to see whether one fits an export, or to start your own from it. Example: lantern dossier layouts visibility
    """
    from rusty_lantern.core.errors import BadInput, Problem, nearest
    from rusty_lantern.core.exports.layout import read_layout
    from rusty_lantern.intake.exported import shipped_layouts

    shipped = shipped_layouts()
    if name is None:
        width = max(map(len, shipped))
        for one, text in shipped.items():
            emit(f"{one:<{width}}  {read_layout(text, one).says}")
        return
    if name not in shipped:
        raise BadInput(Problem(f'no layout "{name}"', remedy=nearest(name, shipped) or f"one of {', '.join(shipped)}"))
    emit(shipped[name].rstrip("\n"))
