"""Who a Keystone lets in by name, held against a real Keystone and a real Swift: everybody asks for everything.

The installed program surveys the account as an application credential that may only read, and the identity service as
a reader of the whole system. Then every user sends every request with each token that it can get.
"""

from __future__ import annotations

import json
import random
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import aiohttp
import msgspec
import pytest
from aiohttp import web

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.evaluator.request_builder import host_of
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST, always_carried
from rusty_lantern.core.access.rules.bucket_rules import Rules, rules_of
from rusty_lantern.core.access.rules.identity_policies import combined_rules, identity_policies_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.dossier import Dossier, decode
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.simulator.serve import serve
from tests.conftest import Ran, answering, lantern, whole_or
from tests.keystone_server import PASSWORD, RULED, Realm
from tests.swift_server import SwiftDoor

CONTAINERS = 60
REFERERS = ("", "http://good.example/", "https://www.good.example/p", "http://bad.example/", "http://unknown/")
ACTIONS = {"read": "s3:GetObject", "list": "s3:ListBucket", "write": "s3:PutObject", "delete": "s3:DeleteObject"}
ASKING = ("clerk", "looker", "warden", "deck", "drifter", "robot", "elsewhere", "mate")
OWNING = ("keeper", "helper", "overseer")
"""Who owns every container, or none: they ask for a few."""
KEEPER = ("keeper", "")


@dataclass
class Passing:
    """Passes requests on to a server and notes what they were: what a survey really sends."""

    to: str
    seen: list[str] = field(default_factory=list)

    async def answer(self, request: web.Request) -> web.Response:
        self.seen.append(f"{request.method} {request.path}")
        headers = {k: v for k, v in request.headers.items() if k.lower() not in ("host", "content-length")}
        async with (
            aiohttp.ClientSession(auto_decompress=False) as session,
            session.request(
                request.method, self.to + request.raw_path, headers=headers, data=await request.read() or None,
                allow_redirects=False,
            ) as got,
        ):  # fmt: skip
            body = await got.read()
            told = {k: v for k, v in got.headers.items() if k.lower() not in ("content-length", "transfer-encoding")}
            if request.method == "HEAD" and "content-length" in got.headers:
                told["content-length"] = got.headers["content-length"]
            return web.Response(status=got.status, headers=told, body=body)


@dataclass
class Estate:
    """The workspace, the account, and what went to either server."""

    folder: Path
    realm: Realm
    door: SwiftDoor
    identity: Passing
    objects: Passing
    first: Dossier | None = None
    sent: tuple[list[str], list[str]] = field(default_factory=lambda: ([], []))
    """What the first survey sent to the identity service and to the store."""

    @property
    def dossier(self) -> Dossier:
        """The first survey of the account."""
        assert self.first is not None
        return self.first

    @property
    def environment(self) -> dict[str, str]:
        key, secret = self.realm.people.application["nightly"]
        return {"NIGHTLY_ID": key, "NIGHTLY_SECRET": secret, "LOOKER_USER": "looker",
                "LOOKER_PASSWORD": PASSWORD, "LOOKER_DOMAIN": "saltmarsh"}  # fmt: skip

    def run(self, *words: str, **environment: str) -> Ran:
        return lantern(*words, cwd=self.folder, **self.environment | environment)

    def survey(self, *words: str, **environment: str) -> Dossier:
        done = self.run("survey", *words, **environment)
        assert done.code == 0, done.err + done.out
        latest = max((self.folder / "surveys").glob("2*"))
        return decode((latest / "stores/lagoon.json").read_bytes(), "lagoon.json")

    def told(self, *words: str) -> Any:
        done = self.run(*words, "--json")
        assert done.code == 0, done.err
        return json.loads(done.out)


def forms(realm: Realm) -> tuple[str, ...]:
    """Entries that name somebody, and entries that only look so."""
    harbour, deckhouse = realm.people.projects["harbour"], realm.people.projects["deckhouse"]
    who = realm.people.users
    return (
        "*", "*:*", deckhouse, f"{deckhouse}:*", f"{deckhouse}:{who['deck']}", f"*:{who['deck']}", who["deck"],
        "deckhouse:deck", "deckhouse:*", "*:deck", "odd", "member", "admin", f"{harbour}:*",
        f"{harbour}:{who['clerk']}", f"*:{who['clerk']}", f"{deckhouse}:{who['elsewhere']}", f"*:{who['drifter']}",
        f"{realm.people.projects['laid-up']}:*", f"{deckhouse}%3A{who['deck']}", f"*:{who['robot']}",
        f"{harbour}:{who['warden']}", f"{harbour}:{who['deck']}", f"{deckhouse}:{who['keeper']}",
    )  # fmt: skip


