"""`lantern init`: write a workspace to start from."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from rich.console import Console

ESTATE = """\
# Which stores the team answers for. Credentials are named here, never written.
estate: our estate
trusted:
  accounts: []               # account numbers that count as inside
  networks: []               # e.g. [198.51.100.0/24]
stores:
  harbour:
    reads: s3
    at: https://objects.example
    credential: {profile: audit}        # or {environment: PREFIX}, {file: PATH}, or chain
    pace: {at-once: 16, per-second: 200}
    # regions: {south: https://south.example}    buckets of other regions; with signing-place: THIS-REGION
    # proxy: http://proxy.example:3128           where nothing goes out in another way
    # ca: our-authority.pem                      where the store's certificate is of an authority of one's own
    # doors: {swift: {at: https://objects.example/swift/v1, credential: {environment: PREFIX}}}
    # All keys: docs/estate.md
"""

BASELINE = """\
# What the team requires. Sheets apply in order; a later one overrides an earlier one fact by fact.
title: our storage baseline
edition: 1
sheets:
  - sheet: every bucket
    require:
      exposure.read: {is: closed, severity: high}
      exposure.list: {is: closed, severity: high}
      exposure.write: {is: closed, severity: critical}
      exposure.delete: {is: closed, severity: critical}
      exposure.change-settings: {is: closed, severity: critical}
      exposure.bypass-retention: {is: closed, severity: critical}
      exposure.read-settings: closed
      access.outside: {is: nothing, severity: high}
      versioning: on
      encryption.at-rest: at least provider-managed
      tags.steward: present
"""


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("init", short_help="Make a workspace to start from.")(init)


def init(
    folder: Annotated[Path, typer.Argument(help="The folder to make; it may exist.")] = Path(),
    signing_key: Annotated[
        Path | None, typer.Option(help="Only make a key that surveys are signed with, outside the workspace.")
    ] = None,
) -> None:
    """Write estate.yaml, baseline.yaml and surveys/ into a folder, to start from.

    Use it once, on the first day; with --signing-key to make a key later. Example: lantern init our-estate
    """
    from rusty_lantern.archive.workspace import make
    from rusty_lantern.reports.terminal.layout import console, line, next_step

    screen = console()
    if signing_key is not None:
        _make_key(screen, signing_key)
        return
    make(folder, {"estate.yaml": (ESTATE, 0o644), "baseline.yaml": (BASELINE, 0o644)})
    line(screen, f"made estate.yaml, baseline.yaml and surveys/ in {folder}")
    next_step(screen, "lantern reach", "after naming your store and credential in estate.yaml")


def _make_key(screen: Console, path: Path) -> None:
    from rusty_lantern.archive.signing import new_key, public_path
    from rusty_lantern.reports.terminal.layout import line

    fingerprint = new_key(path)
    line(screen, f"made {path} (yours alone) and {public_path(path)} (for whoever checks), key {fingerprint}")
    line(screen, "To sign surveys with it, add to estate.yaml:")
    line(screen, f"sign: {{key: file:{path.resolve()}}}", indent=2)
