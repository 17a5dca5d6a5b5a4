"""What every command prints on the demo, at three widths, with and without colour, as it was read and found good.

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
    "try": "try --bucket harbour/payroll-drop --policy fenced.json",
    "objects": "objects",
    "retention": "retention",
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
WIDTHS = (80, 100, 160)
ESCAPES = re.compile(r"\x1b\[[0-9;]*m")


def printed(line: str, width: int, monkeypatch: pytest.MonkeyPatch, *, colour: bool) -> str:
    """What a command prints; what differs from run to run (ports, hashes of files that name them) is blanked."""
    monkeypatch.setenv("COLUMNS", str(width))
    monkeypatch.delenv("NO_COLOR", raising=False)
    monkeypatch.delenv("FORCE_COLOR", raising=False)
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
    parts = []
    for width in WIDTHS:
        plain = printed(LINES[name], width, monkeypatch, colour=False)
        assert "\x1b" not in plain
        wide = [row for row in plain.splitlines() if len(row) > width]
        assert wide == [], f"wider than {width}"
        parts.append(f"==== {width} columns\n{plain}")
    coloured = printed(LINES[name], 100, monkeypatch, colour=True)
    assert f"==== 100 columns\n{ESCAPES.sub('', coloured)}" == parts[1], "colour says something that words do not"
    parts.append("==== 100 columns, with colour\n" + coloured.replace("\x1b", "␛"))
    told = "".join(parts)
    file = GOLDEN / f"{name}.txt"
    if os.environ.get("LANTERN_GOLDEN") == "write":
        GOLDEN.mkdir(exist_ok=True)
        file.write_text(told, encoding="utf-8")
    assert told == file.read_text(encoding="utf-8"), "LANTERN_GOLDEN=write, then read the difference"
