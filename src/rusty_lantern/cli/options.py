"""Options that commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern.cli import completion as completing

WorkspaceOption = Annotated[
    Path | None,
    typer.Option(
        "--workspace",
        "-w",
        help="The workspace folder; default: the nearest parent folder with estate.yaml.",
        show_default=False,
    ),
]


JsonOption = Annotated[bool, typer.Option("--json", help="Print the result as JSON (see docs/json.md).")]


SurveyOption = Annotated[
    str | None,
    typer.Option(
        "--survey",
        help="A saved survey (unique prefix); default: the latest.",
        show_default=False,
        autocompletion=completing.surveys,
    ),
]


AsOfOption = Annotated[
    str | None,
    typer.Option(
        "--as-of",
        help="Evaluate as of this time, e.g. 2026-11-02T06:00:00Z; default: the survey's.",
        show_default=False,
    ),
]
