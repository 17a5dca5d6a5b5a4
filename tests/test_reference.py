"""The reference is made from the code, and what `--json` prints fits the published schemas."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest

from rusty_lantern.core.model.dossier import encode
from rusty_lantern.reports.docs.reference import SCHEMAS, pages
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import Demo

DOCS = Path(__file__).parent.parent / "docs"


@pytest.mark.parametrize("path", pages())
def test_the_committed_reference_is_what_the_code_says(path: str) -> None:
    assert (DOCS / path).read_text(encoding="utf-8") == pages()[path], "run: make docs"


PRINTED: dict[str, tuple[str, ...]] = {
    "buckets": ("buckets",),
    "show": ("show", "harbour/press-kit", "--required"),
    "audit": ("audit",),
    "exposure": ("exposure", "harbour/payroll-drop", "harbour/ringing-records"),
    "why": ("why", "harbour/contractor-drop", "--verb", "write"),
    "access": ("access",),
}


@pytest.mark.parametrize("name", PRINTED)
def test_what_is_printed_fits_its_schema(demo: Demo, name: str) -> None:
    schema = json.loads((DOCS / "schemas" / f"{name}.json").read_text())
    jsonschema.validate(json.loads(demo.run(*PRINTED[name], "--json").out), schema)


def test_a_dossier_fits_its_schema() -> None:
    schema = json.loads((DOCS / "schemas/dossier.json").read_text())
    jsonschema.validate(json.loads(encode(saltmarsh.harbour().dossier)), schema)
    assert set(SCHEMAS) >= set(PRINTED)
