"""A real Keystone and a real Swift whose users it has: started once on loopback, with people of every sort."""

from __future__ import annotations

import base64
import hmac
import json
import os
import subprocess
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.client import HTTPConnection
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import pytest

from tests.gateway import free_ports, without_server
from tests.swift_server import SwiftDoor

HERE = Path(__file__).parent
ADMIN = ("admin", "sk-admin-000", "Default")
PASSWORD = "sk-people-000"


@dataclass
class Keystone:
    """The service as its administrator sees it, and tokens as its users get them."""

    at: str
    token: str = ""
    tokens: dict[str, str] = field(default_factory=dict)

    def send(self, method: str, path: str, body: Mapping[str, Any] | None = None, token: str = "") -> tuple[int, Any]:
        """Send one request below `/v3`: status, and the body as JSON."""
        status, _, answer = self._send(method, path, body, token or self.token)
        return status, answer

    def _send(self, method: str, path: str, body: Any, token: str) -> tuple[int, dict[str, str], Any]:
        parts = urlsplit(self.at)
        connection = HTTPConnection(parts.hostname or "", parts.port or 80, timeout=60)
        headers = {"Content-Type": "application/json"} | ({"X-Auth-Token": token} if token else {})
        try:
            connection.request(method, parts.path + path, json.dumps(body) if body is not None else None, headers)
            answer = connection.getresponse()
            told = answer.read()
            return answer.status, {k.lower(): v for k, v in answer.getheaders()}, json.loads(told) if told else None
        finally:
            connection.close()

    def make(self, kind: str, path: str, **about: Any) -> str:
        """Make one thing of a kind; its id."""
        status, answer = self.send("POST", path, {kind: about})
        assert status == 201, (kind, about, status, answer)
        return str(answer[kind]["id"])

    def give(self, path: str) -> None:
        """Give a role: `/projects/P/users/U/roles/R` and the like."""
        status, answer = self.send("PUT", path)
        assert status == 204, (path, status, answer)

    def sign_in_as_administrator(self) -> None:
        """Have a token of its administrator."""
        status, self.token = self.sign_in({
            "identity": {"methods": ["password"], "password": {"user": {
                "name": ADMIN[0], "password": ADMIN[1], "domain": {"name": ADMIN[2]}}}},
            "scope": {"project": {"name": "admin", "domain": {"name": "Default"}}},
        })  # fmt: skip
        assert status == 201

    def sign_in(self, auth: Mapping[str, Any]) -> tuple[int, str]:
        """Ask for a token: status and token."""
        status, headers, _ = self._send("POST", "/auth/tokens", {"auth": auth}, "")
        return status, headers.get("x-subject-token", "")

    def as_user(self, user: str, project: str = "", password: str = PASSWORD) -> str:
        """The token of a user by its id, for a project or for none."""
        key = f"{user} {project}"
        if key not in self.tokens:
            auth: dict[str, Any] = {"identity": {"methods": ["password"],
                                                 "password": {"user": {"id": user, "password": password}}},
                                    "scope": {"project": {"id": project}} if project else "unscoped"}  # fmt: skip
            status, token = self.sign_in(auth)
            assert status == 201, (user, project, status)
            self.tokens[key] = token
        return self.tokens[key]

    def by_trust(self, user: str, trust: str) -> tuple[int, str]:
        """Ask for a token that a user by its id has by a trust: status and token."""
        identity = {"methods": ["token"], "token": {"id": self.as_user(user)}}
        return self.sign_in({"identity": identity, "scope": {"OS-TRUST:trust": {"id": trust}}})

    def by_s3_key(self, access: str, secret: str) -> str:
        """The token that the store is given for a request that an S3 key has signed."""
        sent = {"SignatureVersion": "2", "SignatureMethod": "HmacSHA256", "AWSAccessKeyId": access,
                "Timestamp": "2030-01-01T00:00:00Z"}  # fmt: skip
        query = "&".join(f"{name}={quote(value, safe='')}" for name, value in sorted(sent.items()))
        digest = hmac.digest(secret.encode(), f"GET\nhost\n/\n{query}".encode(), "sha256")
        signed = {"access": access, "signature": base64.b64encode(digest).decode(), "host": "host", "verb": "GET",
                  "path": "/", "params": sent}  # fmt: skip
        status, headers, answer = self._send("POST", "/ec2tokens", {"credentials": signed}, self.token)
        assert status == 200, answer
        return headers["x-subject-token"]


