"""Stores of the blob protocol: a real server's containers, read by the installed program and judged as they behave."""

from __future__ import annotations

import json
import random
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

import pytest

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.intake.signed_link import read_blob_link
from tests.blob_server import KEY_TEXT, BlobAccount, tomorrow
from tests.conftest import lantern

ESTATE = """\
estate: pond
stores:
  slip:
    reads: blob
    at: {at}
    plain-http: allowed
    credential: {{{credential}}}
    objects: {{"*": all}}
    beside: slip-account.json
"""
LEVELS = ("", "blob", "container")
ASKED = {
    "read": ("/a/o.txt", {}),
    "list": ("", {"restype": "container", "comp": "list"}),
    "read-settings": ("", {"restype": "container", "comp": "acl"}),
}
"""Verb → what is asked of a container without credentials."""


@dataclass(frozen=True)
class Surveyed:
    """A surveyed account, and how its containers answered nobody in particular."""

    folder: Path
    buckets: dict[str, Any]
    answered: dict[str, dict[str, int]]
    levels: dict[str, str]
    links: dict[str, str]


def known_account(**told: Any) -> Dossier:
    """What the management side tells of an account that keeps nobody out."""
    from datetime import UTC, datetime

    from rusty_lantern.core.model.guards import Guards
    from rusty_lantern.core.model.network import Network

    open_to_all = Answer("known", Network("allow"))
    usual: dict[str, Any] = {"public_access_guards": Answer("known", Guards()), "network": open_to_all}
    return Dossier(store="slip", taken=datetime(2026, 11, 2, tzinfo=UTC), **(usual | told))


@pytest.fixture(scope="module")
def surveyed(blob_account: BlobAccount, tmp_path_factory: pytest.TempPathFactory) -> Surveyed:
    """Forty varied containers, surveyed by the installed program."""
    dice = random.Random(21)
    levels, folder = {}, tmp_path_factory.mktemp("slip")
    for number in range(40):
        name = f"pond-{number:02d}"
        levels[name] = dice.choice(LEVELS)
        blob_account.make(name, levels[name], steward="dock")
        policies = {}
        if dice.random() < 0.5:
            policies["week"] = {"Expiry": tomorrow(7), "Permission": "rl"}
        if dice.random() < 0.3:
            policies["forever"] = {"Permission": "racwdl"}
        if policies:
            blob_account.store_policies(name, policies, levels[name])
        if dice.random() < 0.4:
            blob_account.put(name, "ü ä+&#?.txt", x_ms_tags="class=permit", x_ms_meta_colour="red")
            assert blob_account.send("PUT", f"/{name}/a/o.txt", {"comp": "snapshot"})[0] == 201
    links = {
        "by policy": blob_account.link("pond-00", si="week"),
        "ad hoc": blob_account.link("pond-00", "a/o.txt", sp="r", se=tomorrow(30)),
        "expired": blob_account.link("pond-00", "a/o.txt", sp="r", se="2024-01-01T00:00:00Z"),
        "endless": blob_account.link("pond-00", si="forever"),
        "without a required end": blob_account.link("pond-00", sp="racwdl"),
        "by another policy": blob_account.link("pond-00", si="month"),
        "over beside its policy": blob_account.link("pond-00", si="forever", se="2024-01-01T00:00:00Z"),
        "over by another form of date": blob_account.link("pond-00", "a/o.txt", sp="r", se="20240101T000000Z"),
    }
    stored = {"week": {"Expiry": tomorrow(7), "Permission": "rl"}, "forever": {"Permission": "rwdl"}}
    blob_account.store_policies("pond-00", stored, levels["pond-00"])
    answered = {
        name: {verb: blob_account.send("GET", f"/{name}{path}", query, signed=False)[0]
               for verb, (path, query) in ASKED.items()}
        for name in levels
    }  # fmt: skip
    credential = "account-key: env:POND_KEY"
    (folder / "estate.yaml").write_text(ESTATE.format(at=blob_account.at, credential=credential))
    (folder / "slip-account.json").write_bytes(encode(known_account()))
    (folder / "mail.txt").write_text("\n".join(links.values()))
    ended = lantern("survey", "--probe", cwd=folder, POND_KEY=KEY_TEXT)
    assert ended.code == 0, ended.err
    shown = json.loads(lantern("exposure", "--json", cwd=folder).out)
    return Surveyed(folder, {row["bucket"]: row for row in shown["buckets"]}, answered, levels, links)


