"""Commands start quickly: the heavy libraries that each may load, and no others."""

from __future__ import annotations

import json
import os
import subprocess
import sys

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


@pytest.mark.parametrize("words", MAY, ids=" ".join)
def test_a_command_loads_no_heavy_library_that_it_does_not_need(
    lived: Lived, tmp_path_factory: pytest.TempPathFactory, words: tuple[str, ...]
) -> None:
    out = str(tmp_path_factory.mktemp("out") / "page.html")
    asked = [word.replace("{out}", out) for word in words]
    command = [sys.executable, "-c", PROGRAM, *asked]
    for _ in range(2):  # the second time everything is counted that the command counts
        ran = subprocess.run(command, cwd=lived.folder, capture_output=True, text=True, env=os.environ, check=True)
    loaded = HEAVY & set(json.loads(ran.stderr.splitlines()[-1]))
    assert loaded <= MAY[words], f"{' '.join(words)} loads {', '.join(sorted(loaded - MAY[words]))}"
