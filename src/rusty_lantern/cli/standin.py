"""`lantern standin`: serve the simulated stores until stopped."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("standin", short_help="Serve the simulated store until stopped.")(standin)


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
    from rusty_lantern.core.errors import BadInput, Complaint
    from rusty_lantern.reports.terminal import console, line
    from rusty_lantern.standin import saltmarsh
    from rusty_lantern.standin.running import serve
    from rusty_lantern.standin.server import Standin

    screen = console()
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)
    try:
        with serve(store.application(), port) as address:
            if into is not None:
                make(into, saltmarsh.workspace_files(address))
                line(screen, f"workspace in {into}")
            line(screen, ("harbour", "bold"), f" answers at {address}/ until you press Ctrl-C")
            threading.Event().wait()
    except OSError as error:
        raise BadInput(Complaint(f"cannot serve on port {port}: {error.strerror or error}")) from None
