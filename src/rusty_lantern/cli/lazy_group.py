"""Commands that are imported when one of them is asked for, so that each starts as quickly as if it were alone."""

from __future__ import annotations

from collections.abc import Iterator, MutableMapping
from importlib import import_module
from keyword import iskeyword
from typing import Any

import click
import typer
from typer.core import TyperGroup
from typer.main import get_group

from rusty_lantern.cli.counting import COMMANDS as COUNTING
from rusty_lantern.cli.counting import options

GROUPS = {
    "Set up": ("init", "reach", "demo"),
    "Survey": ("survey", "buckets", "show", "history"),
    "Audit and fix": ("audit", "remedy", "try", "waive", "baseline", "changes", "report", "figure"),
    "Access": ("exposure", "why", "access"),
    "Data protection": ("objects", "retention", "encryption", "mirrors", "usage"),
    "Credentials and links": ("credentials", "links"),
    "Upkeep": ("dossier", "prune", "standin"),
}
"""The commands as the help groups them; each is registered by the module of its name."""
COMMANDS = tuple(name for names in GROUPS.values() for name in names)


class _Loaded(MutableMapping[str, click.Command]):
    """Name → command; its module is imported on the first look."""

    def __init__(self) -> None:
        self._known: dict[str, click.Command | None] = dict.fromkeys(COMMANDS)

    def __getitem__(self, name: str) -> click.Command:
        command = self._known[name]
        if command is None:
            alone = typer.Typer(rich_markup_mode=None, callback=lambda: None)
            import_module(f"rusty_lantern.cli.{name}{'_' if iskeyword(name) else ''}").register(alone)
            command = self._known[name] = get_group(alone).commands[name]
            if name in COUNTING:
                for part in command.commands.values() if isinstance(command, click.Group) else [command]:
                    part.params += options()
        return command

    def __setitem__(self, name: str, command: click.Command) -> None:
        self._known[name] = command

    def __delitem__(self, name: str) -> None:
        del self._known[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._known)

    def __len__(self) -> int:
        return len(self._known)


class OnDemand(TyperGroup):
    """A group of the commands above."""

    def __init__(self, **about: Any) -> None:
        super().__init__(**about)
        self.commands = _Loaded()
        self.suggest_commands = not hasattr(click.exceptions, "NoSuchCommand")  # which suggests the nearest by itself

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The commands, group by group; those of no group last."""
        grouped = {name for names in GROUPS.values() for name in names}
        others = tuple(name for name in self.commands if name not in grouped)
        for title, names in {**GROUPS, "More": others}.items():
            rows = [(name, self.commands[name].get_short_help_str(70)) for name in names if name in self.commands]
            if rows:
                with formatter.section(title):
                    formatter.write_dl(rows)