HOSTS = (".r:*", ".rlistings", ".r:good.example", ".r:.good.example", ".r:-bad.example", ".r:unknown", ".r:-*")


@pytest.fixture(scope="module")
def estate(keystone_realm: Realm, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Estate]:
    """An account with containers whose ACLs are drawn at random, and a workspace for it."""
    realm = keystone_realm
    door = realm.account("harbour")
    door.tokens["keeper"] = realm.keystone.as_user(realm.people.users["keeper"], realm.people.projects["harbour"])
    dice = random.Random(20261127)
    names = forms(realm)
    door.make(KEEPER, "canary", X_Container_Read=".rlistings")
    for number in range(CONTAINERS):
        read = [*dice.sample(HOSTS, dice.choice([0, 0, 1, 1, 2])), *dice.sample(names, dice.choice([0, 1, 1, 2, 3]))]
        write = dice.sample(names, dice.choice([0, 0, 1, 2]))
        door.make(KEEPER, f"c{number:02d}", X_Container_Read=",".join(read), X_Container_Write=",".join(write))
    folder = tmp_path_factory.mktemp("lagoon")
    parts = urlsplit(realm.keystone.at)
    identity, objects = Passing(f"{parts.scheme}://{parts.netloc}"), Passing(realm.swift)
    with serve(answering(identity.answer)) as id_at, serve(answering(objects.answer)) as at:
        (folder / "estate.yaml").write_text(
            f"estate: Saltmarsh Trust\nstores:\n  lagoon:\n    reads: swift\n    at: {at}{urlsplit(door.at).path}\n"
            "    plain-http: allowed\n"
            f"    credential: {{keystone: {id_at}/v3, application-credential: env:NIGHTLY}}\n"
            f"    identities:\n      keystone: {id_at}/v3\n"
            f"      credential: {{keystone: {id_at}/v3, user: env:LOOKER, scope: system}}\n"
            "      roles: {operator: [admin, member], reseller-admin: [ResellerAdmin]}\n"
        )
        (folder / "baseline.yaml").write_text(
            "title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed, exposure.list: closed}\n"
        )
        made = Estate(folder, realm, door, identity, objects)
        made.first = made.survey("--log", "log.jsonl")
        made.sent = list(identity.seen), list(objects.seen)
        yield made


def tokens_of(realm: Realm, user: str) -> list[str]:
    """Every token that a user can get: for each project, for none, by a trust."""
    keystone, people = realm.keystone, realm.people
    found = [keystone.as_user(people.users[user])]
    for project in people.projects.values():
        identity = {"methods": ["password"], "password": {"user": {"id": people.users[user], "password": PASSWORD}}}
        status, token = keystone.sign_in({"identity": identity, "scope": {"project": {"id": project}}})
        found += [token] if status == 201 else []
    if user in people.trusts:
        status, token = keystone.by_trust(people.users[user], people.trusts[user])
        assert status == (401 if user == "drifter" else 201), "drifter's can be used once, and was"
        found += [token] if token else []
    return found


def passes(
    door: SwiftDoor, container: str, verb: str, token: str, referer: str = "", source: str = "127.0.0.1"
) -> bool:
    """Whether the server lets a request through."""
    method, path = {"read": ("GET", "/a.txt"), "list": ("GET", "/?format=json"),
                    "write": ("PUT", "/new"), "delete": ("DELETE", "/new")}[verb]  # fmt: skip
    headers = ({"Referer": referer} if referer else {}) | ({"X-Auth-Token": token} if token else {})
    status, _, _ = door.send(method, f"/{container}{path}", None, headers, source=source)
    assert status < 500, (container, verb, status)
    return status not in (401, 403)


def said(rules: Rules, verb: str, caller: Caller, referer: str = "", source: str = "127.0.0.1") -> bool | None:
    """What the plain decider says of the same request."""
    context = always_carried(anonymous=caller.anonymous) | {
        REFERER_HOST: (host_of(referer),), "aws:sourceip": (source,),
    }  # fmt: skip
    return decide(rules, Request(ACTIONS[verb], "" if verb == "list" else "a.txt", caller, context)).allowed


