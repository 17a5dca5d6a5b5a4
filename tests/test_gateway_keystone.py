"""A real gateway that takes tokens of a real Keystone: what the service's users can do there, through either door."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.client import HTTPConnection
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec
import pytest

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.config.estate import RoleMeanings
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import AttachedPolicy, Identity
from rusty_lantern.core.model.unlisted import any_of
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.harbour import MOMENT
from rusty_lantern.stores.keystone.at_gateway import (
    OF_KEYSTONE,
    OWN_USERS,
    GatewayAccounts,
    at_gateway,
    beside_own_users,
)
from rusty_lantern.stores.keystone.permissions import Held
from tests.conftest import lantern
from tests.gateway import Gateway, send_to, standard_client
from tests.keystone_server import ADMIN, PASSWORD, Keystone, keystone_below
from tests.test_gateway_users import create_auditor, policy, surveyed, workspace

HELD = {"ann": ("marsh", "member"), "ben": ("marsh", "admin"), "cat": ("fen", "member"), "dan": ("fen", "reader"),
        "eve": ("fen", "harbourmaster")}  # fmt: skip
"""User → project and role."""
MEANT = RoleMeanings(operator=frozenset({"member"}), reseller_admin=frozenset({"harbourmaster"}))
NAMES = ("*:*", "*", ".r:*", "{fen}", "fen", "{fen}:*", "{fen}:{cat}", "fen:cat", "*:{cat}", "*:cat", "{cat}", "cat",
         "member", "fen:*", "{fen}:cat", "fen:{cat}")  # fmt: skip
ACLS = {f"reed-{side}-{n}": (side, name) for side in ("read", "write") for n, name in enumerate(NAMES)}
"""Container → what its ACL names."""
POLICIES = {
    "reed-refused": ("Deny", "*"), "reed-project": ("Allow", {"AWS": "arn:aws:iam:::user/{fen}"}),
    "reed-not-owners": ("Deny", {"AWS": "arn:aws:iam:::user/{marsh}"}),
    "reed-user": ("Allow", {"AWS": "arn:aws:iam:::user/{cat}"}), "reed-all": ("Allow", "*"),
}  # fmt: skip
ACTIONS = ["s3:GetObject", "s3:GetObjectVersion", "s3:ListBucket*", "s3:PutObject"]


@dataclass
class Reeds:
    """The gateway, the service, and whom it knows."""

    gateway: Gateway
    keystone: Keystone
    ids: dict[str, str] = field(default_factory=dict)
    """Ids of projects and users, by name."""
    keys: dict[str, tuple[str, str]] = field(default_factory=dict)
    """User → its key for the S3 protocol."""
    public: dict[tuple[str, str], bool] = field(default_factory=dict)
    """Bucket and verb → whether anybody gets through without credentials."""

    def written(self, text: str) -> str:
        """A text with ids in place of names in braces."""
        for name, title in self.ids.items():
            text = text.replace(f"{{{name}}}", title)
        return text

    def at_swift(self, user: str | None, line: str, headers: dict[str, str] | None = None) -> int:
        """The status of a request with a token of a user, or with none."""
        method, path = line.split(" ", 1)
        token = {"X-Auth-Token": self.keystone.as_user(self.ids[user], self.ids[HELD[user][0]])} if user else {}
        connection = HTTPConnection(urlsplit(self.gateway.address).netloc, timeout=60)
        body = b"x" if method in ("PUT", "POST") else None
        connection.request(method, f"/swift/v1{path}", body, token | (headers or {}))
        answer = connection.getresponse()
        answer.read()
        connection.close()
        return answer.status

    def passes(self, user: str, bucket: str, verb: str) -> bool:
        """Whether a user gets through at either door, with credentials or without."""
        method, rest = {"list": ("GET", "/"), "read": ("GET", "/o"), "write": ("PUT", "/new")}[verb]
        if (bucket, verb) not in self.public:
            at_s3 = send_to(self.gateway.address, None, method, f"/{bucket}{rest}".rstrip("/"))[0]
            self.public[bucket, verb] = min(at_s3, self.at_swift(None, f"{method} /{bucket}{rest}")) < 300
        return (
            self.public[bucket, verb]
            or self.at_swift(user, f"{method} /{bucket}{rest}") < 300
            or send_to(self.gateway.address, self.keys[user], method, f"/{bucket}{rest}".rstrip("/"))[0] < 300
        )


def populate(reeds: Reeds) -> None:
    """Users with a role on a project each, and buckets of `marsh`."""
    keystone = reeds.keystone
    roles = {role["name"]: role["id"] for role in keystone.send("GET", "/roles")[1]["roles"]}
    roles["harbourmaster"] = keystone.make("role", "/roles", name="harbourmaster")
    for project in ("marsh", "fen"):
        reeds.ids[project] = keystone.make("project", "/projects", name=project, domain_id="default")
    for user, (project, role) in HELD.items():
        reeds.ids[user] = keystone.make("user", "/users", name=user, password=PASSWORD, domain_id="default")
        keystone.give(f"/projects/{reeds.ids[project]}/users/{reeds.ids[user]}/roles/{roles[role]}")
        told = {"tenant_id": reeds.ids[project]}
        status, answer = keystone.send("POST", f"/users/{reeds.ids[user]}/credentials/OS-EC2", told)
        assert status == 201, answer
        reeds.keys[user] = (answer["credential"]["access"], answer["credential"]["secret"])
    for name, (side, names) in {"reed-plain": ("read", ""), **ACLS}.items():
        headers = {f"X-Container-{side.title()}": reeds.written(names)} if names else {}
        status = reeds.at_swift("ann", f"PUT /{name}", headers)
        assert status == 201 or (status, names) == (400, ".r:*"), (name, names, status)
    client = standard_client(reeds.gateway.address, *reeds.keys["ann"])
    for name, (effect, who) in POLICIES.items():
        assert reeds.at_swift("ann", f"PUT /{name}") == 201
        assert reeds.at_swift("ann", f"PUT /{name}/o") == 201
        client.put_bucket_policy(Bucket=name, Policy=reeds.written(policy(name, effect, who, ACTIONS)))
    for name in ("reed-plain", *ACLS):
        assert reeds.at_swift("ann", f"PUT /{name}/o") in (201, 404)


@pytest.fixture(scope="module")
def reeds(gateway: Gateway, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Reeds]:
    """The gateway with users of a Keystone, and an auditor of its own."""
    create_auditor(gateway, "sexton", "dykereeve")
    with keystone_below(tmp_path_factory.mktemp("keystone")) as keystone:
        settings = {
            "url": keystone.at.removesuffix("/v3"), "api version": "3", "admin user": ADMIN[0],
            "admin password": ADMIN[1], "admin project": "admin", "admin domain": ADMIN[2],
            "accepted roles": "admin,member", "accepted admin roles": "harbourmaster",
        }  # fmt: skip
        lines = [f"rgw keystone {name} = {value}" for name, value in settings.items()]
        with gateway.set_up_with(*lines, "rgw s3 auth use keystone = true"):
            made = Reeds(gateway, keystone)
            populate(made)
            yield made
        for project in ("marsh", "fen"):  # other modules share the gateway: it has no users of a Keystone
            gateway.admin("user", "rm", f"--uid={made.ids[project]}", "--purge-data")


def estate(
    reeds: Reeds, folder: Path, roles: str = "{operator: [admin, member], reseller-admin: [harbourmaster]}"
) -> Path:
    """A workspace that names the service as well."""
    made = workspace(reeds.gateway, folder, "sexton")
    (made / "service.ini").write_text(f"[default]\nuser={ADMIN[0]}\npassword={ADMIN[1]}\n")
    with (made / "estate.yaml").open("a") as text:
        at = reeds.keystone.at
        text.write(f"    identities:\n      keystone: {at}\n")
        text.write(f"      credential: {{keystone: '{at}', user: 'file:service.ini', scope: system}}\n")
        text.write(f"      roles: {roles}\n" if roles else "")
    (made / "baseline.yaml").write_text("sheets:\n- sheet: all\n  require: {objects.public: none}\n")
    return made


def levels(folder: Path, user: str) -> Iterator[tuple[str, str, str]]:
    """Bucket, verb and level of what the program says a user can do."""
    for row in json.loads(lantern("access", "--who", user, "--json", cwd=folder).out)["identities"]:
        yield from ((bucket, verb, level) for bucket in row["buckets"] for verb, level in row["verbs"].items())


def test_what_users_of_a_keystone_can_do_is_what_the_gateway_lets_them(reeds: Reeds, tmp_path: Path) -> None:
    folder = estate(reeds, tmp_path / "ws")
    dossier = surveyed(folder, "reed-*", "--objects", "all")
    shown = json.loads(lantern("exposure", "--json", cwd=folder).out)["buckets"]
    public = {(row["bucket"], verb): told["verdict"]
              for row in shown for verb, told in row["exposure"]["any-account"].items()}  # fmt: skip
    told = {(user, bucket, verb): level for user in HELD for bucket, verb, level in levels(folder, f"{user}@Default")}
    wrong, outcomes = [], {True: 0, False: 0}
    for bucket in (bucket.name for bucket in dossier.buckets):
        for user in HELD:
            for verb in ("list", "read", "write"):
                passed = reeds.passes(user, bucket, verb)
                outcomes[passed] += 1
                level = told.get((user, bucket, verb), public[bucket, verb])
                unread = (bucket, verb) == ("reed-refused", "read")  # the auditor is refused its objects' ACLs
                if level != ("open" if passed else "closed") and not (unread and level == "unknown"):
                    wrong.append((bucket, ACLS.get(bucket) or POLICIES.get(bucket), user, verb, passed, level))
    assert min(outcomes.values()) > 100
    assert not wrong, "\n".join(map(str, wrong))


def test_without_the_service_there_are_users_whom_nobody_knows(reeds: Reeds, tmp_path: Path) -> None:
    folder = workspace(reeds.gateway, tmp_path / "ws", "sexton")
    surveyed(folder, "reed-plain")
    assert set(levels(folder, "any user")) == {("reed-plain", verb, "unknown") for verb in VERBS}
    shown = json.loads(lantern("show", "reed-plain", "--json", cwd=folder).out)["facts"]
    (listing,) = [fact for fact in shown if fact["fact"] == "principals.list"]
    assert listing["value"] is None and OF_KEYSTONE in listing["note"]
    exposed = json.loads(lantern("exposure", "real/reed-plain", "--json", cwd=folder).out)["buckets"][0]
    assert exposed["through_roles"], "whoever signs in through another service may have a role in a project"


def test_a_role_that_nobody_explains_may_do_everything_and_an_accepted_one_what_its_project_may() -> None:
    holding = [Held("member", "p", "project fen"), Held("reader", "q", "project marsh")]
    told = [AttachedPolicy("own", "{}")]
    silent, explained = (GatewayAccounts(roles, {"p": told, "q$q": told}) for roles in (None, MEANT))
    assert [document.doubt != "" for document in silent.documents(holding)] == [False, False, True, True]
    assert explained.documents(holding) == told
    assert not silent.rules_all(holding) and not explained.rules_all(holding)
    assert {"p", "q", "q$q"} <= set(silent.names("u", None, holding, {}))
    assert explained.names("u", None, holding, {}) == ["p", "p$p", "p:u", "p:*", "*:u"]
    assert explained.rules_all([Held("harbourmaster", "q", "project marsh")])
    assert explained.limit([]).unread and explained.limit(None).settled


WRITING = json.dumps({"Version": "2012-10-17", "Statement": [
    {"Effect": "Allow", "Action": "s3:PutObject", "Resource": "*"}]})  # fmt: skip
UNLIKE_AN_OWN_USER: dict[str, Answer[Any]] = {
    "permissions that were not read": Answer("known", [Identity(name="p", policies=Answer("denied", None, "403"))]),
    "users that were not read": Answer("denied", None, "answered 403"),
    "operations that are limited": Answer("known", [Identity(
        name="p", policies=Answer("known", [AttachedPolicy("own", WRITING)]), operations=Answer("known", ["read"]))]),
    "operations that were not read": Answer("known", [Identity(
        name="p", policies=Answer("known", [AttachedPolicy("own", WRITING)]), operations=Answer("failed"))]),
}  # fmt: skip


@pytest.mark.parametrize("own", UNLIKE_AN_OWN_USER)
def test_what_a_project_may_at_the_gateway_is_unknown_where_its_user_was_not_read_or_is_limited(own: str) -> None:
    """Nobody with a role there is shut out for certain, nor let in."""
    gateway = at_gateway(Dossier(store="s", taken=MOMENT, identities=UNLIKE_AN_OWN_USER[own]), MEANT)
    harbour = saltmarsh.harbour().dossier
    closed = next(bucket for bucket in harbour.buckets if bucket.name == "gallery-web")
    for role, level in (("member", "unknown"), ("reader", "closed")):
        holder = Identity(
            name="ann", state=Answer("known", "enabled"), groups=Answer("absent"),
            policies=Answer("known", gateway.documents([Held(role, "p", "project fen")])),
        )  # fmt: skip
        dossier = msgspec.structs.replace(
            harbour,
            acl_reading="gateway",
            buckets=[closed],
            identities=Answer("known", [holder]),
            groups=Answer("absent"),
        )
        [subject] = store_subjects([dossier], None, MOMENT)
        writing = subject.across.on(holder, closed.name).get("write")
        assert (writing.level if writing is not None else "closed") == level, (own, role)


def test_where_the_gateways_own_users_were_not_read_there_are_more() -> None:
    denied: Answer[Any] = Answer("denied", None, "answered 403")
    dossier = Dossier(store="s", taken=MOMENT, identities=denied, credentials=denied)
    ann: Answer[Any] = Answer("known", [Identity(name="ann@Default")])
    people = beside_own_users(dossier, {"identities": ann, "credentials": Answer("known", []), "groups": ann})
    names = {one.name: one.policies for one in people["identities"].value or ()}
    assert list(names) == ["any user", "ann@Default"]
    assert names["any user"].note == f"{OWN_USERS}: answered 403"
    assert people["credentials"].unread
    placeholders = [
        any_of("user", Answer("failed", None, OF_KEYSTONE)),
        any_of("role", Answer("failed", None, "other")),
    ]
    known = msgspec.structs.replace(dossier, identities=Answer("known", placeholders))
    beside = beside_own_users(known, {"identities": ann, "credentials": Answer("known", []), "groups": ann})
    assert [one.name for one in beside["identities"].value or ()] == ["any role", "ann@Default"]
