"""Writes the manual page from the commands themselves: `python -m rusty_lantern.cli.manpage > docs/lantern.1`."""

from __future__ import annotations

import sys
from collections.abc import Iterator

import click
import typer

from rusty_lantern import __version__
from rusty_lantern.cli.app import EXIT_CODES, app


def manual() -> str:
    """The page in the man macros. The same code gives the same text."""
    root = typer.main.get_command(app)
    lines = [
        f'.TH LANTERN 1 "" "rusty-lantern {__version__}" "User Commands"',
        ".SH NAME",
        r"lantern \- who has access to which bucket, and what drifts from the baseline",
        ".SH SYNOPSIS",
        r".B lantern",
        r"[\fICOMMAND\fR] [\fIOPTIONS\fR] [\fIARGUMENTS\fR]",
        ".SH DESCRIPTION",
        *_text((root.help or "").partition("Exit codes")[0]),
        ".SH COMMANDS",
    ]
    for name, command in _commands(root, ""):
        lines += _command(name, command)
    lines.append(".SH EXIT STATUS")
    for code, meaning in EXIT_CODES.items():
        lines += [".TP", f".B {code}", *_text(meaning)]
    return "\n".join(lines) + "\n"


def _commands(group: click.Command, before: str) -> Iterator[tuple[str, click.Command]]:
    for name, command in getattr(group, "commands", {}).items():
        if hasattr(command, "commands"):
            yield from _commands(command, f"{before}{name} ")
        elif not command.hidden:
            yield before + name, command


def _command(name: str, command: click.Command) -> list[str]:
    arguments = " ".join(
        parameter.make_metavar(click.Context(command))
        for parameter in command.params
        if isinstance(parameter, click.Argument)
    )
    lines = [f".SS lantern {_escaped(name)} {_escaped(arguments)}".rstrip(), *_text(command.help or "")]
    for option in command.params:
        if isinstance(option, click.Option) and not option.hidden:
            names = ", ".join((*option.opts, *option.secondary_opts))
            lines += [".TP", f"\\fB{_escaped(names)}\\fR", *_text(option.help or "")]
    return lines


def _text(words: str) -> list[str]:
    """Paragraphs, none of whose lines begins a request."""
    lines: list[str] = []
    for number, paragraph in enumerate(part for part in words.split("\n\n") if part.strip()):
        lines += ([".PP"] if number else []) + [_escaped(" ".join(paragraph.split()))]
    return lines


def _escaped(words: str) -> str:
    text = words.replace("\\", r"\e").replace("-", r"\-")
    return r"\&" + text if text[:1] in (".", "'") else text


if __name__ == "__main__":
    sys.stdout.write(manual())
