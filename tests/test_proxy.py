"""A store that is spoken to through a proxy: a real one on loopback, which keeps a log of what went through it."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from tests.conftest import Ran, estate_for, lantern
from tests.gateway import free_ports
from tests.test_tls import certificate, secured

SURVEY = ("survey", "--only", "harbour/p*", "--as-of", "2026-11-02T06:00:00Z")


@dataclass(frozen=True)
class Proxy:
    """A running one."""

    at: str
    log: Path

    def ways(self) -> list[str]:
        """What it was asked for, a line each."""
        lines = self.log.read_text().splitlines()
        return [
            line.partition("Request (file descriptor ")[2].partition("): ")[2] for line in lines if "Request (" in line
        ]


@pytest.fixture
def proxy(tmp_path: Path) -> Iterator[Proxy]:
    if shutil.which("tinyproxy") is None:
        words = "needs Debian's tinyproxy-bin; see .ci/run"
        pytest.fail(words) if os.environ.get("LANTERN_GATEWAY") == "required" else pytest.skip(words)
    port, log = free_ports(1, 20480), tmp_path / "proxy.log"
    settings = tmp_path / "proxy.conf"
    settings.write_text(
        f'Port {port}\nListen 127.0.0.1\nTimeout 60\nMaxClients 50\nLogFile "{log}"\nLogLevel Connect\n'
    )
    running = subprocess.Popen(["tinyproxy", "-d", "-c", str(settings)], stdout=subprocess.DEVNULL)
    try:
        for _ in range(200):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield Proxy(f"http://127.0.0.1:{port}", log)
    finally:
        running.terminate()
        running.wait(timeout=20)


def surveyed(folder: Path, address: str, extra: str) -> tuple[Ran, str]:
    """The survey of a store, and its audit without what differs between two of them."""
    estate_for(folder, address, extra)
    ran = lantern(*SURVEY, cwd=folder)
    assert ran.code == 0, ran.err
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    rows = [row for status in ("drift", "unknown", "waived") for row in audit[status]]
    return ran, json.dumps(
        [[row["name"], row["fact"], row["observed"]] for row in rows if "plain-http" not in row["fact"]]
    )


def test_a_store_of_tls_is_read_through_a_proxy_which_sees_only_where_it_is(proxy: Proxy, tmp_path: Path) -> None:
    pem, secret = certificate(tmp_path, "127.0.0.1")
    with secured(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application(), pem, secret) as address:
        itself = surveyed(tmp_path / "itself", address, f"    ca: {pem}\n")[1]
        through = surveyed(tmp_path / "through", address, f"    ca: {pem}\n    proxy: {proxy.at}\n")[1]
        reached = lantern("reach", cwd=tmp_path / "through").out
    assert through == itself
    assert "certificate trusted" in reached
    host = address.removeprefix("https://")
    assert proxy.ways() and set(proxy.ways()) == {f"CONNECT {host} HTTP/1.1"}


def test_a_store_of_plain_http_is_read_through_it_as_well(proxy: Proxy, tmp_path: Path) -> None:
    with serve(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application()) as address:
        itself = surveyed(tmp_path / "itself", address, "")[1]
        assert not proxy.ways()
        assert surveyed(tmp_path / "through", address, f"    proxy: {proxy.at}\n")[1] == itself
    assert len(proxy.ways()) > 50 and all(way.startswith(f"GET {address}/") or "HEAD" in way for way in proxy.ways())


@pytest.mark.parametrize("store,words", [
    ("https://127.0.0.1:9", "the proxy gives no way to 127.0.0.1:9"),
    ("http://127.0.0.1:9", "answered 500"),
])  # fmt: skip
def test_what_a_proxy_says_in_a_stores_place_settles_nothing(
    proxy: Proxy, tmp_path: Path, store: str, words: str
) -> None:
    folder = estate_for(tmp_path / "ws", store, f"    proxy: {proxy.at}\n")
    ran = lantern(*SURVEY, "--json", cwd=folder)
    assert ran.code == 3 and words in json.loads(ran.out)["unread_stores"]["harbour"], ran.out


def test_a_proxy_that_is_not_there_and_one_with_a_password_are_told(tmp_path: Path) -> None:
    folder = estate_for(tmp_path / "ws", "https://store.example", "    proxy: http://127.0.0.1:9\n")
    ran = lantern(*SURVEY, "--json", cwd=folder)
    assert ran.code == 3 and "cannot connect to the proxy of store.example" in ran.out
    for written, told in (("http://u:p@proxy.example", "must not carry a user name"), ("proxy.example:1/x", "address")):
        refused = lantern("reach", cwd=estate_for(tmp_path / told[:4], "https://a.example", f"    proxy: {written}\n"))
        assert (refused.code, told in refused.err, "p@" in refused.err) == (2, True, False), refused.err
