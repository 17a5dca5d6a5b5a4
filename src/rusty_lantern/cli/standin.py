"""`lantern standin`: serve the simulated stores until stopped."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("standin", short_help="Serve the simulated stores until stopped.")(standin)


def standin(
    port: Annotated[int, typer.Option(help="Port on 127.0.0.1; 0 takes a free one.", min=0, max=65535)] = 0,
    into: Annotated[
        Path | None, typer.Option("--workspace-into", help="Also write a workspace for it here.", show_default=False)
    ] = None,
) -> None:
    """Serve the demo's stores on this machine until stopped with Ctrl-C.

    Use it to try things out by hand. Example: lantern standin --workspace-into demo-workspace
    """
    import threading

    from rusty_lantern.archive.workspace import make
    from rusty_lantern.core.errors import BadInput, Problem
    from rusty_lantern.reports.terminal.layout import console, line
    from rusty_lantern.simulator.demo.workspace_files import serve_estate, workspace_files

    screen = console()
    try:
        with serve_estate(port) as served:
            if into is not None:
                make(into, workspace_files(served.addresses))
                line(screen, f"workspace in {into}")
            for store, address in served.addresses.items():
                line(screen, (store, "bold"), f" answers at {address}/ until you press Ctrl-C")
            threading.Event().wait()
    except OSError as error:
        raise BadInput(Problem(f"cannot serve on port {port}: {error.strerror or error}")) from None
