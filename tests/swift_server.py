"""The real Swift server, for tests: started once on loopback; and a door of its protocol as its users see it."""

from __future__ import annotations

import getpass
import os
import subprocess
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from http.client import HTTPConnection
from pathlib import Path
from urllib.parse import quote, urlsplit

import pytest

from tests.gateway import free_ports, without_server

SCRIPT = Path(__file__).parent / "swift.sh"
OWNER, DECK, READER = ("keeper:admin", "sk-keeper-000"), ("deck:admin", "sk-deck-000"), ("watch:reader", "sk-watch-000")
ROOT = ("root:root", "sk-root-000")


@dataclass
class SwiftDoor:
    """One account behind one door."""

    at: str
    """The account's address."""
    tokens: dict[str, str] = field(default_factory=dict)

    def token(self, user: tuple[str, str]) -> str:
        """The token of a user, fetched once."""
        if user[0] not in self.tokens:
            answer = self.send("GET", "/auth/v1.0", headers={"X-Auth-User": user[0], "X-Auth-Key": user[1]}, root=True)
            self.tokens[user[0]] = answer[1]["x-auth-token"]
        return self.tokens[user[0]]

    def send(
        self,
        method: str,
        path: str = "",
        user: tuple[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        body: bytes = b"",
        source: str = "127.0.0.1",
        root: bool = False,
    ) -> tuple[int, dict[str, str], bytes]:
        """Send one request below the account (or below the server's root): status, headers, body."""
        parts = urlsplit(self.at)
        sent = dict(headers or {}) | ({"X-Auth-Token": self.token(user)} if user else {})
        connection = HTTPConnection(parts.hostname or "", parts.port or 80, timeout=60, source_address=(source, 0))
        try:
            connection.request(method, ("" if root else parts.path) + path, body=body, headers=sent)
            answer = connection.getresponse()
            return answer.status, {k.lower(): v for k, v in answer.getheaders()}, answer.read()
        finally:
            connection.close()

    def make(self, user: tuple[str, str], name: str, keys: tuple[str, ...] = ("a.txt",), **headers: str) -> None:
        """A container with objects; keyword `X_Container_Read` is the header `X-Container-Read`."""
        told = {header.replace("_", "-"): value for header, value in headers.items()}
        status, _, body = self.send("PUT", f"/{quote(name)}", user, told)
        assert status in (201, 202), (name, told, status, body)
        for key in keys:
            assert self.send("PUT", f"/{quote(name)}/{quote(key)}", user, body=b"x")[0] == 201


def _python() -> str | None:
    if os.environ.get("SWIFT_PYTHON"):
        return os.environ["SWIFT_PYTHON"]
    found = subprocess.run(["/usr/bin/python3", "-c", "import swift"], capture_output=True, check=False)
    return "/usr/bin/python3" if found.returncode == 0 else None


FOLDERS: dict[str, Path] = {}
"""Address of a running server → its folder."""

SYNCHRONIZER = """
import sys
from swift.common import utils
utils.set_swift_dir(sys.argv[1])  # before anything else is imported
from swift.common.daemon import run_daemon
from swift.container.sync import ContainerSync
run_daemon(ContainerSync, sys.argv[2], section="container-sync", once=True)
"""
SETTINGS = {
    "synchronizer.conf": "[DEFAULT]\nswift_dir = {etc}\ndevices = {etc}/../srv\nmount_check = false\nuser = {user}\n"
    "bind_ip = 127.0.0.1\nbind_port = {port}\n[container-sync]\ninternal_client_conf_path = {etc}/internal.conf\n",
    "internal.conf": "[DEFAULT]\nswift_dir = {etc}\n[pipeline:main]\npipeline = catch_errors proxy-server\n"
    "[app:proxy-server]\nuse = egg:swift#proxy\n[filter:catch_errors]\nuse = egg:swift#catch_errors\n",
}


def synchronize(address: str) -> None:
    """Have the server's own daemon look once at what is to be synchronized."""
    etc, container_port = FOLDERS[address] / "etc", (urlsplit(address).port or 0) + 2
    for name, text in SETTINGS.items():
        (etc / name).write_text(text.format(etc=etc, user=getpass.getuser(), port=container_port))
    command = [_python() or "", "-c", SYNCHRONIZER, str(etc), str(etc / "synchronizer.conf")]
    subprocess.run(command, check=True, capture_output=True, timeout=300)


@pytest.fixture(scope="session")
def swift_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a running Swift; without its packages the test skips, unless LANTERN_GATEWAY=required."""
    python = _python()
    if python is None:
        without_server("needs Debian's swift-proxy, swift-account, swift-container, swift-object; see .ci/run")
    folder, port = tmp_path_factory.mktemp("swift"), free_ports(5, 28080)
    environment = os.environ | {"SWIFT_PYTHON": python, "SWIFT_CACHE": "dict"}
    subprocess.run(
        ["bash", str(SCRIPT), "up", str(folder), str(port)],
        check=True, capture_output=True, timeout=600, env=environment,
    )  # fmt: skip
    FOLDERS[f"http://127.0.0.1:{port}"] = folder
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        subprocess.run(["bash", str(SCRIPT), "down", str(folder)], check=False, timeout=120)
