"""What every command prints on the demo, plain at one width and coloured at another, as it was read and found good;
and what holds at any width.

`LANTERN_GOLDEN=write` writes the files anew; read the difference before it is committed.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest
from typer.testing import CliRunner

from rusty_lantern.cli.app import app
from tests.conftest import Lived

GOLDEN = Path(__file__).parent / "golden"
LINES = {
    "alone": "--as-of 2026-11-03",
    "buckets": "buckets",
    "audit": "audit",
    "remedy": "remedy harbour/payroll-drop",
    "remedies": "remedy",
    "changes": "changes --events events.jsonl",
    "show": "show harbour/press-kit --required",
    "exposure": "exposure harbour/payroll-drop harbour/ringing-records harbour/drone-orthophotos",
    "why": "why harbour/contractor-drop --verb write",
    "access": "access --who gallery-publisher",
    "try": "try --bucket harbour/payroll-drop --policy restricted.json",
    "objects": "objects",
    "retention": "retention",
    "usage": "usage --by tags.steward",
    "retention-bucket": "retention harbour/permit-archive",
    "credentials": "credentials",
    "encryption": "encryption",
    "links": "links",
    "mirrors": "mirrors",
    "history": "history",
    "baseline-check": "baseline check",
    "baseline-show": "baseline show harbour/permit-archive",
    "baseline-test": "baseline test examples.yaml",
}
PLAIN, COLOURED = 80, 100
ESCAPES = re.compile(r"\x1b\[[0-9;]*m")


def printed(line: str, width: int, monkeypatch: pytest.MonkeyPatch, *, colour: bool) -> str:
    """What a command prints; what differs from run to run (ports, hashes of files that name them) is blanked."""
    monkeypatch.setenv("COLUMNS", str(width))
    monkeypatch.delenv("NO_COLOR", raising=False)
    for name in ("FORCE_COLOR", "COLORTERM"):
        monkeypatch.delenv(name, raising=False)
    if colour:
        monkeypatch.setenv("FORCE_COLOR", "1")
        monkeypatch.setenv("TERM", "xterm-256color")
    ran = CliRunner().invoke(app, line.split())
    assert ran.exit_code in (0, 1, 3), ran.output
    text = re.sub(r"127\.0\.0\.1:\d+", "127.0.0.1:PORT", ran.stdout)
    text = re.sub(r"(?<![0-9a-f])[0-9a-f]{8}(?= |\x1b)", "12345678", text)
    return re.sub(r"(workspace\s+)\S+", r"\1FOLDER", text)


@pytest.mark.parametrize("name", LINES)
def test_a_command_prints_what_was_read_and_found_good(
    lived: Lived, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    monkeypatch.chdir(lived.folder)
    plain = printed(LINES[name], PLAIN, monkeypatch, colour=False)
    coloured = printed(LINES[name], COLOURED, monkeypatch, colour=True)
    told = f"==== {PLAIN} columns\n{plain}==== {COLOURED} columns, with colour\n" + coloured.replace("\x1b", "␛")
    file = GOLDEN / f"{name}.txt"
    if os.environ.get("LANTERN_GOLDEN") == "write":
        GOLDEN.mkdir(exist_ok=True)
        file.write_text(told, encoding="utf-8")
    assert told == file.read_text(encoding="utf-8"), "LANTERN_GOLDEN=write, then read the difference"


@pytest.mark.parametrize("name", ["audit", "buckets", "access", "changes", "objects", "show", "remedies"])
def test_nothing_is_wider_than_asked_and_colour_says_nothing_that_words_do_not(
    lived: Lived, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    monkeypatch.chdir(lived.folder)
    for width in (PLAIN, COLOURED, 200):
        text = printed(LINES[name], width, monkeypatch, colour=False)
        assert "\x1b" not in text
        assert [row for row in text.splitlines() if len(row) > width] == [], f"wider than {width}"
        if width == COLOURED:
            assert ESCAPES.sub("", printed(LINES[name], width, monkeypatch, colour=True)) == text
