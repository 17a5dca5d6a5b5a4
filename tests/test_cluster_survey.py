"""A survey whose objects are looked at by the workers of a Dask cluster: the same survey, whatever dies on the way."""

from __future__ import annotations

import difflib
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from configparser import ConfigParser
from pathlib import Path

import pytest

from rusty_lantern.archive.journal import Journal
from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.acl import ObjectGrant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.survey.inspection import Batch, ClusterInspection, Subject, Workers
from tests.conftest import Ran, Whole, begin, lantern
from tests.test_cluster import Running, cluster_of_two

TAKEN = "20261102T060000Z"
AS_OF = ("--as-of", "2026-11-02T06:00:00Z")


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with cluster_of_two(tmp_path_factory.mktemp("cluster")) as made:
        yield made


@pytest.fixture
def folder(whole: Whole, tmp_path: Path) -> Path:
    """The demo's workspace before its first survey; its stores answer."""
    made = tmp_path / "workspace"
    shutil.copytree(whole.folder, made, ignore=shutil.ignore_patterns("surveys", "results"))
    return made


def surveyed(folder: Path, address: str, *more: str) -> Ran:
    return lantern("survey", "--engine", "dask", "--scheduler", address, *AS_OF, *more, cwd=folder)


def content(folder: Path) -> dict[str, bytes]:
    survey = folder / "surveys" / TAKEN
    return {str(path.relative_to(survey)): path.read_bytes() for path in sorted(survey.rglob("*.*"))}


def unlike(folder: Path, whole: Whole) -> dict[str, list[str]]:
    """The files that differ from those of a survey without a cluster, each with its first lines that do."""
    mine, theirs = content(folder), content(whole.folder)
    differing = sorted(name for name in mine.keys() | theirs.keys() if mine.get(name) != theirs.get(name))
    return {name: lines_unlike(mine.get(name, b""), theirs.get(name, b"")) for name in differing}


def lines_unlike(mine: bytes, theirs: bytes) -> list[str]:
    before, after = (one.decode(errors="replace").splitlines() for one in (mine, theirs))
    return [line[:200] for line in difflib.unified_diff(before, after, lineterm="", n=1)][:20]


def test_a_survey_on_a_cluster_is_the_same_to_the_byte(whole: Whole, folder: Path, running: Running) -> None:
    ran = surveyed(folder, running.address)
    assert ran.code == 0, ran.err
    assert any(name.endswith(".parquet") for name in content(folder))
    assert not unlike(folder, whole)
    assert not list((folder / "surveys").rglob("journal"))


def test_what_a_worker_that_dies_had_begun_is_asked_by_another(whole: Whole, folder: Path, tmp_path: Path) -> None:
    with cluster_of_two(tmp_path / "c") as running:
        going = begun(folder, running.address)
        time.sleep(1)
        running.workers[0].kill()
        assert going.wait(timeout=600) == 0
    assert not unlike(folder, whole)


def test_a_scheduler_that_goes_away_ends_it_and_the_rest_is_asked_later(
    whole: Whole, folder: Path, tmp_path: Path
) -> None:
    with cluster_of_two(tmp_path / "c") as running:
        going = begun(folder, running.address)
        journals = folder / "surveys" / f"{TAKEN}.partial" / "journal" / "harbour"
        while going.poll() is None and not any(map(holds_a_batch, journals.glob("*.jsonl"))):
            time.sleep(0.02)
        running.scheduler.kill()
        assert going.wait(timeout=600) in (0, 3)
        ended = going.returncode
        told = (folder / "told.txt").read_text()
    assert ended == 0 or "went away" in told, told
    if ended:
        ran = lantern("survey", "--resume", cwd=folder)
        assert ran.code == 0, ran.err
    assert not unlike(folder, whole)


def test_an_interrupt_ends_it_and_the_rest_is_asked_later(whole: Whole, folder: Path, running: Running) -> None:
    going = begin("survey", "--engine", "dask", "--scheduler", running.address, *AS_OF, cwd=folder)
    journals = folder / "surveys" / f"{TAKEN}.partial" / "journal" / "harbour"
    while going.poll() is None and not list(journals.glob("*.jsonl")):
        time.sleep(0.02)
    going.send_signal(signal.SIGINT)
    _, told = going.communicate(timeout=600)
    assert (going.returncode, "lantern survey --resume" in told) == (130, True), told
    assert lantern("survey", "--resume", cwd=folder).code == 0
    assert not unlike(folder, whole)


def holds_a_batch(journal: Path) -> bool:
    try:
        return b"batch " in journal.read_bytes()
    except FileNotFoundError:  # its table was written meanwhile
        return False


def begun(folder: Path, address: str) -> subprocess.Popen[bytes]:
    words = [str(Path(sys.executable).parent / "lantern"), "survey", "--engine", "dask", "--scheduler", address, *AS_OF]
    with (folder / "told.txt").open("wb") as told:
        return subprocess.Popen(words, cwd=folder, stdout=subprocess.DEVNULL, stderr=told)


def test_a_batch_that_came_back_is_not_asked_again_and_a_pace_is_shared(tmp_path: Path) -> None:
    asked: list[int] = []

    class Counting(Workers):
        def __init__(self) -> None:
            self.count = 1

        async def run(self, subject: Subject, versions: object) -> Batch:
            asked.append(1)
            return Batch([ObjectVersion(key="k", inspected="yes")], [ObjectGrant("anyone", "read", "k")])

    import asyncio

    from tests.test_usage import NOW

    slow = StoreConfig("s", Place("x"), "s3", "http://127.0.0.1:9", Credential("chain"), Pace(16, 200))
    for count in (1, 2, 7):
        workers = Counting()
        workers.count = count
        mine = workers.share(slow).pace  # of each worker, and of this machine
        assert (count + 1) * mine.per_second <= 200 and (count + 1) * mine.at_once <= 16
    subject = Subject(None, tmp_path, NOW, Bucket(name="b"), None)  # type: ignore[arg-type]
    for _ in range(2):  # as a survey that was stopped and is gone on with
        journal = Journal(tmp_path / "b.jsonl", lambda header: False)
        there = ClusterInspection(Counting(), subject, journal)
        rows = asyncio.run(there.begin([ObjectVersion(key="k")]))
        assert rows[0].inspected == "yes" and there.granted == [ObjectGrant("anyone", "read", "k")]
        journal.close()
    assert asked == [1]


def test_a_worker_without_the_credential_or_a_cluster_that_is_not_there_is_told(
    folder: Path, running: Running, tmp_path: Path
) -> None:
    ran = lantern("survey", "--engine", "dask", *AS_OF, cwd=folder)
    assert (ran.code, "--engine dask needs --scheduler" in ran.err) == (2, True)
    ran = surveyed(folder, "tcp://127.0.0.1:9")
    assert (ran.code, "no Dask scheduler answers" in ran.err) == (2, True)
    assert not (folder / "surveys" / TAKEN).exists()
    estate = folder / "estate.yaml"
    text = estate.read_text()
    estate.write_text(text.replace("credential: {file: harbour.credential}", "credential: {environment: HARBOUR}"))
    profile = ConfigParser()
    profile.read(folder / "harbour.credential")
    secrets = {f"HARBOUR_{name.removeprefix('aws_').upper()}": value for name, value in profile["default"].items()}
    words = ("--engine", "dask", "--scheduler", running.address, *AS_OF, "--only", "harbour/permit-archive")
    ended = lantern("survey", *words, cwd=folder, **secrets)
    assert "a worker of the Dask cluster has no credential" in ended.out + ended.err, ended
    assert not any(secret in ended.out + ended.err for secret in secrets.values())
