"""One name for one thing: headings and statuses are in the glossary, and the old words are gone."""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.baseline.evaluation import STATUSES
from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.reports.docs.glossary import CHANGES, HEADINGS, LEVELS, STATES, glossary
from rusty_lantern.reports.docs.glossary import STATUSES as STATUS_WORDS
from rusty_lantern.reports.terminal.layout import STYLES, console
from tests.conftest import Lived

ROOT = Path(__file__).parent.parent
VIEWS = sorted((ROOT / "src/rusty_lantern/reports/terminal").glob("*.py"))
GOLDEN = sorted((ROOT / "tests/golden").glob("*.txt"))
NAMES = {"harbour", "skerry", "attic"}
"""Headings that are names of stores."""


def _headings(path: Path) -> set[str]:
    """The headings of every table of a view, as they are written."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        tables = isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Table"
        lists = isinstance(node, ast.Assign) and getattr(node.targets[0], "id", "") in ("headings", "told")
        if tables:
            assert isinstance(node, ast.Call)
            parts: list[ast.expr] = node.args
        elif lists and isinstance(node, ast.Assign) and isinstance(node.value, ast.Tuple):
            parts = node.value.elts
        else:
            continue
        found |= {p.value for p in parts if isinstance(p, ast.Constant) and isinstance(p.value, str) and p.value}
    return found


@pytest.mark.parametrize("path", VIEWS, ids=lambda path: path.stem)
def test_every_heading_of_a_table_is_in_the_glossary(path: Path) -> None:
    assert _headings(path) - HEADINGS.keys() - set(SEVERITIES) - set(VERBS) == set()


def test_views_have_headings_at_all() -> None:
    assert len(set().union(*map(_headings, VIEWS))) > 60


def test_every_status_is_in_the_glossary_with_one_plain_sentence() -> None:
    assert {*STATUSES, *SEVERITIES} == STATUS_WORDS.keys()
    for words in (STATUS_WORDS, LEVELS, STATES, CHANGES, HEADINGS):
        assert all(meaning.endswith(".") and len(meaning) < 140 for meaning in words.values())
    assert (ROOT / "docs/words.md").read_text() == glossary()


REPLACED = {
    "held", "turn", "standing", "doubts", "fence", "lying_about", "beside_the_door", "taken_over", "wrong", "place",
    "locks", "emptying", "by_anyone", "hold", "deleter", "lapsed", "kept", "breaking", "judged", "sort", "looked",
    "drifted", "displaced", "perhaps", "unasked", "remarks", "odd", "besides", "own", "holders", "lasting", "glance",
}  # fmt: skip
"""Fields of results that have another name by now (CHANGELOG)."""


def _properties(schema: object) -> set[str]:
    if isinstance(schema, list):
        return set().union(*map(_properties, schema))
    if not isinstance(schema, dict):
        return set()
    return set(schema.get("properties", ())).union(*map(_properties, schema.values()))


def test_no_result_has_a_field_of_an_old_name() -> None:
    schemas = {path.name: json.loads(path.read_text()) for path in (ROOT / "docs/schemas").glob("*.json")}
    of_files = {"dossier.json", "baseline.json", "estate.json"}  # documents that are read too
    found = {name: _properties(schema) & REPLACED for name, schema in schemas.items() if name not in of_files}
    assert len(found) > 20
    assert {name: fields for name, fields in found.items() if fields} == {}


OLD = (
    r"could not be told|cannot be told|could not be seen|accepted for now|decided again|laid over|\bmended\b"
    r"|\bknock\w*|front door|\bnarrow\b|\bfence[ds]?\b|signed-in|\bgovern\b|free now|taken over|\bas written\b"
    r"|provider-key|managed-key|customer-key|catching-up|\blacking\b|second factor|unexplained|vanished|\bcellar\b"
    r"|access lists?\b|in words\b|asked by|\bdrifted\b|live-with-owner|type-fits|by-object|password-alone"
    r"|not told any more|\btold\b|\bspeaks? of\b|\bspeaks? to\b"
)
"""Words that were replaced, as a pattern."""

EMPTY_NAMES = {"found", "told", "asked"}
"""Names of variables that do not say what they hold."""


def test_no_variable_has_a_name_that_says_nothing() -> None:
    sources = sorted((ROOT / "src").rglob("*.py"))
    assert len(sources) > 400
    named = [
        f"{path.relative_to(ROOT)}:{node.lineno}"
        for path in sources
        for node in _variables(ast.parse(path.read_text(encoding="utf-8")))
        if (node.arg if isinstance(node, ast.arg) else node.id) in EMPTY_NAMES
    ]
    assert named == []


def _variables(module: ast.Module) -> Iterator[ast.Name | ast.arg]:
    """Every parameter, and every name that is given to a value; not the fields of a record."""
    records = (node for node in ast.walk(module) if isinstance(node, ast.ClassDef))
    fields = {id(line.target) for record in records for line in record.body if isinstance(line, ast.AnnAssign)}
    for node in ast.walk(module):
        if isinstance(node, ast.arg) or (
            isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store) and id(node) not in fields
        ):
            yield node


@pytest.mark.parametrize("path", GOLDEN, ids=lambda path: path.stem)
def test_no_output_has_a_word_that_was_replaced(path: Path) -> None:
    found = re.findall(OLD, path.read_text())
    assert found == []


@pytest.mark.parametrize(
    "path", [*sorted((ROOT / "docs").glob("*.md")), ROOT / "README.md"], ids=lambda path: path.stem
)
def test_no_page_has_a_word_that_was_replaced(path: Path) -> None:
    found = re.findall(OLD, path.read_text())
    assert found == []


def test_help_has_no_word_that_was_replaced(lived: Lived) -> None:
    whole = lived.run("--help").out
    for command in re.findall(r"^  ([a-z]+)  ", whole, re.MULTILINE):
        whole += lived.run(command, "--help").out
    assert len(whole) > 5_000
    assert re.findall(OLD, whole) == []


def _luminance(colour: str) -> float:
    """Relative luminance of `#rrggbb`, by WCAG 2.2."""
    parts = (int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5))
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def test_every_colour_can_be_read_on_black_and_on_white() -> None:
    screen = console()
    shown = {screen.get_style(style).color for style in ("dim", *STYLES.values())}
    assert len(shown) == 6
    for colour in shown:
        assert colour is not None
        bright = _luminance(colour.name)
        assert min(1.05 / (bright + 0.05), (bright + 0.05) / 0.05) >= 4.5, colour.name


@pytest.mark.parametrize("width", [80, 100, 160])
def test_the_first_screen_answers_what_first_how_bad_and_what_to_do(lived: Lived, width: int) -> None:
    lines = lived.run("audit", COLUMNS=str(width)).out.splitlines()[:40]
    text = "\n".join(lines)
    assert "24 critical" in text
    assert "What to do first" in text
    assert "lantern remedy harbour/payroll-drop" in text
    assert "in 9 days (2026-11-11)" in text
    assert "Public now" in text
    assert "public access not determined: dunes/dune-pictures," in " ".join(text.split())
    assert max(map(len, lines)) <= width
