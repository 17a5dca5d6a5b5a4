"""Verdicts over container ACLs, held against a real Swift server: random ACLs, every request sent, answers compared.

The installed program surveys the account; requests come without a token and from another account, with several
Referers. `closed` where anything passes is the one answer that may never be given.
"""

from __future__ import annotations

import hmac
import json
import random
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.evaluator.request_builder import host_of
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST, always_carried
from rusty_lantern.core.access.rules.bucket_rules import rules_of
from rusty_lantern.core.model.dossier import Dossier, decode
from tests.conftest import lantern, whole_or
from tests.swift_server import DECK, OWNER, READER, SwiftDoor

CONTAINERS = 64
READ_FORMS = (
    ".r:*", ".r:*", ".rlistings", ".r:good.example", ".r:.good.example", ".r:*.good.example", ".r:-bad.example",
    ".r:-.bad.example", ".r:unknown", ".r:-unknown", ".r:-*", "*", "*:*", "deck", "deck:admin", "deck%3Aadmin",
    "%64eck", "AUTH_deck", "deck:*", "*:admin", "deck:clerk", "keeper:clerk", "nobody",
    ".r:http://good.example", ".r:good.example:8080", ".r:.good.example/p",
)  # fmt: skip
WRITE_FORMS = ("*", "*:*", "deck", "deck:admin", "AUTH_deck", "deck%3Aadmin", "deck:*", "keeper:clerk", "nobody")
REFERERS = ("", "http://good.example/", "https://www.good.example/p", "http://bad.example/", "http://x.bad.example/",
            "http://unknown/", "http://elsewhere.example:8080/q")  # fmt: skip
ACCOUNT_ACLS = (
    "{}",
    '{"read-only":["deck","*","*:*"]}',
    '{"read-write":["deck:admin"]}',
    '{"admin":["AUTH_deck"],"read-only":[""]}',
    '{"read-write":[""]}',
)
ACTIONS = {"read": "s3:GetObject", "list": "s3:ListBucket", "write": "s3:PutObject", "delete": "s3:DeleteObject"}


@dataclass(frozen=True)
class Sent:
    """One request and whether it passed."""

    container: str
    verb: str
    deck: bool
    referer: str
    passed: bool


def ask(door: SwiftDoor, container: str, verb: str, referer: str, *, deck: bool) -> Sent:
    headers = {"Referer": referer} if referer else {}
    method, path = {
        "read": ("GET", "/a.txt"),
        "list": ("GET", "/?format=json"),
        "write": ("PUT", "/new"),
        "delete": ("DELETE", "/new"),
    }[verb]
    status, _, _ = door.send(method, f"/{container}{path}", DECK if deck else None, headers)
    assert status < 500, (container, verb, referer, status)
    return Sent(container, verb, deck, referer, status not in (401, 403))


def request_of(sent: Sent) -> Request:
    caller = Caller(canonical="deck:admin") if sent.deck else ANONYMOUS
    context = always_carried(anonymous=not sent.deck) | {
        REFERER_HOST: (host_of(sent.referer),),
        "aws:sourceip": ("127.0.0.1",),
    }
    return Request(ACTIONS[sent.verb], "" if sent.verb == "list" else "a.txt", caller, context)


def estate(folder: Path, at: str) -> Path:
    folder.mkdir(exist_ok=True)
    (folder / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  lagoon:\n    reads: swift\n    at: {at}\n    plain-http: allowed\n"
        "    credential: {environment: LAGOON}\n"
    )
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed, exposure.list: closed}\n"
    )
    return folder


def surveyed(folder: Path, user: tuple[str, str] = OWNER) -> tuple[Dossier, dict[str, Any]]:
    """The dossier of a new survey by the installed program, and its exposures."""
    secret = {"LAGOON_USER": user[0], "LAGOON_KEY": user[1]}
    done = lantern("survey", cwd=folder, **secret)
    assert done.code == 0, done.err + done.out
    latest = max((folder / "surveys").glob("2*"))
    told = lantern("exposure", "--json", cwd=folder)
    rows = {row["bucket"]: row for row in json.loads(told.out)["buckets"]}
    return decode((latest / "stores/lagoon.json").read_bytes(), "lagoon.json"), rows