@dataclass
class People:
    """Ids of what was made, by name."""

    projects: dict[str, str] = field(default_factory=dict)
    users: dict[str, str] = field(default_factory=dict)
    roles: dict[str, str] = field(default_factory=dict)
    secrets: list[str] = field(default_factory=list)
    application: dict[str, tuple[str, str]] = field(default_factory=dict)
    ruled: dict[str, tuple[str, str]] = field(default_factory=dict)
    """Application credentials of the owner's, each with access rules of one form."""
    s3_keys: dict[str, tuple[str, str]] = field(default_factory=dict)
    trusts: dict[str, str] = field(default_factory=dict)
    """Who was given one → the trust."""


@dataclass
class Realm:
    """Both servers."""

    keystone: Keystone
    swift: str
    people: People

    def account(self, project: str) -> SwiftDoor:
        """The account of a project."""
        return SwiftDoor(f"{self.swift}/v1/AUTH_{self.people.projects[project]}")


USERS = ("keeper", "clerk", "looker", "warden", "deck", "drifter", "robot", "gone", "elsewhere", "helper", "overseer",
         "mate")  # fmt: skip
HELD = (
    ("keeper", "harbour", "admin"), ("clerk", "harbour", "odd"), ("looker", "harbour", "reader"),
    ("deck", "deckhouse", "member"), ("robot", "deckhouse", "member"), ("gone", "harbour", "admin"),
    ("elsewhere", "deckhouse", "admin"), ("helper", "harbour", "swiftoperator"),
    ("overseer", "deckhouse", "ResellerAdmin"), ("keeper", "harbour", "boatswain"),
)  # fmt: skip
"""User, project, role."""


def populate(keystone: Keystone, swift: str) -> People:
    """People of every sort: owners, readers, members of groups, disabled ones, keys, trusts."""
    keystone.sign_in_as_administrator()
    made = People()
    # access rules of application credentials hold for services that the catalog lists
    service = keystone.make("service", "/services", name="objects", type="object-store")
    url = f"{swift}/v1/AUTH_%(project_id)s"
    keystone.make("endpoint", "/endpoints", interface="public", service_id=service, url=url, region_id="here")
    domain = keystone.make("domain", "/domains", name="saltmarsh")
    shut = keystone.make("domain", "/domains", name="shut")
    listed = keystone.send("GET", "/roles")[1]["roles"]
    made.roles = {role["name"]: role["id"] for role in listed}
    for role in ("odd", "swiftoperator", "ResellerAdmin", "boatswain"):
        made.roles[role] = keystone.make("role", "/roles", name=role)
    status, _ = keystone.send("PUT", f"/roles/{made.roles['boatswain']}/implies/{made.roles['member']}")
    assert status == 201
    for project in ("harbour", "deckhouse", "laid-up"):
        made.projects[project] = keystone.make("project", "/projects", name=project, domain_id=domain)
    for user in USERS:
        made.users[user] = keystone.make("user", "/users", name=user, domain_id=domain, password=PASSWORD)
    made.users["locked-in"] = keystone.make("user", "/users", name="locked-in", domain_id=shut, password=PASSWORD)
    for user, project, role in HELD:
        keystone.give(f"/projects/{made.projects[project]}/users/{made.users[user]}/roles/{made.roles[role]}")
    keystone.give(f"/projects/{made.projects['harbour']}/users/{made.users['locked-in']}/roles/{made.roles['admin']}")
    keystone.give(f"/projects/{made.projects['laid-up']}/users/{made.users['drifter']}/roles/{made.roles['admin']}")
    keystone.give(f"/system/users/{made.users['looker']}/roles/{made.roles['reader']}")
    group = keystone.make("group", "/groups", name="wardens", domain_id=domain)
    keystone.give(f"/groups/{group}/users/{made.users['warden']}")
    keystone.give(f"/projects/{made.projects['harbour']}/groups/{group}/roles/{made.roles['member']}")
    _own_things(keystone, made)
    for path, about in (
        (f"/users/{made.users['gone']}", {"user": {"enabled": False}}),
        (f"/domains/{shut}", {"domain": {"enabled": False}}),
        (f"/projects/{made.projects['laid-up']}", {"project": {"enabled": False}}),
        (f"/users/{made.users['robot']}", {"user": {"options": {
            "multi_factor_auth_enabled": True, "multi_factor_auth_rules": [["password", "totp"]]}}}),
    ):  # fmt: skip
        assert keystone.send("PATCH", path, about)[0] == 200
    return made