def test_every_verdict_agrees_with_the_server(estate: Estate) -> None:
    dossier = estate.dossier
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets if bucket.name != "canary"}
    assert len(rules) == CONTAINERS
    index = StoreIndex(dossier, dossier.taken)
    identities: dict[str, Identity | None] = {
        user: index.identities_by_name[f"{user}@saltmarsh"] for user in ASKING + OWNING
    }
    tokens = {user: tokens_of(estate.realm, user) for user in ASKING + OWNING} | {"nobody": [""]}
    identities["nobody"] = None
    few, some = sorted(rules)[:6], sorted(rules)[:: whole_or(5, 1)]
    cases = [
        (name, verb, user, referer, source)
        for user in identities
        for name in (few if user in OWNING else some)
        for verb in (ACTIONS if user in ("deck", "nobody") else ("read", "list", "write"))
        for referer in (REFERERS if user == "nobody" and verb in ("read", "list") else REFERERS[:1])
        for source in ("127.0.0.1", "127.0.0.2")[: 2 if user == "nobody" else 1]
    ]

    def ask(case: tuple[str, str, str, str, str]) -> bool:
        name, verb, user, referer, source = case
        return any(passes(estate.door, name, verb, token, referer, source) for token in tokens[user])

    with ThreadPoolExecutor(4) as pool:
        answers = list(pool.map(ask, cases))
    outcome: Counter[str] = Counter()
    wrong = []
    for (name, verb, user, referer, source), passed in zip(cases, answers, strict=True):
        identity = identities[user]
        both = (
            rules[name] if identity is None else combined_rules(rules[name], identity_policies_of(index, identity), "")
        )
        caller = ANONYMOUS if identity is None else Caller("", "", identity.name, aliases=tuple(identity.aliases))
        found = said(both, verb, caller, referer, source)
        outcome["unknown" if found is None else "agree" if found is passed else "differ"] += 1
        if found not in (None, passed):
            acl = next(bucket.container_acl.value for bucket in dossier.buckets if bucket.name == name)
            wrong.append((name, verb, user, referer, passed, acl))
    print(f"{dict(outcome)}")
    assert not wrong, wrong[:3]
    assert outcome["unknown"] == 0
    assert outcome["agree"] > 40 * len(some)

    let_in = {case[:3]: False for case in cases}
    for case, passed in zip(cases, answers, strict=True):
        let_in[case[:3]] |= passed
    levels = own_levels(estate, [*ASKING, *OWNING])
    rows = {row["bucket"]: row["exposure"] for row in estate.told("exposure")["buckets"]}
    for (name, verb, user), passed in let_in.items():
        audience = "anyone" if user == "nobody" else "any-account"
        public = rows[name][audience][verb]["verdict"]
        mine = levels.get((user, name), {}).get(verb, "closed")
        assert "unknown" not in (public, mine), (name, verb, user)
        closed, case = {public, mine} == {"closed"}, (name, verb, user, public, mine)
        assert not (closed and passed), case
        # a public way in, or a restricted one, may want a Referer that only nobody sent here
        assert closed or passed or (public != "closed" and user != "nobody") or mine == "restricted", case


def own_levels(estate: Estate, users: list[str]) -> dict[tuple[str, str], dict[str, str]]:
    """User and container → what `lantern access` says that the user can do there."""
    found: dict[tuple[str, str], dict[str, str]] = {}
    for user in users:
        told = estate.told("access", "--who", f"{user}@saltmarsh")
        for row in told["identities"]:
            found |= {(user, bucket): row["verbs"] for bucket in row["buckets"]}
    return found