@pytest.fixture(scope="module")
def door(swift_server: str) -> SwiftDoor:
    """An account with containers whose ACLs are drawn at random, and one that shows that ACLs are seen."""
    door = SwiftDoor(f"{swift_server}/v1/AUTH_keeper")
    dice = random.Random(20261126)
    door.make(OWNER, "canary", X_Container_Read=".rlistings")
    for number in range(CONTAINERS):
        read = ",".join(dice.sample(READ_FORMS, dice.choice([0, 1, 1, 2, 2, 3, 4])))
        write = ",".join(dice.sample(WRITE_FORMS, dice.choice([0, 0, 1, 2])))
        door.make(OWNER, f"c{number:02d}", X_Container_Read=read, X_Container_Write=write)
    return door


@pytest.mark.parametrize("account_acl", ACCOUNT_ACLS)
def test_no_verdict_is_closed_where_anything_passes(door: SwiftDoor, tmp_path: Path, account_acl: str) -> None:
    status, _, body = door.send("POST", "", OWNER, {"X-Account-Access-Control": account_acl})
    assert status == 204, body
    names = [f"c{number:02d}" for number in range(CONTAINERS)]
    if account_acl != "{}":
        names = names[:: whole_or(4, 1)]
    cases = [
        (name, verb, referer, deck)
        for name in names
        for deck in (False, True)
        for verb in ("read", "list", "write", "delete")
        for referer in (REFERERS[: 3 if deck else None] if verb in ("read", "list") else REFERERS[:1])
    ]
    with ThreadPoolExecutor(4) as pool:
        answers = list(pool.map(lambda case: ask(door, *case[:3], deck=case[3]), cases))
    dossier, rows = surveyed(estate(tmp_path, door.at))
    assert len(dossier.buckets) == CONTAINERS + 1
    rules = {bucket.name: rules_of(bucket, dossier) for bucket in dossier.buckets}
    outcome: Counter[str] = Counter()
    wrong = []
    for sent in answers:
        said = decide(rules[sent.container], request_of(sent)).allowed
        outcome["unknown" if said is None else "agree" if said is sent.passed else "differ"] += 1
        wrong += [] if said in (None, sent.passed) else [(sent, rules[sent.container].policy.statements)]
    false_closed, witnesses = [], 0
    for name in names:
        for verb in ("list", "read", "write", "delete"):
            verdict = rows[name]["exposure"]["anyone"][verb]
            passed = any(s.passed for s in answers if (s.container, s.verb, s.deck) == (name, verb, False))
            if verdict["verdict"] == "closed" and passed:
                false_closed.append((name, verb))
            if verdict["verdict"] in ("open", "restricted"):
                witnesses += 1
                referer = verdict["witness"].get("headers", {}).get("Referer", "")
                assert ask(door, name, verb, referer, deck=False).passed, (name, verdict)
    print(f"account ACL {account_acl}: {dict(outcome)}, {witnesses} witnesses passed")
    assert not false_closed
    assert outcome["agree"] / (outcome["agree"] + outcome["differ"]) >= 0.995, wrong[:3]
    assert outcome["unknown"] == 0


def test_the_remedy_closes_what_it_says_on_the_server(door: SwiftDoor, tmp_path: Path) -> None:
    assert door.send("POST", "", OWNER, {"X-Account-Access-Control": "{}"})[0] == 204
    folder = estate(tmp_path, door.at)
    surveyed(folder)
    remedies = json.loads(lantern("remedy", "--json", cwd=folder).out)["remedies"]
    applied = 0
    for row in remedies:
        for document in row["documents"]:
            first, *headers = document["text"].partition("\n\n")[0].splitlines()
            assert first == f"POST {door.at}/{row['name']}"
            sent = dict(line.split(":", 1) for line in headers[1:])
            before = {name: door.send("HEAD", f"/{row['name']}", OWNER)[1].get(name.lower(), "") for name in sent}
            assert door.send("POST", f"/{row['name']}", OWNER, {n: v.strip() for n, v in sent.items()})[0] == 204
            verbs = [fact.removeprefix("exposure.") for fact in row["facts"]]
            passed = [ask(door, row["name"], v, r, deck=False).passed for v in verbs for r in REFERERS]
            assert not any(passed), row
            assert door.send("POST", f"/{row['name']}", OWNER, before)[0] == 204
            applied += 1
    assert applied > 10


