"""The seam of stores: a reader of an invented protocol, entered into the table, works in every command at once."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import msgspec
import pytest
from aiohttp import web

from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.capabilities import FIELD_WORDS, PROTOCOLS
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.kinds import READERS
from tests.conftest import Ran

ROOT = Path(__file__).parent.parent
PROGRAM = (
    "import sys; import tests.example_reader; from rusty_lantern.__main__ import main; sys.argv[0] = 'lantern'; main()"
)
TOKEN = "not-a-real-token"
SHELVES = {
    "tide-leaflets": {
        "made": "2024-03-01T00:00:00Z",
        "open_to": "everybody",
        "keeps_old": True,
        "tags": {"steward": "a"},
    },
    "field-cards": {"made": "2025-05-05T00:00:00Z", "open_to": "readers", "keeps_old": False, "tags": {}},
    **{
        f"notes-{n}": {"made": "2025-01-01T00:00:00Z", "open_to": "nobody", "keeps_old": True, "tags": {"steward": "b"}}
        for n in range(8)
    },
}
LEAVES = [{"key": f"leaf-{n}.txt", "size": 10 + n, "written": "2026-01-01T00:00:00Z"} for n in range(3)]
ESTATE = """estate: shelves
stores:
  jetty:
    reads: shelves
    at: {address}
    plain-http: allowed
    credential: {{token: env:JETTY}}
    objects: all
"""
BASELINE = """sheets:
  - sheet: every shelf
    require:
      exposure.list: closed
      exposure.read: closed
      versioning: on
      lock.enabled: on
      objects.content-type: present
      objects.metadata.season: present