RULED = (
    "GET /v1/*/c00/*", "GET /v1/*/c00/**", "GET /v1/{account}/c0{x}/a.txt", "GET /*/ACC/c00, HEAD /v1/ACC/c01/",
    "PUT /v1/ACC/c00/**", "GET /v1/ACC/c00/a%20b, DELETE /v1/ACC/c00/a b", "GET /v1/ACC/c.0/a.txt",
    "PUT /v1/ACC/c00/*, GET /v1/ACC/{any}/new", "PUT /v1/ACC/c00/dir/*, GET /v1/ACC/c00/*",
    "PUT /v1/ACC/c00/*, DELETE /v1/ACC/c00/*", "POST /v1/ACC/**", "POST /v1/ACC", "GET /v1/ACC**", "GET /v1/other/**",
)  # fmt: skip
"""Access rules in forms that go further than they look, or less far; ACC is the owner's account."""


def _own_things(keystone: Keystone, made: People) -> None:
    """What the owner makes for itself: application credentials, a key for the S3 protocol, a trust."""
    keeper, harbour = made.users["keeper"], made.projects["harbour"]
    token = keystone.as_user(keeper, harbour)
    rules = [
        {"service": "object-store", "path": f"/v1/AUTH_{harbour}/**", "method": method} for method in ("GET", "HEAD")
    ]
    rules += [{"service": "object-store", "path": f"/v1/AUTH_{harbour}", "method": m} for m in ("GET", "HEAD")]
    kinds: tuple[tuple[str, dict[str, Any]], ...] = (
        ("nightly", {"access_rules": rules, "expires_at": "2031-01-01T00:00:00Z"}),
        ("forever", {"unrestricted": True}),
        ("glance", {"roles": [{"name": "reader"}]}),
    )
    for name, about in kinds:
        status, answer = keystone.send(
            "POST",
            f"/users/{keeper}/application_credentials",
            {"application_credential": {"name": name, **about}},
            token,
        )
        assert status == 201, answer
        told = answer["application_credential"]
        made.application[name] = (told["id"], told["secret"])
        made.secrets.append(told["secret"])
    for words in RULED:
        each = [one.partition(" ") for one in words.replace("ACC", f"AUTH_{harbour}").split(", ")]
        told = {"name": words, "access_rules": [
            {"service": "object-store", "method": method, "path": path} for method, _, path in each]}  # fmt: skip
        path = f"/users/{keeper}/application_credentials"
        status, answer = keystone.send("POST", path, {"application_credential": told}, token)
        assert status == 201, answer
        made.ruled[words] = (answer["application_credential"]["id"], answer["application_credential"]["secret"])
        made.secrets.append(answer["application_credential"]["secret"])
    status, answer = keystone.send("POST", f"/users/{keeper}/credentials/OS-EC2", {"tenant_id": harbour}, token)
    assert status == 201, answer
    made.s3_keys["keeper"] = (answer["credential"]["access"], answer["credential"]["secret"])
    made.secrets.append(answer["credential"]["secret"])
    trusts: tuple[tuple[str, dict[str, Any]], ...] = (
        ("robot", {"impersonation": True, "roles": [{"name": "admin"}], "expires_at": "2031-06-01T00:00:00.000000Z"}),
        ("mate", {"impersonation": False, "roles": [{"name": "boatswain"}]}),
        ("drifter", {"impersonation": True, "roles": [{"name": "admin"}], "remaining_uses": 1}),
    )
    for who, about in trusts:
        trust = {"trustor_user_id": keeper, "trustee_user_id": made.users[who], "project_id": harbour} | about
        status, answer = keystone.send("POST", "/OS-TRUST/trusts", {"trust": trust}, token)
        assert status == 201, answer
        made.trusts[who] = answer["trust"]["id"]
    # one that is used up: the service goes on listing it, and gives no token by it
    assert keystone.by_trust(made.users["drifter"], made.trusts["drifter"])[0] == 201
    key = {"access": "5a17c0ffee5a17c0", "secret": "sk-of-a-trust-000", "trust_id": made.trusts["mate"]}
    keystone.make("credential", "/credentials", type="ec2", user_id=made.users["mate"], project_id=harbour,
                  blob=json.dumps(key))  # fmt: skip
    made.s3_keys["mate"] = (key["access"], key["secret"])
    made.secrets.append(key["secret"])


