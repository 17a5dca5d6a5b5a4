"""Fixtures: the installed program, the demo's workspace, and stores on loopback."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web
from filelock import FileLock
from hypothesis import settings
from xdist.scheduler import LoadScopeScheduling

from rusty_lantern.archive.workspace import make
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import Served, serve_estate, workspace_files
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from tests.blob_server import blob_account
from tests.gateway import gateway, running_gateway
from tests.juicefs_server import juicefs
from tests.keystone_server import keystone_realm
from tests.seaweed_server import seaweed, seaweed_with_nobody
from tests.swift_server import swift_server
from tests.warm import FORKS, PROGRAM, Warm

__all__ = [
    "PROGRAM",
    "blob_account",
    "gateway",
    "juicefs",
    "keystone_realm",
    "running_gateway",
    "seaweed",
    "seaweed_with_nobody",
    "swift_server",
]

# The same examples on every run; LANTERN_EXPLORE=1 draws new ones.
settings.register_profile("fixed", derandomize=True, deadline=None)
settings.register_profile("explore", deadline=None)
settings.load_profile("explore" if os.environ.get("LANTERN_EXPLORE") else "fixed")


@dataclass(frozen=True)
class Ran:
    """What the installed program printed, and how it ended."""

    code: int
    out: str
    err: str


def begin(*words: str, cwd: Path) -> subprocess.Popen[str]:
    """Start the installed `lantern`, to be interrupted: also where the tests themselves run with interrupts ignored."""
    usual = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        return subprocess.Popen([str(PROGRAM), *words], cwd=cwd, stderr=subprocess.PIPE, text=True)
    finally:
        signal.signal(signal.SIGINT, usual)


_SURVEYED: dict[Path, int] = {}
"""Workspace → the second in which its last survey ended."""


def whole_or(usual: int, whole: int) -> int:
    """How much of a random law is tried: the usual part, or all of it with LANTERN_TESTS=whole."""
    return whole if os.environ.get("LANTERN_TESTS") == "whole" else usual


def lantern(*words: str, cwd: Path, **environment: str) -> Ran:
    """Run the installed `lantern`. A survey is named by its second: two of one workspace never begin in the same."""
    while words[:1] == ("survey",) and _SURVEYED.get(cwd, 0) >= int(time.time()) and "--as-of" not in words:
        time.sleep(0.02)
    inherited = {k: v for k, v in os.environ.items() if k not in ("NO_COLOR", "FORCE_COLOR", "COLUMNS")}
    early = any(name.startswith("PYTHON") for name in environment)  # what an interpreter reads as it starts
    if early or not FORKS:
        whole = subprocess.run([PROGRAM, *words], cwd=cwd, env=inherited | environment, capture_output=True, text=True)
        code, out, err = whole.returncode, whole.stdout, whole.stderr
    else:
        code, out, err = _warm().run(words, cwd, inherited | environment)
    assert "Traceback" not in err, err
    if words[:1] == ("survey",):
        _SURVEYED[cwd] = int(time.time())
    return Ran(code, out, err)


@cache
def _warm() -> Warm:
    """One for the whole test process."""
    return Warm()


@dataclass(frozen=True)
class Demo:
    """The demo's workspace, and the stand-in it was surveyed from."""

    folder: Path
    address: str
    store: Standin

    def run(self, *words: str, **environment: str) -> Ran:
        return lantern(*words, cwd=self.folder, **environment)


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """The store `harbour` of the demo estate, served and surveyed once."""
    folder = tmp_path_factory.mktemp("demo") / "workspace"
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)
    with serve(store.application()) as address:
        make(folder, workspace_files(address))
        made = Demo(folder, address, store)
        ran = made.run("survey", "--as-of", "2026-11-02T06:00:00Z")
        assert ran.code == 0, ran.err
        yield made


@dataclass(frozen=True)
class Whole:
    """The whole demo estate: four stores, one workspace."""

    folder: Path
    served: Served

    def run(self, *words: str, **environment: str) -> Ran:
        return lantern(*words, cwd=self.folder, **environment)


