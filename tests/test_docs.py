"""What the pages and the help say works: every example and command line in them is run, or its options looked up."""

from __future__ import annotations

import re
import shlex
import shutil
from pathlib import Path

import click
import pytest
import typer

from rusty_lantern.cli.app import app
from rusty_lantern.cli.manpage import _commands, manual
from tests.conftest import Lived, Whole, lantern

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("*.md"))]
COMMANDS: dict[str, click.Command] = dict(_commands(typer.main.get_command(app), ""))
ASKING = ("lantern reach", "lantern survey")
"""Beginnings of examples that ask the stores."""
STAYING = ("lantern standin", "lantern demo")
"""Of those that serve until they are stopped, or run everything again."""


def _examples() -> list[str]:
    found = [" ".join((c.help or "").split()).partition("Example: ")[2] for c in COMMANDS.values()]
    for page in PAGES:
        for block in re.findall(r"```console\n(.*?)```", page.read_text(), re.DOTALL):
            lines = [
                line.removeprefix("$ ").partition("#")[0].strip() for line in block.splitlines() if line[:2] == "$ "
            ]
            found += [
                part.strip() for line in lines for part in re.split("&&|;", line) if part.strip().startswith("lantern")
            ]
    return list(dict.fromkeys(found))


def test_every_command_says_when_one_would_use_it_with_an_example() -> None:
    helps = {name: " ".join((command.help or "").split()) for name, command in COMMANDS.items()}
    bare = [name for name, words in helps.items() if not re.search(r"Use it .*Example: lantern ", words)]
    assert bare == []
    assert len(COMMANDS) > 25


@pytest.fixture(scope="module")
def place(lived: Lived, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return Path(shutil.copytree(lived.folder, tmp_path_factory.mktemp("docs") / "ws"))


@pytest.mark.parametrize("line", [line for line in _examples() if not line.startswith(STAYING)])
def test_the_example_works_in_the_demo(place: Path, whole: Whole, tmp_path: Path, line: str) -> None:
    folder = place
    if line.startswith(ASKING):
        folder = Path(shutil.copytree(whole.folder, tmp_path / "ws"))
    for command in re.split(" && |; ", line):
        ran = lantern(*shlex.split(command)[1:], cwd=folder)
        assert ran.code in (0, 1, 3), ran.err


def _mentioned() -> set[str]:
    found = set()
    for page in PAGES:
        for words in re.findall(r"`(lantern [^`]+)`", page.read_text()):
            found |= {part.strip() for part in re.split("&&|;", words)}
    return found


def test_every_command_and_option_that_a_page_mentions_exists() -> None:
    unknown = []
    for words in sorted(_mentioned()):
        parts = words.split()[1:]
        name = next((" ".join(parts[:n]) for n in (2, 1) if " ".join(parts[:n]) in COMMANDS), "")
        options = {option.split("=")[0].strip("[]") for option in parts if option.lstrip("[").startswith("--")}
        if not name:
            unknown += (
                [words] if options - {"--install-completion", "--version"} or not parts[0].startswith("-") else []
            )
            continue
        known = {one for parameter in COMMANDS[name].params for one in (*parameter.opts, *parameter.secondary_opts)}
        unknown += [words] if options - known else []
    assert [words for words in unknown if words.split()[1] not in ("baseline", "dossier")] == []


def test_the_manual_page_is_what_the_commands_say() -> None:
    assert (ROOT / "docs/lantern.1").read_text() == manual(), "run: make docs"


def test_every_page_links_to_what_is_there() -> None:
    dead = [
        (page.name, target)
        for page in PAGES
        for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", page.read_text())
        if not (page.parent / target).exists()
    ]
    assert dead == []


def test_a_shell_completes_buckets_surveys_and_facts(lived: Lived, tmp_path: Path) -> None:
    def completed(words: str, place: Path = lived.folder) -> list[str]:
        number = str(len(words.split()) - (not words.endswith(" ")))
        return lantern(cwd=place, _LANTERN_COMPLETE="complete_bash", COMP_WORDS=words, COMP_CWORD=number).out.split()

    assert completed("lantern show harbour/perm") == ["harbour/permit-archive", "harbour/permit-scans"]
    assert completed("lantern audit --survey 202610") == ["20261002T060000Z"]
    assert "lock.default-retention" in completed("lantern waive x lock.")
    assert completed("lantern show harbour/perm", tmp_path) == []