def test_what_a_credential_opens_is_what_it_opens_on_the_server(estate: Estate) -> None:
    listed = estate.told("credentials")["credentials"]
    told = {row["name"]: row for row in listed}
    assert {row["kind"] for row in listed} == {"application-credential", "access-key", "trust"}
    names = [f"c{number:02d}" for number in range(CONTAINERS)] + ["canary"]
    closed = [one for one in names if not any(passes(estate.door, one, v, "", r) for v in ACTIONS for r in REFERERS)]
    rows = {row["bucket"]: row["exposure"]["any-account"] for row in estate.told("exposure")["buckets"]}
    closed = [one for one in closed if all(rows[one][verb]["verdict"] == "closed" for verb in ACTIONS)]
    keystone, people = estate.realm.keystone, estate.realm.people
    tokens = {}
    for name, (key, secret) in people.application.items():
        shown = {"methods": ["application_credential"], "application_credential": {"id": key, "secret": secret}}
        status, tokens[name] = keystone.sign_in({"identity": shown})
        assert status == 201
    for user, (access, secret) in people.s3_keys.items():
        told[user] = next(row for row in listed if (row["owner"], row["kind"]) == (f"{user}@saltmarsh", "access-key"))
        tokens[user] = keystone.by_s3_key(access, secret)
    for user in ("robot", "mate"):
        used_by = f"{user}@saltmarsh"
        told[f"trust of {user}"] = next(row for row in listed if row["used_by"] == used_by)
        _, tokens[f"trust of {user}"] = keystone.by_trust(people.users[user], people.trusts[user])
    assert len(tokens) == 7
    for name, token in tokens.items():
        opened = {verb for verb in ACTIONS if any(passes(estate.door, one, verb, token) for one in closed)}
        assert opened == set(told[name]["can"].split()) & set(ACTIONS), (name, told[name]["can"])
    assert (told["forever"]["makes_more"], told["nightly"]["makes_more"]) == ("on", "off")
    assert told["nightly"]["expires"] == "2031-01-01"
    assert told["nightly"]["limits"].startswith("GET /v1/AUTH_")
    assert sorted((row["owner"], row["used_by"]) for row in listed if row["kind"] == "trust") == [
        ("keeper@saltmarsh", "mate@saltmarsh"), ("keeper@saltmarsh", "robot@saltmarsh"),
    ], "the one that is used up opens nothing"  # fmt: skip


def test_a_synchronization_key_writes_and_deletes_without_a_token_here_too(estate: Estate) -> None:
    estate.door.make(KEEPER, "in-step", (), X_Container_Sync_Key="sync-000")
    for key, passes_ in (("another", False), ("sync-000", True)):
        shown = {"X-Container-Sync-Key": key, "X-Timestamp": "1795849000.00000"}
        for method in ("PUT", "DELETE"):
            assert (estate.door.send(method, "/in-step/new", None, shown)[0] < 300) is passes_, (method, key)


KEYS = ("a.txt", "a b", "dir/new", "new")
WAYS = {
    "s3:ListBucket": (("GET", ""), ("GET", "/")),
    "s3:PutBucketAcl": (("POST", ""), ("POST", "/"), ("PUT", "/")),
    "s3:GetObject": (("GET", "/KEY"),),
    "s3:PutObject": (("PUT", "/KEY"), ("POST", "/KEY")),
    "s3:DeleteObject": (("DELETE", "/KEY"),),
}  # fmt: skip


@dataclass
class Ruled:
    """An application credential that its access rules hold to a part of the account."""

    door: SwiftDoor
    token: str

    def send(self, method: str, path: str, body: bytes = b"", **headers: str) -> int:
        """Send one request; its status."""
        told = {name.replace("_", "-"): value for name, value in headers.items()} | {"X-Auth-Token": self.token}
        return self.door.send(method, quote(path, safe="/?="), None, told, body)[0]

    def can(self, action: str, container: str, key: str) -> bool:
        """Whether it can do this, directly or by what it can put at another place."""
        sent = [(method, f"/{container}{form.replace('KEY', key)}") for method, form in WAYS[action]]
        if action == "s3:PutBucketAcl":
            sent.append(("POST", ""))
        if any(self.send(*one) not in (401, 403) for one in sent):
            return True
        # the filter for large objects answers some requests before anybody is asked whether they are allowed
        mine = f"/{container}/{key}"
        places = {f"/c00/{name}" for name in KEYS} - {mine}
        if action == "s3:GetObject":
            return any(self.send("PUT", one, X_Copy_From=quote(mine)) == 201 and self.send("GET", one) == 200
                       for one in sorted(places))  # fmt: skip
        parts, large = json.dumps([{"path": mine}]).encode(), "?multipart-manifest="
        return action == "s3:DeleteObject" and any(
            self.send("PUT", f"{one}{large}put", parts) == 201
            and self.send("DELETE", f"{one}{large}delete") == 200
            and self.door.send("GET", quote(mine), KEEPER)[0] == 404
            for one in sorted(places)
        )