def temporary_url(
    door: SwiftDoor, path: str, ends: int, key: str, prefix: str | None = None, method: str = "GET", networks: str = ""
) -> str:
    """A temporary URL, as the protocol signs it."""
    account = urlsplit(door.at).path
    signed = f"prefix:{account}/{path.partition('/')[0]}/{prefix}" if prefix is not None else f"{account}/{path}"
    said = f"{f'ip={networks}' + chr(10) if networks else ''}{method}\n{ends}\n{signed}"
    signature = hmac.digest(key.encode(), said.encode(), "sha256").hex()
    more = f"&temp_url_prefix={prefix}" if prefix is not None else ""
    more += f"&temp_url_ip_range={networks}" if networks else ""
    return f"{door.at}/{path}?temp_url_sig={signature}&temp_url_expires={ends}{more}"


def test_temporary_urls_are_told_as_the_server_answers_them(door: SwiftDoor, tmp_path: Path) -> None:
    headers = {"X-Account-Meta-Temp-URL-Key": "tk-demo-000", "X-Account-Access-Control": "{}"}
    assert door.send("POST", "", OWNER, headers)[0] == 204
    assert door.send("POST", "/canary", OWNER, {"X-Container-Read": ""})[0] == 204
    for name in ("a.txt", "b.txt", "c.txt"):
        assert door.send("PUT", f"/canary/{name}", OWNER, body=b"x")[0] == 201
    now = int(time.time())
    urls = {
        "valid": temporary_url(door, "canary/a.txt", now + 7200, "tk-demo-000"),
        "expired": temporary_url(door, "canary/b.txt", now - 600, "tk-demo-000"),
        "prefix": temporary_url(door, "canary/c.txt", now + 3600, "tk-demo-000", ""),
    }
    answers = {name: door.send("GET", url.removeprefix(door.at))[0] for name, url in urls.items()}
    assert answers == {"valid": 200, "expired": 401, "prefix": 200}
    folder = estate(tmp_path, door.at)
    (folder / "notes.txt").write_text("\n".join(f"see {url} for it" for url in urls.values()))
    surveyed(folder)
    rows = json.loads(lantern("links", "notes.txt", "--json", cwd=folder).out)["links"]
    told = {(row["bucket"], row["key"], row["scope"]): (row["status"], row["signer_state"]) for row in rows}
    assert told == {
        ("canary", "a.txt", "object"): ("valid", "active"),
        ("canary", "b.txt", "object"): ("expired", "active"),
        ("canary", "", "bucket"): ("valid", "active"),
    }
    gone = {"X-Remove-Account-Meta-Temp-URL-Key": "x"}
    assert door.send("POST", "", OWNER, gone)[0] == 204
    assert door.send("POST", "/canary", OWNER, {"X-Container-Read": ".rlistings"})[0] == 204
    assert door.send("GET", urls["valid"].removeprefix(door.at))[0] == 401
    surveyed(folder)
    rows = json.loads(lantern("links", "notes.txt", "--json", cwd=folder).out)["links"]
    assert {row["signer_state"] for row in rows} == {"missing"}
    assert "tk-demo-000" not in "".join(file.read_text(errors="replace") for file in folder.rglob("*.json"))