def test_the_truth_table_of_anonymous_access_holds_exactly(surveyed: Surveyed) -> None:
    assert set(surveyed.levels.values()) == set(LEVELS)
    for name, answered in surveyed.answered.items():
        verdicts = surveyed.buckets[name]["exposure"]["anyone"]
        for verb, status in answered.items():
            wanted = "open" if status == 200 else "closed"
            assert (status, verdicts[verb]["verdict"]) in ((200, wanted), (403, wanted)), (name, verb)
        assert all(verdicts[verb]["verdict"] == "closed" for verb in ("write", "delete", "change-settings"))


def test_a_witness_is_the_request_that_the_server_lets_in(surveyed: Surveyed, blob_account: BlobAccount) -> None:
    name = next(name for name, level in surveyed.levels.items() if level == "container")
    for verb in ("list", "read-settings"):
        line = surveyed.buckets[name]["exposure"]["anyone"][verb]["witness"]["request"]
        method, _, target = line.partition(" ")
        path, _, query = target.partition("?")
        asked = dict(part.split("=") for part in query.split("&"))
        assert blob_account.send(method, path, asked, signed=False)[0] == 200, line


def test_the_anonymous_test_agrees_everywhere(surveyed: Surveyed) -> None:
    for name in ("pond-00", "pond-01", "pond-02", "pond-03", "pond-04"):
        assert _facts(surveyed.folder, name)["anonymous-test"]["value"] == "agrees"


def test_objects_versions_tags_and_policies_are_as_they_were_put(surveyed: Surveyed, blob_account: BlobAccount) -> None:
    facts = {name: _facts(surveyed.folder, name) for name in ("pond-00", "pond-01", "pond-02")}
    for name, told in facts.items():
        _, listed = blob_account.send("GET", f"/{name}", {"restype": "container", "comp": "list"})
        assert told["objects"]["value"] == listed.count(b"<Blob>")
        assert told["tags.steward"]["value"] == "dock"
        assert told["versioning"]["state"] == "failed"
        assert told["encryption.at-rest"]["state"] == "failed"
    assert facts["pond-00"]["link-policies.count"]["value"] == 2
    assert facts["pond-00"]["link-policies.allow"]["value"] == "list read write delete"


def test_links_stand_as_the_server_takes_them(surveyed: Surveyed, blob_account: BlobAccount) -> None:
    told = json.loads(lantern("links", "mail.txt", "--probe", "--json", cwd=surveyed.folder).out)
    names = list(surveyed.links)
    rows = {names[int(row["found"].partition(":")[2]) - 1]: row for row in told["links"]}
    assert {name: row["status"] for name, row in rows.items()} == {
        "by policy": "valid", "ad hoc": "valid", "expired": "expired", "endless": "valid",
        "by another policy": "policy removed", "over beside its policy": "unknown",
        "over by another form of date": "unknown",
    }, "one is no link: it lacks the end that its form needs"  # fmt: skip
    assert {name for name, row in rows.items() if row["never_ends"]} == {"endless", "by another policy"}
    assert rows["by policy"]["verbs"] == ["read", "list"] and "revives" in rows["by policy"]["ended_by"]
    alive = {name for name, link in surveyed.links.items() if _opens(blob_account, link)}
    assert alive == {name for name, row in rows.items() if row["status"] in ("valid", "unknown")}
    tried = {name for name, row in rows.items() if row["scope"] == "object" and name in alive}
    assert {name: row["probe"] for name, row in rows.items() if row["probe"]} == dict.fromkeys(tried, "it opens")