@pytest.mark.parametrize("rules", RULED)
def test_access_rules_let_through_what_the_server_lets_through(estate: Estate, rules: str) -> None:
    key, secret = estate.realm.people.ruled[rules]
    identity = {"methods": ["application_credential"], "application_credential": {"id": key, "secret": secret}}
    status, token = estate.realm.keystone.sign_in({"identity": identity})
    assert status == 201
    ruled = Ruled(estate.door, token)
    credential = next(one for one in estate.dossier.credentials.value or () if one.id == key)
    assert credential.stands_for is not None
    side = identity_policies_of(StoreIndex(estate.dossier, estate.dossier.taken), credential.stands_for)
    caller = Caller("", "", credential.stands_for.name)
    for name in ("c00", "canary"):
        bucket = next(one for one in estate.dossier.buckets if one.name == name)
        without_acl = msgspec.structs.replace(bucket, container_acl=Answer("known", ContainerAcl()))
        both = combined_rules(rules_of(without_acl, estate.dossier), side, "")
        for action in WAYS:
            for object_key in KEYS if "KEY" in WAYS[action][0][1] else ("",):
                if object_key and action != "s3:PutObject":
                    estate.door.send("PUT", f"/{name}/{quote(object_key)}", KEEPER, body=b"x")
                told = decide(both, Request(action, object_key, caller)).allowed
                can = ruled.can(action, name, object_key)
                # a policy's wildcard goes beyond a slash: of such keys more is told than the server lets through
                assert told is can or (told and "/" in object_key), (name, action, object_key)


def test_people_are_told_as_the_service_has_them(estate: Estate) -> None:
    dossier = estate.dossier
    people = {one.name: one for one in dossier.identities.value or ()}
    states = {name: one.state.value for name, one in people.items() if one.state.value == "disabled"}
    assert states == {"gone@saltmarsh": "disabled", "locked-in@shut": "disabled"}
    assert [name for name, one in people.items() if one.mfa.value] == ["robot@saltmarsh"]
    admins = {name: one.administers.value for name, one in people.items() if one.administers.value}
    assert admins["elsewhere@saltmarsh"] == ["project deckhouse"]
    assert set(admins) == {"admin@Default", "keeper@saltmarsh", "gone@saltmarsh", "locked-in@shut",
                           "elsewhere@saltmarsh"}  # fmt: skip
    assert [group.members for group in dossier.groups.value or ()] == [["warden@saltmarsh"]]
    assert people["warden@saltmarsh"].groups.value == ["wardens@saltmarsh"]


def test_nothing_is_sent_but_questions_and_tokens(estate: Estate) -> None:
    to_keystone, to_swift = estate.sent
    sent = Counter(line for line in to_keystone if not line.startswith("GET /v3/"))
    assert sent == {"POST /v3/auth/tokens": 2}
    assert {line.partition(" ")[0] for line in to_swift} == {"GET", "HEAD"}


def test_no_secret_is_written_anywhere(estate: Estate) -> None:
    log = estate.folder / "log.jsonl"
    for words in (("credentials", "--json"), ("report", "--out", "report.html"), ("access", "--json")):
        assert estate.run(*words).code == 0
    written = b"".join(file.read_bytes() for file in estate.folder.rglob("*") if file.is_file())
    assert log.read_bytes().count(b"auth/tokens") == 2
    for secret in [*estate.realm.people.secrets, PASSWORD]:
        assert secret.encode() not in written


def test_what_the_service_denies_is_unknown(estate: Estate) -> None:
    dossier = estate.survey(LOOKER_USER="drifter")
    assert not dossier.identities.settled
    assert not dossier.credentials.settled
    assert "14 identities" not in estate.run("credentials").out
    reached = estate.run("reach", LOOKER_USER="drifter").out
    assert "who it lets in by name" in reached


def test_roles_that_nobody_explains_leave_everything_open_to_question(estate: Estate) -> None:
    whole = (estate.folder / "estate.yaml").read_text()
    try:
        (estate.folder / "estate.yaml").write_text(whole.partition("      roles:")[0])
        estate.survey()
        told = own_levels(estate, ["looker", "keeper"])
        for verbs in told.values():
            assert "unknown" in verbs.values(), verbs
        assert "add roles:" in estate.run("reach").out
    finally:
        (estate.folder / "estate.yaml").write_text(whole)


