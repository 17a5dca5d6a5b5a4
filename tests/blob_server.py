"""The real blob server, for tests: started once on loopback, and asked as a client asks it, signed or not."""

from __future__ import annotations

import base64
import hashlib
import hmac
import os
import subprocess
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from http.client import HTTPConnection
from pathlib import Path
from urllib.parse import quote, urlencode, urlsplit

import pytest

from rusty_lantern.stores.blob.shared_key import VERSION, SharedKey
from tests.gateway import free_ports, without_server

SCRIPT = Path(__file__).parent / "blob.sh"
KEY = b"sk-keeper-000"
KEY_TEXT = base64.b64encode(KEY).decode()


@dataclass(frozen=True)
class BlobAccount:
    """The account `keeper` of a running server."""

    at: str

    def send(
        self,
        method: str,
        path: str = "",
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        body: bytes = b"",
        *,
        signed: bool = True,
    ) -> tuple[int, bytes]:
        """Send one request below the account, with its key or without anything: status and body."""
        parts = urlsplit(self.at)
        text = urlencode(sorted((query or {}).items()), quote_via=quote)
        target = parts.path + path
        sent = {"x-ms-version": VERSION, **(headers or {})}
        if body:
            sent["content-length"] = str(len(body))
        if signed:
            sent["x-ms-date"] = format_datetime(datetime.now(UTC), usegmt=True)
            to_sign = SharedKey("keeper", KEY).to_sign(method, target, text, sent)  # type: ignore[arg-type]
            mac = base64.b64encode(hmac.new(KEY, to_sign.encode(), hashlib.sha256).digest()).decode()
            sent["authorization"] = f"SharedKey keeper:{mac}"
        connection = HTTPConnection(parts.hostname or "", parts.port or 80, timeout=60)
        try:
            connection.request(method, target + (f"?{text}" if text else ""), body=body, headers=sent)
            answer = connection.getresponse()
            return answer.status, answer.read()
        finally:
            connection.close()

    def make(self, name: str, level: str = "", **metadata: str) -> None:
        """A container with one blob, `a/o.txt`."""
        told = {f"x-ms-meta-{key}": value for key, value in metadata.items()}
        told |= {"x-ms-blob-public-access": level} if level else {}
        assert self.send("PUT", f"/{name}", {"restype": "container"}, told)[0] == 201
        self.put(name, "a/o.txt")

    def put(self, container: str, key: str, **headers: str) -> None:
        """A blob of five bytes; keyword `x_ms_tags` is the header `x-ms-tags`."""
        told = {"x-ms-blob-type": "BlockBlob"} | {name.replace("_", "-"): value for name, value in headers.items()}
        status, body = self.send("PUT", f"/{container}/{quote(key)}", None, told, b"hello")
        assert status == 201, body

    def store_policies(self, container: str, policies: Mapping[str, Mapping[str, str]], level: str = "") -> None:
        """Policies for links: name → Start, Expiry, Permission."""
        entries = "".join(
            f"<SignedIdentifier><Id>{name}</Id><AccessPolicy>"
            + "".join(f"<{part}>{value}</{part}>" for part, value in told.items())
            + "</AccessPolicy></SignedIdentifier>"
            for name, told in policies.items()
        )
        body = f'<?xml version="1.0" encoding="utf-8"?><SignedIdentifiers>{entries}</SignedIdentifiers>'.encode()
        headers = {"x-ms-blob-public-access": level} if level else {}
        query = {"restype": "container", "comp": "acl"}
        assert self.send("PUT", f"/{container}", query, headers, body)[0] == 200

    def link(self, container: str, key: str = "", **said: str) -> str:
        """A signed link for one container or blob. `said`: `sp`, `se`, `st`, `si`, …"""
        said = {"sv": "2020-12-06", "sr": "b" if key else "c", **said}
        resource = f"/blob/keeper/{container}" + (f"/{key}" if key else "")
        parts = [said.get(name, "") for name in ("sp", "st", "se")] + [resource]
        parts += [said.get(name, "") for name in ("si", "sip", "spr", "sv", "sr")]
        parts += ["", "", "", "", "", "", ""]  # snapshot, encryption scope, and five response headers
        mac = base64.b64encode(hmac.new(KEY, "\n".join(parts).encode(), hashlib.sha256).digest()).decode()
        path = f"/{container}" + (f"/{quote(key)}" if key else "")
        return f"{self.at}{path}?" + urlencode({**said, "sig": mac})

    def account_link(self, kinds: str, letters: str) -> str:
        """The query of a signed link for the account: types of resource, and permissions."""
        said = {"sv": "2020-12-06", "ss": "b", "srt": kinds, "sp": letters, "se": tomorrow()}
        parts = ["keeper", letters, "b", kinds, "", said["se"], "", "", said["sv"], "", ""]
        mac = base64.b64encode(hmac.new(KEY, "\n".join(parts).encode(), hashlib.sha256).digest()).decode()
        return urlencode({**said, "sig": mac})


def tomorrow(days: int = 1) -> str:
    """A moment some days ahead, as links write it."""
    return (datetime.now(UTC) + timedelta(days=days)).strftime("%Y-%m-%dT%H:%M:%SZ")


@pytest.fixture(scope="session")
def blob_account(tmp_path_factory: pytest.TempPathFactory) -> Iterator[BlobAccount]:
    """An account of a running blob server; without its package the test skips, unless LANTERN_GATEWAY=required."""
    if not (Path(os.environ.get("BLOB_SERVER", "/nowhere")) / "node_modules" / "azurite").is_dir():
        without_server("needs npm's azurite in the folder BLOB_SERVER; see .ci/run")
    folder, port = tmp_path_factory.mktemp("blob"), free_ports(1, 29100)
    subprocess.run(["bash", str(SCRIPT), "up", str(folder), str(port)], check=True, capture_output=True, timeout=300)
    try:
        yield BlobAccount(f"http://127.0.0.1:{port}/keeper")
    finally:
        subprocess.run(["bash", str(SCRIPT), "down", str(folder)], check=False, timeout=60)
