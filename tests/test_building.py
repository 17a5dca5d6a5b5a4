"""docs/building.md is followed word by word: its fact, its format and its command work at first try."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Lived, Ran

ROOT = Path(__file__).parent.parent
PAGE = (ROOT / "docs" / "building.md").read_text()
BLOCKS = dict(re.findall(r"```python\n# (\S+)\n(.*?)```", PAGE, re.DOTALL))
FACT = f"""
from rusty_lantern.core.facts import bucket_settings
bucket_settings.SIZE
exec(compile({BLOCKS["core/facts/bucket_settings.py"]!r}, "page", "exec"), bucket_settings.__dict__)
"""
FORMAT = f"""
import sys, types
from rusty_lantern.reports import formats
made = types.ModuleType("rusty_lantern.reports.formats.tsv")
made.__dict__["AuditResult"] = object
exec(compile({BLOCKS["reports/formats/tsv.py"]!r}, "page", "exec"), made.__dict__)
sys.modules["rusty_lantern.reports.formats.tsv"] = made
formats.FORMATS += ("tsv",)
"""
COMMAND = f"""
import sys, types
from rusty_lantern.cli import lazy_group, options, output, session
made = types.ModuleType("rusty_lantern.cli.stewards")
made.__dict__.update({{**vars(options), "opened": session.opened, "emit": output.emit}})
exec(compile("from __future__ import annotations\\n" + {BLOCKS["cli/stewards.py"]!r}, "page", "exec"), made.__dict__)
sys.modules["rusty_lantern.cli.stewards"] = made
lazy_group.COMMANDS += ("stewards",)
"""


def run(added: str, *words: str, cwd: Path) -> Ran:
    """The program with what was added."""
    program = f"{added}\nfrom rusty_lantern.__main__ import main\nimport sys\nsys.argv[0] = 'lantern'\nmain()"
    ended = subprocess.run(
        [sys.executable, "-c", program, *words], cwd=cwd, env=dict(os.environ), capture_output=True, text=True,
        timeout=600, check=False,
    )  # fmt: skip
    assert "Traceback" not in ended.stderr, ended.stderr
    return Ran(ended.returncode, ended.stdout, ended.stderr)


@pytest.fixture
def place(lived: Lived, tmp_path: Path) -> Path:
    return Path(shutil.copytree(lived.folder, tmp_path / "ws"))


def test_the_drawing_has_every_package_and_no_other() -> None:
    drawing = PAGE.split("```")[1]
    drawn = set(re.findall(r"([a-z0-9_]+)/", drawing)) - {"templates"}
    src = ROOT / "src" / "rusty_lantern"
    packages = {made.parent.name for made in src.rglob("__init__.py")} - {"rusty_lantern"}
    assert drawn == packages


def test_a_fact_that_is_added_is_required_shown_drafted_remedied_and_documented(place: Path, tmp_path: Path) -> None:
    baseline = "sheets: [{sheet: sizes, of: {store: harbour}, require: {mean-size: at least 1 PB or absent}}]\n"
    (place / "baseline.yaml").write_text(baseline)
    audit = json.loads(run(FACT, "audit", "--json", cwd=place).out)
    drift = {row["bucket"] for row in audit["drift"] if row["fact"] == "mean-size"}
    assert drift, audit
    bucket = f"harbour/{sorted(drift)[0]}"
    assert '"mean-size"' in run(FACT, "show", bucket, "--json", cwd=place).out
    assert "join small objects: at least 1 PB" in " ".join(run(FACT, "remedy", bucket, cwd=place).out.split())
    assert run(FACT, "baseline", "check", cwd=place).code == 0
    assert run(FACT, "baseline", "draft", "--out", str(tmp_path / "d.yaml"), cwd=place).code == 0
    assert run(FACT, "report", "--out", str(tmp_path / "report.html"), cwd=place).code in (0, 1)
    assert run(FACT, "changes", "--since", "2026-10-02", cwd=place).code == 0
    schema = "from rusty_lantern.reports.docs.baseline_schema import schema; print('mean-size' in str(schema()))"
    told = subprocess.run([sys.executable, "-c", f"{FACT}\n{schema}"], capture_output=True, text=True, check=True)
    assert told.stdout.strip() == "True"


def test_a_format_that_is_added_is_printed(place: Path) -> None:
    ran = run(FORMAT, "audit", "--format", "tsv", cwd=place)
    assert ran.code == 1, ran.err
    assert all(len(line.split("\t")) == 3 for line in ran.out.splitlines())
    assert ran.out.startswith("critical\t")


def test_a_command_that_is_added_works_and_is_in_the_help(place: Path) -> None:
    rows = run(COMMAND, "stewards", cwd=place).out.splitlines()
    assert len(rows) > 30
    assert "attic/site-photos: records-office" in rows
    assert "Who answers for each bucket." in run(COMMAND, "--help", cwd=place).out


def test_no_file_is_longer_than_a_reader_keeps_in_mind() -> None:
    lengths = {path: len(path.read_text().splitlines()) for path in (ROOT / "src").rglob("*.py")}
    assert len(lengths) > 300
    assert {path.name: length for path, length in lengths.items() if length > 350} == {}
