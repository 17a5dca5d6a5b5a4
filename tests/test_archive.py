"""Surveys on disk: whole or not at all, and any change to a kept one is noticed."""

from __future__ import annotations

import resource
import shutil
import subprocess
from pathlib import Path

import pytest

from rusty_lantern.archive.chain import history
from rusty_lantern.archive.surveys import load, names, save
from rusty_lantern.core.errors import BadInput, Damaged
from rusty_lantern.core.model.dossier import decode, encode
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import PROGRAM, Demo, lantern

NAME = "20261102T060000Z"


@pytest.fixture
def copied(demo: Demo, tmp_path: Path) -> Path:
    return Path(shutil.copytree(demo.folder, tmp_path / "ws"))


def test_a_dossier_comes_back_as_it_was() -> None:
    dossier = saltmarsh.harbour().dossier
    assert decode(encode(dossier), "x") == dossier
    assert encode(decode(encode(dossier), "x")) == encode(dossier)


@pytest.mark.parametrize("harm", ["edit", "delete", "add", "truncate manifest", "newer manifest"])
def test_a_changed_survey_is_named_and_not_used(copied: Path, harm: str) -> None:
    survey = copied / "surveys" / NAME
    if harm == "edit":
        file = survey / "stores/harbour.json"
        file.write_text(file.read_text().replace('"suspended"', '"on"'))
    elif harm == "delete":
        (survey / "stores/harbour.json").unlink()
    elif harm == "add":
        (survey / "stores/extra.json").write_text("{}")
    else:
        file = survey / "survey.json"
        text = file.read_text()
        file.write_text(text[:50] if harm == "truncate manifest" else text.replace('"survey": 1', '"survey": 99'))
    ran = lantern("audit", "--survey", NAME, cwd=copied)
    assert (ran.code, ran.out) == (2, "")
    assert f"surveys/{NAME}/" in ran.err


def test_a_survey_of_a_taken_moment_is_refused_and_the_kept_one_stays(tmp_path: Path) -> None:
    dossier = saltmarsh.harbour().dossier
    folder = save(tmp_path, "x", saltmarsh.MOMENT, [dossier])
    before = (folder / "survey.json").read_bytes()
    with pytest.raises(BadInput, match="already saved"):
        save(tmp_path, "x", saltmarsh.MOMENT, [])
    assert (folder / "survey.json").read_bytes() == before
    assert names(tmp_path) == [NAME]


def test_each_survey_carries_the_hash_of_the_one_before(tmp_path: Path) -> None:
    from datetime import timedelta

    save(tmp_path, "x", saltmarsh.MOMENT, [saltmarsh.harbour().dossier])
    assert load(tmp_path).manifest.previous is None
    save(tmp_path, "x", saltmarsh.MOMENT + timedelta(days=1), [saltmarsh.harbour().dossier])
    assert len(load(tmp_path).manifest.previous or "") == 64
    assert names(tmp_path) == [NAME, "20261103T060000Z"]
    assert load(tmp_path, "20261102").name == NAME


def test_a_full_disk_keeps_nothing_and_harms_nothing(demo: Demo, tmp_path: Path) -> None:
    folder = shutil.copytree(demo.folder, tmp_path / "ws")
    before = names(folder / "surveys")
    limit = 20_000
    ran = subprocess.run(
        [str(PROGRAM), "survey", "--as-of", "2026-11-05"],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit)),
    )
    assert (ran.returncode, "lantern survey --resume" in ran.stderr) == (2, True), ran.stderr
    assert names(folder / "surveys") == before
    assert lantern("audit", cwd=folder).code == 1
    assert lantern("survey", "--resume", cwd=folder).code == 0
    assert names(folder / "surveys") == [*before, "20261105T000000Z"]


def test_history_finds_any_altered_missing_or_added_byte(tmp_path: Path) -> None:
    from datetime import timedelta

    archive = tmp_path / "surveys"
    for day in range(3):
        save(archive, "x", saltmarsh.MOMENT + timedelta(days=day), [saltmarsh.harbour().dossier])
    assert [one.wrong for one in history(archive, verify=True)] == ["", "", ""]
    file = archive / "20261103T060000Z" / "stores/harbour.json"
    content = file.read_bytes()
    for place in range(0, len(content), len(content) // 9):
        file.write_bytes(content[:place] + bytes([content[place] ^ 1]) + content[place + 1 :])
        assert "20261103T060000Z/stores/harbour.json" in history(archive, verify=True)[1].wrong
    file.write_bytes(content)
    shutil.rmtree(archive / "20261102T060000Z")
    assert [bool(one.wrong) for one in history(archive, verify=True)] == [True, False]


def test_the_history_command_lists_and_verifies(demo: Demo, copied: Path) -> None:
    ran = lantern("history", "--verify", cwd=copied)
    assert (ran.code, NAME in ran.out, "integrity: verified" in ran.out) == (0, True, True)
    (copied / "surveys" / NAME / "stores/harbour.json").write_text("{}")
    ran = lantern("history", "--verify", cwd=copied)
    assert (ran.code, "this file is not what the survey wrote" in ran.out) == (4, True)


def test_a_path_that_leads_out_of_the_survey_is_damage(copied: Path) -> None:
    file = copied / "surveys" / NAME / "survey.json"
    file.write_text(file.read_text().replace("stores/harbour.json", "../../../etc/passwd"))
    with pytest.raises(Damaged):
        load(copied / "surveys", NAME)
