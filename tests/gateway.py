"""The real object gateway, for tests: started once, on loopback, in memory."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import cache
from http.client import HTTPConnection, HTTPException
from pathlib import Path
from typing import Any, Literal, NoReturn
from urllib.parse import unquote

import pytest
from botocore.exceptions import ClientError

from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.sigv4 import canonical_query, sign

NEEDED = ("ceph-mon", "ceph-mgr", "ceph-osd", "radosgw", "radosgw-admin")
SCRIPT = Path(__file__).parent / "gateway.sh"


@dataclass(frozen=True)
class Gateway:
    """Its address, its folder, and the two users that the script makes."""

    address: str
    folder: Path = Path()
    keeper: tuple[str, str] = ("AKKEEPER", "sk-keeper-000")
    deck: tuple[str, str] = ("AKDECK", "sk-deck-000")
    swift: tuple[str, str] = ("", "")
    """The keeper's login at the Swift door."""

    def restart(self) -> None:
        """Stop its front end and start it again."""
        subprocess.run(["bash", str(SCRIPT), "restart", str(self.folder)], check=True, capture_output=True, timeout=300)

    @contextmanager
    def set_up_with(self, *settings: str) -> Iterator[None]:
        """Other settings of its front end, for a while."""
        configuration = self.folder / "ceph.conf"
        usual = configuration.read_text()
        try:
            configuration.write_text(usual.replace("[client.rgw]\n", "\n".join(["[client.rgw]", *settings, ""])))
            self.restart()
            self.heard()
            yield
        finally:
            configuration.write_text(usual)
            self.restart()
            self.heard()

    def heard(self) -> None:
        """Wait until its front end answers."""
        host = self.address.removeprefix("http://")
        for _ in range(600):
            with suppress(OSError, HTTPException), closing(HTTPConnection(host, timeout=5)) as connection:
                connection.request("GET", "/")
                connection.getresponse()
                return
            time.sleep(0.1)
        raise AssertionError(f"nobody answers at {self.address}")

    def log(self) -> str:
        """What it wrote down about every request."""
        return (self.folder / "log" / "client.rgw.log").read_text(errors="replace")

    def regions(self, user: tuple[str, str]) -> tuple[str, str]:
        """Start a store of two regions beside it, with one user: the addresses of north and south."""
        port = free_ports(2, 18480)
        words = ["regions", str(self.folder), str(port), *user]
        subprocess.run(["bash", str(SCRIPT), *words], check=True, capture_output=True, timeout=300)
        return f"http://127.0.0.1:{port}", f"http://127.0.0.1:{port + 1}"

    def admin(self, *words: str) -> None:
        """Run its administration command."""
        command = ["radosgw-admin", "-c", str(self.folder / "ceph.conf"), *words]
        subprocess.run(command, check=True, capture_output=True, timeout=300)

    def client(self, user: tuple[str, str] | None = None) -> Any:
        """A standard client."""
        return standard_client(self.address, *(user or self.keeper))


def send_to(
    address: str,
    pair: tuple[str, str] | None,
    method: str,
    path: str,
    query: str = "",
    headers: dict[str, str] | None = None,
    body: bytes = b"",
) -> tuple[int, bytes]:
    """Status and body of one request; without a pair of keys it is not signed. `query` may have parts without `=`."""
    host, sent = address.removeprefix("http://"), dict(headers or {})
    if pair:
        parts = [(part.partition("=")[0], unquote(part.partition("=")[2])) for part in query.split("&") if part]
        extra = {"x-amz-content-sha256": "UNSIGNED-PAYLOAD", **sent}
        now, key = datetime.now(UTC), AccessKey(*pair)
        sent = dict(sign(key, method, host, path, canonical_query(parts), now, "us-east-1", extra))
    connection = HTTPConnection(host, timeout=60)
    try:
        connection.request(method, path + (f"?{query}" if query else ""), body=body, headers=sent)
        answer = connection.getresponse()
        return answer.status, answer.read()
    finally:
        connection.close()


@contextmanager
def empty_mock_server() -> Iterator[str]:
    """The address of a mock server that holds nothing: all of one process share what they hold."""
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    try:
        assert send_to(f"http://{host}:{port}", None, "POST", "/moto-api/reset")[0] == 200
        yield f"http://{host}:{port}"
    finally:
        server.stop()


def takes_policy(client: Any, bucket: str, text: str) -> bool:
    """Whether a server takes a bucket's policy from a standard client."""
    try:
        client.put_bucket_policy(Bucket=bucket, Policy=text)
    except ClientError:
        return False
    return True


@cache
def standard_client(
    address: str, key_id: str, secret: str, region: str = "us-east-1", service: Literal["s3", "iam"] = "s3"
) -> Any:
    """The usual SDK's client for an S3-compatible store. Each is made once: that takes a twentieth of a second."""
    import boto3
    from botocore.config import Config

    return boto3.client(
        service,
        endpoint_url=address,
        aws_access_key_id=key_id,
        aws_secret_access_key=secret,
        region_name=region,
        config=Config(s3={"addressing_style": "path"}, retries={"max_attempts": 1}),
    )


def free_ports(count: int, first: int = 17480) -> int:
    """The first of `count` consecutive free ports, from `first` on; test processes begin at other ones, since two may
    look at the same time."""
    first += 200 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
    for start in range(first, first + 10_000, 10):
        try:
            for port in range(start, start + count):
                with socket.socket() as probe:
                    probe.bind(("127.0.0.1", port))
        except OSError:
            continue
        return start
    raise OSError("no free ports")


def without_server(words: str) -> NoReturn:
    """Skip a test whose server is not installed; fail where every server must run, as in `.ci/run`."""
    if os.environ.get("LANTERN_GATEWAY") == "required":
        pytest.fail(words)
    pytest.skip(words)


@pytest.fixture(scope="session")
def running_gateway(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Gateway]:
    """A running gateway; without its packages the test skips, unless LANTERN_GATEWAY=required."""
    missing = [name for name in NEEDED if shutil.which(name) is None]
    if missing:
        words = f"needs Debian's radosgw, ceph-mon, ceph-mgr, ceph-osd (missing: {', '.join(missing)}); see .ci/run"
        without_server(words)
    folder, port = tmp_path_factory.mktemp("gateway"), free_ports(3)
    subprocess.run(["bash", str(SCRIPT), "up", str(folder), str(port)], check=True, capture_output=True, timeout=600)
    try:
        yield Gateway(f"http://127.0.0.1:{port}", folder)
    finally:
        subprocess.run(["bash", str(SCRIPT), "down", str(folder)], check=False, timeout=120)


@pytest.fixture(scope="module")
def gateway(request: pytest.FixtureRequest, running_gateway: Gateway) -> Gateway:
    """The gateway, with a user of this module's own: it lists no other module's buckets."""
    name = request.module.__name__.rpartition("_")[2]
    key, secret = f"AK{name.upper()}", f"sk-{name}-000"
    named = (f"--uid=keeper-{name}", "--display-name=K", f"--access-key={key}", f"--secret={secret}")
    running_gateway.admin("user", "create", *named, "--max-buckets=100000")
    login = (f"--uid=keeper-{name}", f"--subuser=keeper-{name}:swift", "--access=full", "--key-type=swift")
    running_gateway.admin("subuser", "create", *login, "--secret=sk-swift-000")
    return replace(running_gateway, keeper=(key, secret), swift=(f"keeper-{name}:swift", "sk-swift-000"))