"""


@dataclass
class Store:
    """The invented store, simulated. What was asked, by method and path; `delay`: how late it answers."""

    delay: float = 0.0
    asked: list[str] = field(default_factory=list)

    def application(self) -> web.Application:
        app = web.Application()
        app.router.add_route("*", "/{path:.*}", self.answer)
        return app

    async def answer(self, request: web.Request) -> web.Response:
        self.asked.append(f"{request.method} {request.path}")
        await asyncio.sleep(self.delay)
        known = request.headers.get("authorization") == f"Bearer {TOKEN}"
        _, _, shelf, *rest = [*request.path.split("/"), ""][:5]
        if not shelf:
            return web.json_response(list(SHELVES)) if known else web.Response(status=401)
        open_to = {"": (), "list": ("everybody",), "read": ("everybody", "readers")}
        verb = "" if rest == [""] else "list" if len([part for part in rest if part]) < 2 else "read"
        if not known and SHELVES[shelf]["open_to"] not in open_to[verb]:
            return web.Response(status=403)
        if verb == "read":
            return web.Response(text="x", headers={"x-leaf-season": "spring"} if "0" in rest[1] else {})
        return web.json_response(LEAVES if verb == "list" else SHELVES[shelf])


@contextmanager
def shelves(folder: Path, delay: float = 0.0) -> Iterator[Store]:
    store = Store(delay)
    with serve(store.application()) as address:
        (folder / "estate.yaml").write_text(ESTATE.format(address=address))
        (folder / "baseline.yaml").write_text(BASELINE)
        yield store


def command(*words: str) -> list[str]:
    return [sys.executable, "-c", PROGRAM, *words]


def environment() -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": str(ROOT), "JETTY": TOKEN}


def run(folder: Path, *words: str) -> Ran:
    ended = subprocess.run(
        command(*words), cwd=folder, env=environment(), capture_output=True, text=True, timeout=600, check=False
    )
    assert "Traceback" not in ended.stderr, ended.stderr
    return Ran(ended.returncode, ended.stdout, ended.stderr)


def test_every_kind_has_a_reader_and_speaks_of_fields_that_there_are() -> None:
    assert PROTOCOLS.keys() == READERS.keys()
    assert FIELD_WORDS.keys() <= set(Bucket.__struct_fields__)
    for kind in PROTOCOLS.values():
        assert kind.tells <= FIELD_WORDS.keys()
        assert kind.of_store().keys() <= set(Dossier.__struct_fields__)


def test_a_reader_entered_into_the_table_works_in_every_command(tmp_path: Path) -> None:
    with shelves(tmp_path) as store:
        reached = run(tmp_path, "reach")
        assert (reached.code, "accepted" in reached.out) == (0, True), reached.out
        planned = run(tmp_path, "survey", "--dry-run")
        assert "10 buckets, at least 21 questions" in planned.out
        ran = run(tmp_path, "survey", "--probe", "--as-of", "2026-11-02T06:00:00Z")
        assert ran.code == 0, ran.err
    assert {asked.split()[0] for asked in store.asked} <= {"GET", "HEAD"}
    shown = json.loads(run(tmp_path, "exposure", "--json").out)
    levels = {
        b["bucket"]: {verb: v["verdict"] for verb, v in b["exposure"]["anyone"].items()} for b in shown["buckets"]
    }
    assert (levels["tide-leaflets"]["list"], levels["tide-leaflets"]["read"]) == ("open", "open")
    assert (levels["field-cards"]["list"], levels["field-cards"]["read"]) == ("closed", "open")
    assert (levels["notes-1"]["list"], levels["notes-1"]["read"]) == ("closed", "closed")
    audited = json.loads(run(tmp_path, "audit", "--json").out)
    drifted = {(d["bucket"], d["fact"]) for d in audited["drift"]}
    assert ("field-cards", "versioning") in drifted
    assert ("tide-leaflets", "objects.metadata.season") in drifted
    assert ("tide-leaflets", "exposure.list") in drifted
    unknown = {d["fact"] for d in audited["unknown"]}
    assert unknown == {"lock.enabled"}  # the protocol has no lock: not offered, and never fine
    probed = json.loads(run(tmp_path, "audit", "--json").out)
    assert not [d for d in probed["drift"] if d["fact"] == "doors"]
    remedy = run(tmp_path, "remedy", "jetty/field-cards")
    assert "<" not in remedy.out  # no document of a protocol that the store does not speak
    assert "right to read for anyone" in remedy.out


def test_its_survey_goes_on_after_it_was_killed(tmp_path: Path) -> None:
    whole, cut = tmp_path / "whole", tmp_path / "cut"
    whole.mkdir()
    cut.mkdir()
    moment = ("--as-of", "2026-11-02T06:00:00Z")
    with shelves(whole):
        assert run(whole, "survey", *moment).code == 0
    with shelves(cut, delay=0.2) as store:
        running = subprocess.Popen(command("survey", *moment), cwd=cut, env=environment(), stderr=subprocess.PIPE)
        deadline = time.monotonic() + 120
        while len(store.asked) < 30 and time.monotonic() < deadline:
            time.sleep(0.02)
        running.send_signal(signal.SIGKILL)
        running.wait()
        assert running.stderr is not None
        running.stderr.close()
        before, store.delay = len(store.asked), 0.0
        assert run(cut, "survey", "--resume").code == 0
        again = store.asked[before:]
    assert len(again) < 1 + 2 * len(SHELVES) + len(LEAVES) * len(SHELVES)
    name = "surveys/20261102T060000Z/stores/jetty.json"
    ours, theirs = (msgspec.json.decode((f / name).read_bytes()) for f in (cut, whole))
    del ours["address"], theirs["address"]
    assert ours == theirs
    shown = [run(folder, "objects", "jetty/field-cards", "--json").out for folder in (cut, whole)]
    assert shown[0] == shown[1] != ""


@pytest.mark.parametrize(("header", "kept"), [("x-leaf-season", True), ("x-amz-meta-a", False), ("etag", True)])
def test_a_journal_keeps_the_headers_that_the_reader_names(header: str, kept: bool) -> None:
    from tests.example_reader import SHELVES as ROW

    assert ROW.keeps(header) is kept
