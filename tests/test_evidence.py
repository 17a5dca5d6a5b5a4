"""The folder that an auditor takes away: checked by plain Python, and enough to explain a drift from it alone."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from lxml import html

from rusty_lantern.archive.signing import new_key, public_path
from tests.conftest import Whole, lantern


@pytest.fixture(scope="module")
def folder(whole: Whole, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The evidence of the demo, signed."""
    base = tmp_path_factory.mktemp("evidence")
    place = Path(shutil.copytree(whole.folder, base / "ws"))
    new_key(base / "team.pem")
    (place / "estate.yaml").write_text((place / "estate.yaml").read_text() + f"sign: {{key: file:{base}/team.pem}}\n")
    ended = lantern("report", "--evidence", str(base / "out"), cwd=place)
    assert ended.code == 0, ended.err
    return base / "out"


def check(folder: Path) -> subprocess.CompletedProcess[str]:
    """The folder's own script, by a Python that knows nothing of us."""
    return subprocess.run(
        [sys.executable, "-I", "-S", "check.py"], cwd=folder, capture_output=True, text=True, check=False, timeout=120
    )


def subjects(folder: Path) -> dict[tuple[str, str], Any]:
    found = [json.loads(path.read_bytes()) for path in sorted((folder / "subjects").iterdir())]
    return {(one["store"], one["name"]): one for one in found}


def test_the_plain_script_finds_the_folder_whole(folder: Path) -> None:
    ended = check(folder)
    assert ended.returncode == 0 and "all as they were written" in ended.stdout, ended.stderr
    script = (folder / "check.py").read_text()
    assert len(script.splitlines()) <= 60 and "import rusty" not in script


@pytest.mark.parametrize("how", ["altered", "missing", "added", "survey"])
def test_the_plain_script_tells_what_was_done_to_it(folder: Path, how: str, tmp_path: Path) -> None:
    copy = Path(shutil.copytree(folder, tmp_path / "copy"))
    target = copy / "rules" / "baseline.yaml"
    words = f"rules/baseline.yaml: {'is not as it was written' if how == 'altered' else 'is missing'}"
    if how == "altered":
        target.write_text(target.read_text().replace("critical", "low", 1))
    elif how == "missing":
        target.unlink()
    elif how == "added":
        (copy / "rules" / "more.yaml").write_text("x")
        words = "rules/more.yaml: was added"
    else:
        store = copy / "survey" / "stores" / "attic.json"
        store.write_bytes(store.read_bytes() + b" ")
        told = json.loads((copy / "MANIFEST.json").read_bytes())
        import hashlib

        told["files"]["survey/stores/attic.json"] = hashlib.sha256(store.read_bytes()).hexdigest()
        (copy / "MANIFEST.json").write_text(json.dumps(told))
        words = "survey/stores/attic.json: is not what the survey wrote"
    ended = check(copy)
    assert ended.returncode == 1 and words in ended.stdout


def test_who_signed_it_is_checked_by_the_tool(folder: Path, tmp_path: Path) -> None:
    public = str(public_path(folder.parent / "team.pem"))
    words = ("history", "--verify", "--evidence", str(folder))
    assert "signed by" in lantern(*words, "--signer", public, cwd=tmp_path).out
    new_key(tmp_path / "other.pem")
    ended = lantern(*words, "--signer", str(public_path(tmp_path / "other.pem")), cwd=tmp_path)
    assert ended.code == 4 and "signed by another key" in ended.out
    copy = Path(shutil.copytree(folder, tmp_path / "copy"))
    told = json.loads((copy / "MANIFEST.json").read_bytes())
    (copy / "MANIFEST.json").write_text(json.dumps(told))
    ended = lantern("history", "--verify", "--evidence", str(copy), "--signer", public, cwd=tmp_path)
    assert ended.code == 4 and "its signature is not of this folder" in ended.out


def test_one_critical_drift_is_explained_by_the_folder_alone(folder: Path) -> None:
    found = subjects(folder)["harbour", "payroll-drop"]
    drift = next(one for one in found["drift"] if one["fact"] == "exposure.read")
    file, line, _ = drift["line"].split(":")
    assert (folder / "rules" / file).read_text().splitlines()[int(line) - 1].strip() == drift["text"]
    way = next(one for one in found["ways_in"] if one["verb"] == "read" and one["audience"] == "anyone")
    assert way["request"].startswith("GET /payroll-drop/") and way["caller"] == "no credentials"
    policy = next(one for one in found["answers"] if one["setting"] == "policy")
    at: Any = json.loads((folder / "survey" / "stores" / "harbour.json").read_bytes())
    for step in policy["pointer"].strip("/").split("/"):
        at = at[int(step)] if isinstance(at, list) else at[step]
    assert at["value"] == policy["words"] and "0.0.0.0/1" in policy["words"]
    assert policy["question"].endswith("?policy") and policy["status"] == "200"


def test_every_drift_and_every_way_in_has_its_file(folder: Path) -> None:
    report = json.loads((folder / "report" / "report.json").read_bytes())
    found = subjects(folder)
    for one in report["audit"]["drift"]:
        facts = [drift["fact"] for drift in found[one["store"], one["name"]]["drift"]]
        assert one["fact"] in facts
    for one in report["public_access"]:
        assert any(way["verb"] == one["verb"] for way in found[one["store"], one["bucket"]]["ways_in"])
    assert all(one["answers"] for one in found.values() if one["kind"] in ("bucket", "identity", "encryption-key"))


def test_the_page_needs_no_script_and_takes_text_as_text(folder: Path) -> None:
    page = (folder / "index.html").read_text()
    root: Any = html.fromstring(page)
    assert root.xpath("//script") == [] and root.xpath("//img|//link|//iframe") == []
    assert "default-src 'none'" in root.xpath("//meta[@http-equiv]/@content")[0]
    assert "<b>" not in page and len(root.xpath("//details")) > 50


def test_no_secret_is_in_it_and_nothing_is_written_over(folder: Path, whole: Whole) -> None:
    from rusty_lantern.simulator.demo.harbour import SECRET

    secret = (folder.parent / "team.pem").read_text().splitlines()[1]
    for path in folder.rglob("*"):
        if path.is_file():
            content = path.read_bytes()
            assert SECRET.encode() not in content and secret.encode() not in content, path
    ended = whole.run("report", "--evidence", str(folder))
    assert ended.code == 2 and "the folder is not empty" in ended.err
    ended = whole.run("report", "--evidence", "estate.yaml")
    assert ended.code == 2 and "estate.yaml: this is no folder" in ended.err
    ended = whole.run("history", "--verify", "--evidence", "nowhere")
    assert ended.code == 2 and "this is no evidence folder" in ended.err
