"""`lantern demo`: the whole example, from the stand-in store to the audit."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

INTERRUPTED = 130
AS_OF = "2026-11-02T06:00:00Z"
EARLIER = "2026-10-02T06:00:00Z"
BEFORE: tuple[tuple[str, ...], ...] = (("reach", "--as-of", EARLIER), ("survey", "--as-of", EARLIER))
"""The commands of a first day, a month earlier."""
STEPS: tuple[tuple[str, ...], ...] = (
    ("survey", "--as-of", AS_OF),
    ("buckets",),
    ("audit",),
    ("remedy", "harbour/payroll-drop"),
    ("changes", "--events", "events.jsonl"),
    ("show", "harbour/press-kit", "--required"),
    ("exposure", "harbour/payroll-drop"),
    ("retention", "harbour/permit-archive"),
    ("credentials",),
    ("encryption",),
    ("links",),
    ("mirrors",),
    ("history",),
)
"""The commands of the demo, as the user would type them."""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("demo", short_help="Run the whole example.")(demo)


def demo(
    folder: Annotated[Path, typer.Argument(help="The workspace to make.")] = Path("demo-workspace"),
) -> None:
    """Run the whole example: stand-in stores, a workspace, and the commands of a first day.

    Use it to see what lantern does. The workspace stays; lantern audit works there without the store.
    Example: lantern demo
    """
    import sys
    from contextlib import chdir

    from rusty_lantern.archive.workspace import make
    from rusty_lantern.cli.app import main
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.terminal.layout import console, line
    from rusty_lantern.simulator.demo.workspace_files import serve_estate, workspace_files

    screen = console()
    with serve_estate() as served:
        make(folder, workspace_files(served.addresses))
        line(screen, "The Saltmarsh Trust, a made-up nature charity, and its stores ", ("harbour", "bold"), ", ",
             ("skerry", "bold"), ", ", ("lagoon", "bold"), ", ", ("cove", "bold"), ", ", ("attic", "bold"), ", ",
             ("undercroft", "bold"), ", ", ("slipway", "bold"), ", ", ("boathouse", "bold"), " and ",
             ("dunes", "bold"))  # fmt: skip
        line(screen, (f"workspace {folder}, stand-in stores at {', '.join(served.addresses.values())}", "dim"))

        def run(step: tuple[str, ...]) -> None:
            screen.print()
            line(screen, ("$ ", "dim"), ("lantern " + " ".join(step), "bold cyan"))
            sys.stdout.flush()
            code = 0
            with chdir(folder):
                try:
                    main(step)
                except SystemExit as ended:
                    code = int(ended.code or 0)
            if code == INTERRUPTED:
                raise typer.Exit(code)
            if code not in (0, 1, 3):
                raise BadInput(Problem(f"lantern {step[0]} ended with {code}"))
            if code:
                line(screen, (f"(exit code {code})", "dim"))

        served.go_back(folder)
        for step in BEFORE:
            run(step)
        screen.print()
        line(screen, ("A month later.", "bold"))
        served.come_back(folder)
        for step in STEPS:
            run(step)
    screen.print()
    line(screen, ("The stores are gone now; the workspace stays. Try: ", ""), (f"cd {folder} && lantern audit", "bold"))