def _python() -> str | None:
    """A python that has both servers: one that is named, or the one that `.ci/run` makes."""
    usual = Path.home() / ".cache" / "lantern-test-servers" / "bin" / "python"
    found = Path(os.environ.get("LANTERN_KEYSTONE_PYTHON", usual))
    if not found.exists():
        return None
    has = subprocess.run([found, "-c", "import keystone, swift, keystonemiddleware"], capture_output=True, check=False)
    return str(found) if has.returncode == 0 else None


def python_of_servers() -> str:
    """A python that has both servers; without one the test skips, unless LANTERN_GATEWAY=required."""
    python = _python()
    if python is None:
        without_server("needs pip's keystone, swift and keystonemiddleware; see .ci/run")
    return python


@contextmanager
def keystone_below(folder: Path) -> Iterator[Keystone]:
    """A Keystone of its own, with nobody but its administrator, who is signed in."""
    port, ways = free_ports(1, 26000), {"KEYSTONE_PYTHON": python_of_servers()}
    script = ["bash", str(HERE / "keystone.sh")]
    done = subprocess.run([*script, "up", str(folder), str(port)], capture_output=True, text=True, timeout=600,
                          env=os.environ | ways, check=False)  # fmt: skip
    try:
        assert done.returncode == 0, done.stderr
        keystone = Keystone(f"http://127.0.0.1:{port}/v3")
        keystone.sign_in_as_administrator()
        yield keystone
    finally:
        subprocess.run([*script, "down", str(folder)], check=False, timeout=120, stderr=sys.stderr)


@pytest.fixture(scope="session")
def keystone_realm(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Realm]:
    """Both servers, running; without them the test skips, unless LANTERN_GATEWAY=required."""
    python = python_of_servers()
    folders = [tmp_path_factory.mktemp(name) for name in ("keystone", "swift-of-keystone")]
    port = free_ports(1, 25000)
    swift_port = free_ports(5, 25080)
    ways = {"KEYSTONE_PYTHON": python, "SWIFT_PYTHON": python, "SWIFT_CACHE": "dict",
            "SWIFT_KEYSTONE": f"http://127.0.0.1:{port}"}  # fmt: skip
    scripts = [(HERE / "keystone.sh", folders[0], port), (HERE / "swift.sh", folders[1], swift_port)]
    try:
        for script, folder, at in scripts:
            up = ["bash", str(script), "up", str(folder), str(at)]
            done = subprocess.run(up, capture_output=True, text=True, timeout=600, env=os.environ | ways, check=False)
            assert done.returncode == 0, done.stderr
        keystone = Keystone(f"http://127.0.0.1:{port}/v3")
        swift = f"http://127.0.0.1:{swift_port}"
        yield Realm(keystone, swift, populate(keystone, swift))
    finally:
        for script, folder, _ in reversed(scripts):
            subprocess.run(["bash", str(script), "down", str(folder)], check=False, timeout=120, stderr=sys.stderr)