def test_names_count_where_everybody_is_in_the_first_domain(estate: Estate) -> None:
    keystone, realm = estate.realm.keystone, estate.realm
    project = keystone.make("project", "/projects", name="quay", domain_id="default")
    guests = keystone.make("project", "/projects", name="guests", domain_id="default")
    user = keystone.make("user", "/users", name="pilot", domain_id="default", password=PASSWORD)
    boss = keystone.make("user", "/users", name="boss", domain_id="default", password=PASSWORD)
    keystone.give(f"/projects/{guests}/users/{user}/roles/{realm.people.roles['odd']}")
    keystone.give(f"/projects/{project}/users/{boss}/roles/{realm.people.roles['admin']}")
    door = SwiftDoor(f"{realm.swift}/v1/AUTH_{project}", {"keeper": keystone.as_user(boss, project)})
    written = {"both": "guests:pilot", "all": "guests:*", "user": "*:pilot", "mixed": f"guests:{user}",
               "other": f"{guests}:pilot", "stranger": "quay:pilot", "role": "odd"}  # fmt: skip
    for name, acl in written.items():
        door.make(KEEPER, name, X_Container_Read=acl)
    whole = (estate.folder / "estate.yaml").read_text()
    try:
        changed = whole.replace(urlsplit(estate.door.at).path, f"/v1/AUTH_{project}")
        changed = changed.replace("application-credential: env:NIGHTLY", "user: env:BOSS, scope: project:quay")
        (estate.folder / "estate.yaml").write_text(changed)
        dossier = estate.survey(BOSS_USER="boss", BOSS_PASSWORD=PASSWORD)
        index = StoreIndex(dossier, dossier.taken)
        identity = index.identities_by_name["pilot@Default"]
        caller = Caller("", "", identity.name, aliases=tuple(identity.aliases))
        token = keystone.as_user(user, guests)
        for bucket in dossier.buckets:
            found = said(
                combined_rules(rules_of(bucket, dossier), identity_policies_of(index, identity), ""), "read", caller
            )
            assert found is passes(door, bucket.name, "read", token), bucket.name
        assert len(dossier.buckets) == len(written)
    finally:
        (estate.folder / "estate.yaml").write_text(whole)


def test_whoever_is_disabled_is_let_in_to_nothing(estate: Estate) -> None:
    """Neither by a token that is still out, nor by an ACL that names the user, nor by what stands for the user. (A
    token that the store saw before counts on there for as long as it keeps it in memory, minutes.)"""
    keystone, people = estate.realm.keystone, estate.realm.people
    clerk, harbour = people.users["clerk"], people.projects["harbour"]
    door = estate.door
    door.make(KEEPER, "for-the-clerk", X_Container_Read=f"{harbour}:{clerk}")
    auth = {"identity": {"methods": ["password"], "password": {"user": {"id": clerk, "password": PASSWORD}}},
            "scope": {"project": {"id": harbour}}}  # fmt: skip
    (_, seen), (_, token) = keystone.sign_in(auth), keystone.sign_in(auth)
    assert passes(door, "for-the-clerk", "read", seen)
    before = estate.survey()
    assert "for-the-clerk" in reached(before, "clerk@saltmarsh")
    try:
        assert keystone.send("PATCH", f"/users/{clerk}", {"user": {"enabled": False}})[0] == 200
        assert keystone.sign_in(auth)[0] == 401
        assert not passes(door, "for-the-clerk", "read", token)
        after = estate.survey()
        assert reached(after, "clerk@saltmarsh") == set()
        why = estate.told("why", "lagoon/for-the-clerk", "--as", "clerk@saltmarsh")
        assert (why["allowed"], why["by"]) == (False, "the identity is disabled")
        mine = [one for one in after.credentials.value or () if one.owner == "clerk@saltmarsh"]
        assert {one.stands_for.state.value for one in mine if one.stands_for} <= {"disabled"}
    finally:
        keystone.send("PATCH", f"/users/{clerk}", {"user": {"enabled": True}})


def reached(dossier: Dossier, identity: str) -> set[str]:
    """The buckets that an identity can do something in."""
    [store] = store_subjects([dossier], None, dossier.taken)
    return {bucket for group in store.across.of(store.index.identities_by_name[identity]) for bucket in group.buckets}