@pytest.fixture(scope="session")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Whole]:
    """The whole demo estate, served and surveyed once."""
    folder = tmp_path_factory.mktemp("whole") / "workspace"
    with serve_estate() as served:
        make(folder, workspace_files(served.addresses))
        made = Whole(folder, served)
        ran = made.run("survey", "--as-of", "2026-11-02T06:00:00Z")
        assert ran.code == 0, ran.err
        yield made


@dataclass(frozen=True)
class Lived:
    """What `lantern demo` leaves: two surveys a month apart, and no store that answers any more."""

    folder: Path
    out: str

    def run(self, *words: str, **environment: str) -> Ran:
        return lantern(*words, cwd=self.folder, **environment)


@pytest.fixture(scope="session")
def lived(tmp_path_factory: pytest.TempPathFactory) -> Lived:
    """The demo, run once for all test processes; each has a copy, so that none sees what another's commands keep."""
    base = tmp_path_factory.getbasetemp()
    once = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "lived-once"
    with FileLock(f"{once}.lock"):
        if not (once / "out.txt").exists():
            once.mkdir()
            ran = lantern("demo", "ws", cwd=once)
            assert ran.code == 0, ran.err
            (once / "out.txt").write_text(ran.out)
    folder = tmp_path_factory.mktemp("lived") / "ws"
    shutil.copytree(once / "ws", folder)
    return Lived(folder, (once / "out.txt").read_text())


@pytest.fixture
def workspace(tmp_path: Path) -> Path:
    """A workspace whose store nobody serves."""
    make(tmp_path / "ws", workspace_files("http://127.0.0.1:9"))
    return tmp_path / "ws"


def estate_for(folder: Path, address: str, extra: str = "", *, objects: bool = False) -> Path:
    """A workspace for a store at `address`, with the demo's credential; objects are only looked at where asked for."""
    make(folder, workspace_files(address))
    estate = folder / "estate.yaml"
    if not objects:
        estate.write_text(re.sub(r"    objects: \{[^}]*\}\n    sample: .*\n", "", estate.read_text()))
    if extra:
        with (folder / "estate.yaml").open("a") as stream:
            stream.write(extra)
    return folder


WITH_SERVER = {
    "keystone": ("test_keystone.py",),
    "gateway": ("test_gateway_tenants.py", "test_gateway_users.py", "test_real_stores.py", "test_gateway_decisions.py",
                "test_dialects.py", "test_gateway_retention.py", "test_identities.py", "test_gateway_doors.py",
                "test_gateway_settings.py", "test_gateway_remedies.py", "test_gateway_permissions.py",
                "test_gateway_acls.py", "test_gateway_bypass.py", "test_gateway_logins.py", "test_gateway_roles.py",
                "test_gateway_keys.py", "test_gateway_operations.py", "test_regions.py",
                "test_gateway_keystone.py", "test_gateway_payers.py", "test_customer_provided.py",
                "test_old_versions.py"),
    "swift": ("test_swift_decisions.py", "test_swift_objects.py", "test_swift_s3_door.py", "test_swift_versions.py",
              "test_swift_copies.py"),
    "blob": ("test_blob.py",),
    "seaweed": ("test_seaweed.py", "test_seaweed_doors.py"),
    "juicefs": ("test_juicefs.py",),
}  # fmt: skip
"""Server → the files whose tests need it: in one process, so that there is one of it. Those that take longest come
first; at the gateway, those that have every bucket listed, while there are few."""


class _Together(LoadScopeScheduling):  # type: ignore[misc]  # the package is not typed
    """Tests of one file run in one process, and all that need the same server in the same one."""

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0].rpartition("/")[2]
        return next((server for server, files in WITH_SERVER.items() if file in files), file)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Tests that need a server come first: they take longest, and nothing then waits for them alone at the end."""
    order = {file: n for n, files in enumerate(WITH_SERVER.values()) for file in files}
    items.sort(key=lambda item: order.get(item.path.name, len(order)))


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> _Together:
    """How tests are dealt out to processes."""
    return _Together(config, log)


def answering(respond: web.RequestHandler | object) -> web.Application:
    """An application that gives every request to one handler."""
    application = web.Application()
    application.router.add_route("*", r"/{tail:[\s\S]*}", respond)  # type: ignore[arg-type]
    return application
