"""Audits for other programs: each format is what its standard says, carries everything, and lets no text break out."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from lxml import etree
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from tests.conftest import Lived, Ran, lantern

SCHEMAS = Path(__file__).parent / "schemas"
HOSTILE = '=HYPERLINK("x")|<script>alert(1)</script>\x1b[31m{0}[a](b)'


@pytest.fixture(scope="module")
def hostile(lived: Lived, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's workspace with a baseline whose reasons and sheet names carry markup; the surveys carry their own."""
    folder = Path(shutil.copytree(lived.folder, tmp_path_factory.mktemp("hostile") / "ws"))
    sheet = {
        "sheet": HOSTILE,
        "require": {"tags.note": {"is": "absent", "because": HOSTILE}, "exposure.read": "closed"},
    }
    (folder / "baseline.yaml").write_text(json.dumps({"title": HOSTILE, "sheets": [sheet]}))
    return folder


@pytest.fixture(scope="module")
def audit(lived: Lived) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(lived.run("audit", "--format", "json").out)
    return found


def _written(folder: Path, form: str) -> Ran:
    return lantern("audit", "--format", form, cwd=folder)


@pytest.mark.parametrize("form", ["json", "csv", "sarif", "junit", "openmetrics", "markdown"])
def test_each_format_prints_the_same_bytes_again_and_into_a_file(lived: Lived, tmp_path: Path, form: str) -> None:
    out = tmp_path / "out"
    printed = _written(lived.folder, form)
    kept = lived.run("audit", "--format", form, "--out", str(out))
    assert (printed.code, kept.code, kept.out) == (1, 1, "")
    assert out.read_bytes().decode().replace("\r\n", "\n") == printed.out
    refused = lived.run("audit", "--format", form, "--out", str(tmp_path / "no" / "such" / "region"))
    assert (refused.code, refused.out) == (2, "")


def test_sarif_is_valid_and_points_at_the_line_that_asks(lived: Lived, audit: dict[str, Any]) -> None:
    log = json.loads(_written(lived.folder, "sarif").out)
    jsonschema.Draft7Validator(json.loads((SCHEMAS / "sarif-2.1.0.json").read_text())).validate(log)
    results = log["runs"][0]["results"]
    assert len(results) == sum(audit["counts"][word] for word in ("drift", "unknown", "waived"))
    lines = (lived.folder / "baseline.yaml").read_text().splitlines()
    pointed = 0
    for result in results:
        place = result["locations"][0].get("physicalLocation")
        if place and place["artifactLocation"]["uri"] == "baseline.yaml":
            region = place["region"]
            assert lines[region["startLine"] - 1][region["startColumn"] - 1 :].startswith(result["ruleId"])
            pointed += 1
    assert pointed > 60
    kinds = {(r["kind"], r["level"] == "none", "suppressions" in r) for r in results}
    assert kinds == {("fail", False, False), ("open", True, False), ("fail", False, True)}
    prints = [r["partialFingerprints"]["requirement/v1"] for r in results]
    assert len(set(prints)) == len(prints)


def test_junit_is_valid_and_counts_what_the_audit_counts(lived: Lived, audit: dict[str, Any]) -> None:
    root = etree.fromstring(_written(lived.folder, "junit").out.encode())
    etree.XMLSchema(etree.parse(SCHEMAS / "junit-10.xsd")).assertValid(root)
    assert len(root.findall(".//failure")) == audit["counts"]["drift"]
    assert len(root.findall(".//error")) == audit["counts"]["unknown"]
    assert len(root.findall(".//skipped")) == audit["counts"]["waived"]
    for suite in root.findall("testsuite"):
        assert int(suite.get("tests", "")) == len(suite.findall("testcase"))
        assert int(suite.get("failures", "")) == len(suite.findall(".//failure"))


def test_openmetrics_is_read_by_a_standard_parser(lived: Lived, audit: dict[str, Any]) -> None:
    families = {f.name: f for f in text_string_to_metric_families(_written(lived.folder, "openmetrics").out)}
    drift = families["lantern_drift"].samples
    assert sum(sample.value for sample in drift) == audit["counts"]["drift"]
    critical = sum(s.value for s in drift if s.labels["severity"] == "critical")
    assert critical == audit["drift_by_severity"]["critical"]
    assert sum(s.value for s in families["lantern_unknown"].samples) == audit["counts"]["unknown"]
    assert families["lantern_survey_timestamp_seconds"].samples[0].value == 1793599200


def test_csv_has_a_line_for_each_and_no_formula(lived: Lived, hostile: Path, audit: dict[str, Any]) -> None:
    rows = list(csv.DictReader(io.StringIO(_written(lived.folder, "csv").out)))
    assert len(rows) == sum(audit["counts"][word] for word in ("drift", "unknown", "waived"))
    assert {(r["store"], r["name"], r["fact"]) for r in rows if r["status"] == "drift"} == {
        (d["store"], d["name"], d["fact"]) for d in audit["drift"]
    }
    cells = [cell for row in csv.reader(io.StringIO(_written(hostile, "csv").out)) for cell in row]
    assert any("HYPERLINK" in cell for cell in cells)
    assert not [cell for cell in cells if cell[:1] in ("=", "+", "@")]


@pytest.mark.parametrize("form", ["json", "csv", "sarif", "junit", "openmetrics", "markdown"])
def test_hostile_text_stays_text(hostile: Path, form: str) -> None:
    ran = _written(hostile, form)
    assert ran.code == 1
    assert not re.search(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]", ran.out)
    if form == "sarif":
        log = json.loads(ran.out)
        jsonschema.Draft7Validator(json.loads((SCHEMAS / "sarif-2.1.0.json").read_text())).validate(log)
        texts = [r["message"]["text"] for r in log["runs"][0]["results"]]
        assert not [t for t in texts if re.search(r"(?<!\{)\{(?!\{)|(?<!\\)\[", t)]
    elif form == "junit":
        etree.XMLSchema(etree.parse(SCHEMAS / "junit-10.xsd")).assertValid(etree.fromstring(ran.out.encode()))
    elif form == "markdown":
        assert "<script" not in ran.out
        assert not re.search(r"(?<!\\)\[a(?<!\\)\]", ran.out)
    elif form == "openmetrics":
        assert list(text_string_to_metric_families(ran.out))