def _levels(row: dict[str, Any]) -> dict[str, str]:
    return {verb: verdict["verdict"] for verb, verdict in row["exposure"]["anyone"].items()}


def _facts(folder: Path, name: str) -> dict[str, Any]:
    """Fact → what `lantern show` says of it."""
    told = json.loads(lantern("show", f"slip/{name}", "--json", cwd=folder).out)["facts"]
    return {fact["fact"]: fact for fact in told}


def _opens(account: BlobAccount, link: str) -> bool:
    from http.client import HTTPConnection
    from urllib.parse import urlsplit

    parts = urlsplit(link)
    path = parts.path if parts.path.endswith("o.txt") else f"{parts.path}/a/o.txt"
    connection = HTTPConnection(parts.hostname or "", parts.port or 80, timeout=60)
    connection.request("GET", f"{path}?{parts.query}")
    status = connection.getresponse().status
    connection.close()
    return status == 200


def test_a_signed_link_is_enough_to_read_and_is_shown_nowhere(
    surveyed: Surveyed, blob_account: BlobAccount, tmp_path: Path
) -> None:
    said = {"sv": "2020-12-06", "ss": "b", "srt": "sco", "sp": "rl", "se": tomorrow(2)}
    link = _account_link(said)
    (tmp_path / "estate.yaml").write_text(ESTATE.format(at=blob_account.at, credential="signed-link: env:POND_LINK"))
    (tmp_path / "slip-account.json").write_bytes(encode(known_account()))
    ended = lantern("survey", "--log", "log.jsonl", cwd=tmp_path, POND_LINK=link)
    assert ended.code == 0, ended.err
    shown = json.loads(lantern("exposure", "--json", cwd=tmp_path).out)["buckets"]
    assert {row["bucket"]: _levels(row) for row in shown} == {n: _levels(row) for n, row in surveyed.buckets.items()}
    facts = _facts(tmp_path, "pond-00")
    assert facts["link-policies.count"]["state"] == "denied"
    signature = link.rpartition("sig=")[2]
    for file in tmp_path.rglob("*"):
        assert not file.is_file() or signature.encode() not in file.read_bytes(), file
    assert signature not in ended.out + ended.err
    # it is not shown the policies: what a link by one allows, and until when, is not known
    (tmp_path / "mail.txt").write_text(surveyed.links["endless"])
    (tmp_path / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: s\n  require: {link.allows: read, link.expires: absent}\n"
    )
    row = json.loads(lantern("links", "mail.txt", "--json", cwd=tmp_path).out)["links"][0]
    assert (row["status"], row["never_ends"]) == ("unknown", False)
    assert set(row["against_baseline"]["unknown"]) == {"link.allows", "link.expires"}


def _account_link(said: dict[str, str]) -> str:
    import base64
    import hashlib
    import hmac
    from urllib.parse import urlencode

    from tests.blob_server import KEY

    parts = ["keeper", said["sp"], said["ss"], said["srt"], "", said["se"], "", "", said["sv"], "", ""]
    mac = base64.b64encode(hmac.new(KEY, "\n".join(parts).encode(), hashlib.sha256).digest()).decode()
    return urlencode({**said, "sig": mac})


@pytest.mark.parametrize(
    ("told", "verdict"),
    [
        ({}, "open"),
        ({"public_access_guards": Answer("denied")}, "unknown"),
        ({"network": Answer("denied")}, "unknown"),
    ],
)
def test_an_account_switch_that_is_unread_makes_a_level_unknown(
    surveyed: Surveyed, told: dict[str, Any], verdict: str, tmp_path: Path, blob_account: BlobAccount
) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.format(at=blob_account.at, credential="account-key: env:POND_KEY"))
    (tmp_path / "slip-account.json").write_bytes(encode(known_account(**told)))
    assert lantern("survey", cwd=tmp_path, POND_KEY=KEY_TEXT).code == 0
    shown = json.loads(lantern("exposure", "--json", cwd=tmp_path).out)["buckets"]
    for row in shown:
        wanted = verdict if surveyed.levels[row["bucket"]] else "closed"
        assert row["exposure"]["anyone"]["read"]["verdict"] == wanted, row["bucket"]


