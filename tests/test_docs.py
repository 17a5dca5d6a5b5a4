"""What the pages and the help say works: every example and command line in them is run, or its options looked up."""

from __future__ import annotations

import ast
import doctest
import importlib
import inspect
import pkgutil
import re
import shlex
import shutil
import textwrap
from collections.abc import Callable
from pathlib import Path

import click
import pytest
import typer
import yaml

import rusty_lantern
from rusty_lantern.cli.app import app
from rusty_lantern.cli.manpage import _commands, manual
from rusty_lantern.core.audit.waiver_file import read_waivers
from rusty_lantern.core.baseline.examples import read_examples
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.config import credential_entries, csv_import, estate_file, export_entry, object_scan
from rusty_lantern.core.config.dialect_file import read_dialect
from rusty_lantern.core.config.estate_file import read_estate
from rusty_lantern.core.exports import layout
from rusty_lantern.core.usage.prices import read_prices
from rusty_lantern.intake import event_log
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


STORE = "    reads: s3\n    at: https://a.example\n    credential: {profile: x}\n"


def _read(text: str) -> object:
    """A YAML block of a page, read by what reads such a file; parts stand where they would in one."""
    text = textwrap.dedent(text)
    found = yaml.load(text, yaml.BaseLoader)
    if isinstance(found, list):
        text += "" if "require" in found[0] else "  require: {region: present}\n"
        return read_baseline(f"title: t\nsheets:\n{textwrap.indent(text, '  ')}", "block")
    readers: dict[str, Callable[[str, str], object]] = {
        "sheets": lambda text, file: read_baseline(text, file, lambda name: "sheets: []"),
        "waivers": read_waivers, "examples": read_examples, "readings": read_dialect, "rows": csv_import.read_layout,
        "fields": event_log.read_layout, "currency": read_prices, "says": layout.read_layout,
    }  # fmt: skip
    reader = next((read for key, read in readers.items() if key in found), None)
    if "include" in found or "sheets" in found:
        reader = readers["sheets"]
    if reader is not None:
        return reader(text, "block")
    if all("." in key for key in found):
        return read_baseline(f"title: t\nsheets:\n- sheet: s\n  require:\n{textwrap.indent(text, '    ')}", "block")
    if found.keys() & {"stores", "mirrors", "sign"}:
        stores = "" if "stores" in found else f"stores:\n  harbour:\n{STORE}  skerry:\n{STORE}"
        return read_estate(("" if "estate" in found else "estate: x\n") + stores + text, "block")
    if found.keys() & {"objects", "inventory", "stated"}:
        return read_estate(f"estate: x\nstores:\n  a:\n{STORE}{textwrap.indent(text, '    ')}", "block")
    return read_estate(f"estate: x\nstores:\n{textwrap.indent(text, '  ')}", "block")


BLOCKS = [
    pytest.param(block, id=f"{page.stem}-{number}")
    for page in PAGES
    for number, block in enumerate(re.findall(r"```yaml\n(.*?)```", page.read_text(), re.DOTALL), 1)
]


@pytest.mark.parametrize("block", BLOCKS)
def test_every_file_that_a_page_shows_can_be_read(block: str) -> None:
    assert _read(block)


MODULES = [module.name for module in pkgutil.walk_packages(rusty_lantern.__path__, "rusty_lantern.")]


def test_the_examples_in_docstrings_are_what_the_code_does() -> None:
    tried = [doctest.testmod(importlib.import_module(name)) for name in MODULES if not name.endswith("__main__")]
    assert sum(one.attempted for one in tried) > 60
    assert sum(one.failed for one in tried) == 0


def test_pages_show_files_of_every_kind() -> None:
    assert len(BLOCKS) > 20


def _keys_of_estate() -> set[str]:
    """Every key that what reads estate.yaml takes, by its own calls."""
    found: set[str] = set()
    for module in (estate_file, credential_entries, object_scan, export_entry):
        calls = (node for node in ast.walk(ast.parse(inspect.getsource(module))) if isinstance(node, ast.Call))
        for call in calls:
            if isinstance(call.func, ast.Attribute) and call.func.attr == "fields":
                found |= set(eval(ast.unparse(call.args[1]), vars(module)))  # a tuple of texts, or its name
    return found


def test_the_page_on_estate_yaml_names_every_key_of_it_and_no_other() -> None:
    page = (ROOT / "docs/estate.md").read_text()
    rows = set(re.findall(r"^\| `([a-z-]+)` \|", page, re.MULTILINE))
    words = set(re.findall(r"[a-z-]+", " ".join(re.findall(r"`([^`]*)`", page))))
    known = _keys_of_estate()
    assert len(known) > 50
    assert (sorted(rows - known), sorted(known - rows - words)) == ([], [])
