"""The program: its commands, and how it ends."""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from rusty_lantern import __version__
from rusty_lantern.cli.lazy_group import OnDemand

EXIT_CODES = {
    0: "done; nothing reached the floor that was given",
    1: "drift at or above the floor (--fail-on; audit and try: any drift, unless they are given one), "
    "or an example of the baseline failed",
    2: "bad input or usage; nothing was changed",
    3: "a store could not be read (listings: with --fail-on), or a survey was not finished; "
    "with --fail-on-unknown, something is unknown; with --max-age, the survey is older",
    4: "a saved survey was altered (history)",
    70: "a defect of lantern itself",
    130: "interrupted; nothing that was saved is touched",
}
"""Exit code → what it means. Listings end with 0 unless --fail-on is given."""
_CODES = "Exit codes: " + "; ".join(f"{code} {meaning}" for code, meaning in EXIT_CODES.items()) + "."

_OUTPUT_FAILS = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO)
"""What a full or broken disk answers to a write. Where it is a file that we opened, the error names that."""

app = typer.Typer(
    name="lantern",
    cls=OnDemand,
    help="Who has access to which bucket, and what drifts from the baseline. It only ever reads.\n\n" + _CODES,
    invoke_without_command=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    rich_markup_mode=None,
)


def _version(wanted: bool) -> None:
    if wanted:
        sys.stdout.write(f"rusty-lantern {__version__}\n")
        raise typer.Exit


@app.callback()
def lantern(
    context: typer.Context,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and stop.")
    ] = False,
    as_of: Annotated[
        str | None, typer.Option(help="Without a command: the moment that counts as now.", show_default=False)
    ] = None,
) -> None:
    """Say where one is, where no command is given."""
    if context.invoked_subcommand is None:
        from rusty_lantern.cli.status import show_status

        show_status(as_of)


def main(words: Sequence[str] | None = None) -> None:
    """Run the program on the words of a command line, its own by default. Every expected error becomes a message and a
    documented exit code."""
    from rusty_lantern.core.errors import LanternError

    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # whoever started the program closed it
            setattr(sys, name, Path(os.devnull).open("w"))  # noqa: SIM115  # until the program ends
    try:
        try:
            app(words, prog_name="lantern" if words is not None else None)
        finally:
            sys.stdout.flush()
    except LanternError as error:
        from rusty_lantern.reports.escape import safe

        for complaint in error.complaints:
            for number, text in enumerate(str(complaint).splitlines()):
                sys.stderr.write(("lantern: " if not number else "") + safe(text) + "\n")
        raise SystemExit(error.exit_code) from None
    except KeyboardInterrupt:
        sys.stderr.write("lantern: interrupted; nothing that was saved is touched\n")
        raise SystemExit(130) from None
    except BrokenPipeError:
        _write_no_more()
        raise SystemExit(0) from None
    except Exception as error:  # a defect of ours: say so plainly, and how to see more
        if isinstance(error, OSError) and error.filename is None and error.errno in _OUTPUT_FAILS:
            _write_no_more()
            sys.stderr.write(f"lantern: the output cannot be written: {error.strerror}\n")
            raise SystemExit(2) from None
        if os.environ.get("LANTERN_TRACE"):
            raise
        sys.stderr.write(
            f"lantern: a defect of lantern itself ({type(error).__name__}); nothing that was saved is touched.\n"
        )
        sys.stderr.write("  LANTERN_TRACE=1 shows where; please report it\n")
        raise SystemExit(70) from None


def _write_no_more() -> None:
    """Let what is still to be written to the output go nowhere, so that Python does not try again as it ends."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