def test_a_wrong_key_is_told_as_such(tmp_path: Path, blob_account: BlobAccount) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.format(at=blob_account.at, credential="account-key: env:POND_KEY"))
    ended = lantern("reach", cwd=tmp_path, POND_KEY="d3Jvbmc=")
    assert "refused" in ended.out and "d3Jvbmc" not in ended.out + ended.err
    ended = lantern("reach", cwd=tmp_path, POND_KEY="not base 64!")
    assert ended.code == 2 and "base 64" in ended.err


BY_LINK: dict[str, list[tuple[str, str, str]]] = {
    "list": [("GET", "/every", "restype=container&comp=list")],
    "read": [("GET", "/every/a/o.txt", "")],
    "write": [("PUT", "/every/new-N", ""), ("PUT", "/every/a/o.txt", "")],
    "delete": [("DELETE", "/every/a/o.txt", ""), ("DELETE", "/gone", "restype=container")],
    "change-settings": [("PUT", "/every/a/o.txt", "comp=tags"), ("PUT", "/every", "restype=container&comp=metadata"),
                        ("PUT", "/made-N", "restype=container"), ("PUT", "", "restype=service&comp=properties")],
    "read-settings": [("GET", "/every/a/o.txt", "comp=tags"), ("GET", "/every", "restype=container"),
                      ("GET", "", "comp=list"), ("GET", "", "restype=service&comp=properties")],
}  # fmt: skip
"""Verb → requests of it."""
TAGS = b'<?xml version="1.0"?><Tags><TagSet><Tag><Key>a</Key><Value>b</Value></Tag></TagSet></Tags>'


def _allowed(account: BlobAccount, token: str, number: int) -> set[str]:
    """The verbs of which the server lets a request through."""
    passed = set()
    for verb, requests in BY_LINK.items():
        for method, path, query in requests:
            account.send("PUT", "/gone", {"restype": "container"})
            account.put("every", "a/o.txt")
            body = TAGS if query == "comp=tags" and method == "PUT" else b"x" if verb == "write" else b""
            asked = dict(parse_qsl("&".join(part for part in (query, token) if part)))
            path, headers = path.replace("N", str(number)), {"x-ms-blob-type": "BlockBlob"} if verb == "write" else {}
            status, _ = account.send(method, path, asked, headers, body, signed=False)
            passed |= {verb} if status not in (401, 403, 404) else set()
    return passed


def test_each_letter_of_a_link_allows_the_verbs_that_are_told_of_it(blob_account: BlobAccount) -> None:
    account = blob_account
    account.make("every")
    links = {f"container {letter}": account.link("every", sp=letter, se=tomorrow()) for letter in "rcwdlt"}
    links |= {f"blob {letter}": account.link("every", "a/o.txt", sp=letter, se=tomorrow()) for letter in "rwdt"}
    links |= {f"{kind} {letter}": f"?{account.account_link(kind, letter)}" for kind in "ocs" for letter in "rcwdlt"}
    links["co dl"] = f"?{account.account_link('co', 'dl')}"
    wrong = {}
    for number, (name, link) in enumerate(links.items()):
        token = link.partition("?")[2]
        told = read_blob_link(dict(parse_qsl(token)))
        assert told is not None
        passed = _allowed(account, token, number)
        if passed != set(told.verbs):
            wrong[name] = (sorted(passed), sorted(told.verbs))
    assert not wrong, wrong
    assert read_blob_link(dict(parse_qsl(account.account_link("c", "d")))).verbs == ("delete",)  # type: ignore[union-attr]
