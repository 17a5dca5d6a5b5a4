"""Commands start quickly: the heavy libraries that each may load, and no others."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Lived

HEAVY = {
    "aiohttp", "asyncio", "botocore", "cryptography", "dask", "distributed", "duckdb", "filelock", "jinja2", "lxml",
    "matplotlib", "numpy", "pyarrow", "scipy",
}  # fmt: skip
PROGRAM = """
import json, sys
from rusty_lantern.cli.app import main
try:
    main(sys.argv[1:])
except SystemExit:
    pass
sys.stderr.write(json.dumps(sorted({name.partition(".")[0] for name in sys.modules})))
"""
FRESH = frozenset({"duckdb"})
WARM: frozenset[str] = frozenset()
MAY: dict[tuple[str, ...], frozenset[str]] = {
    ("--version",): WARM,
    (): WARM,
    ("audit",): WARM,
    ("audit", "--fresh"): FRESH,
    ("buckets",): WARM,
    ("show", "harbour/press-kit", "--required"): WARM,
    ("exposure", "harbour/payroll-drop"): WARM,
    ("why", "harbour/payroll-drop", "anyone", "read"): WARM,
    ("access",): WARM,
    ("remedy", "harbour/payroll-drop"): WARM,
    ("objects",): WARM,
    ("objects", "--fresh"): FRESH,
    ("retention",): WARM,
    ("retention", "--fresh"): FRESH,
    ("changes",): WARM,
    ("credentials",): WARM,
    ("encryption",): WARM,
    ("links",): WARM,
    ("mirrors",): WARM,
    ("history",): WARM,
    ("baseline", "show"): WARM,
    ("report", "--out", "{out}"): frozenset({"jinja2", "matplotlib", "numpy"}),
}
"""A command → the heavy libraries that it may load once everything in the workspace was counted."""


@pytest.fixture(scope="module")
def counted(lived: Lived, tmp_path_factory: pytest.TempPathFactory) -> Lived:
    """The demo's workspace, once everything in it was counted that commands count."""
    page = str(tmp_path_factory.mktemp("out") / "page.html")
    for words in (["changes"], ["objects"], ["retention"], ["encryption"], ["mirrors"], ["report", "--out", page]):
        assert lived.run(*words).code in (0, 1), words
    return lived


@pytest.mark.parametrize("words", MAY, ids=" ".join)
def test_a_command_loads_no_heavy_library_that_it_does_not_need(
    counted: Lived, tmp_path: Path, words: tuple[str, ...]
) -> None:
    asked = [word.replace("{out}", str(tmp_path / "page.html")) for word in words]
    command = [sys.executable, "-c", PROGRAM, *asked]
    ran = subprocess.run(command, cwd=counted.folder, capture_output=True, text=True, env=os.environ, check=True)
    loaded = HEAVY & set(json.loads(ran.stderr.splitlines()[-1]))
    assert loaded <= MAY[words], f"{' '.join(words)} loads {', '.join(sorted(loaded - MAY[words]))}"