def test_what_a_temporary_url_is_for_is_known_once_it_was_tried(door: SwiftDoor, tmp_path: Path) -> None:
    assert door.send("POST", "", OWNER, {"X-Account-Meta-Temp-URL-Key": "tk-demo-000"})[0] == 204
    assert door.send("PUT", "/canary/a.txt", OWNER, body=b"x")[0] == 201
    now = int(time.time())
    links = {
        "reads": temporary_url(door, "canary/a.txt", now + 7200, "tk-demo-000"),
        "writes": temporary_url(door, "canary/new.txt", now + 7200, "tk-demo-000", method="PUT"),
        "from here": temporary_url(door, "canary/a.txt", now + 7200, "tk-demo-000", networks="127.0.0.0/8"),
        "from elsewhere": temporary_url(door, "canary/a.txt", now + 7200, "tk-demo-000", networks="192.0.2.0/24"),
    }
    # two ends: the server takes the first
    links["said twice"] = links["reads"] + f"&temp_url_expires={now - 600}"
    sent = {name: door.send("PUT" if name == "writes" else "GET", url.removeprefix(door.at), body=b"x")[0]
            for name, url in links.items()}  # fmt: skip
    assert sent == {"reads": 200, "writes": 201, "from here": 200, "from elsewhere": 401, "said twice": 200}
    folder = estate(tmp_path, door.at)
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: links\n  require:\n    link.allows: within [read]\n"
    )
    surveyed(folder)
    for name, url in links.items():
        (folder / f"{name}.txt").write_text(url)
    told = {
        (name, how): json.loads(lantern("links", f"{name}.txt", *how, "--json", cwd=folder).out)["links"][0]
        for name in links
        for how in ((), ("--probe",))
    }
    for (name, how), row in told.items():
        opens = bool(how) and name in ("reads", "from here")
        assert row["status"] == ("unknown" if name == "said twice" else "valid")
        assert row["presumed"] is not opens, (name, how, row)
        assert ("link.allows" in row["against_baseline"]["unknown"]) is not opens, (name, how)
        assert row["networks"] == {"from here": ["127.0.0.0/8"], "from elsewhere": ["192.0.2.0/24"]}.get(name, [])


def test_a_credential_that_is_not_shown_acls_calls_nothing_closed(door: SwiftDoor, tmp_path: Path) -> None:
    dossier, rows = surveyed(estate(tmp_path, door.at), READER)
    assert {bucket.container_acl.state for bucket in dossier.buckets} == {"hidden"}
    levels = {v["verdict"] for row in rows.values() for verbs in row["exposure"].values() for v in verbs.values()}
    assert levels == {"unknown"}


SITES = {
    "with-index": {"Index": "index.html"}, "with-both": {"Index": "index.html", "Listings": "true"},
    "with-listings": {"Listings": "true"}, "plain": {},
}  # fmt: skip


def test_a_site_shows_whoever_has_no_token_its_index_page_in_place_of_a_listing(
    swift_server: str, tmp_path: Path
) -> None:
    """Whoever has a token of another account lists it all the same."""
    door = SwiftDoor(f"{swift_server}/v1/AUTH_deck")
    for name, site in SITES.items():
        headers = {f"X-Container-Meta-Web-{part}": value for part, value in site.items()}
        headers["X-Container-Read"] = ".r:*,.rlistings"
        assert door.send("PUT", f"/{name}", DECK, headers)[0] == 201
        for key in ("index.html", "logs/secret.txt"):
            assert door.send("PUT", f"/{name}/{key}", DECK, {})[0] == 201
    estate(tmp_path, door.at)
    _, rows = surveyed(tmp_path, DECK)
    for name in SITES:
        shown = {
            token: any(
                b"secret" in door.send("GET", f"/{name}{path}", OWNER if token else None, {})[2]
                for path in ("", "/", "?format=json", "/?format=json", "?versions", "?prefix=l", "/logs/", "/logs")
            )
            for token in (False, True)
        }
        levels = {one: rows[name]["exposure"][one]["list"]["verdict"] for one in ("anyone", "any-account")}
        assert shown == {False: name != "with-index", True: True}, name
        assert levels == {"anyone": "open" if shown[False] else "closed", "any-account": "open"}, name
        assert rows[name]["exposure"]["anyone"]["read"]["verdict"] == "open"
