"""Stores that we did not write, set up with a standard client: the real gateway, and the mock server."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import Ran, lantern
from tests.gateway import Gateway, gateway, standard_client
from tests.real_store import Seeded, policy, seed, workspace_for

__all__ = ["gateway"]


@dataclass(frozen=True)
class Real:
    folder: Path
    seeded: Seeded

    def run(self, *words: str) -> Ran:
        return lantern(*words, cwd=self.folder)


@pytest.fixture(scope="module")
def mock_server() -> Iterator[str]:
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    yield f"http://{host}:{port}"
    server.stop()


@pytest.fixture(scope="module", params=["gateway", "mock"])
def real(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Real:
    if request.param == "gateway":
        address, key = request.getfixturevalue("gateway").address, Gateway("").keeper
    else:
        address, key = request.getfixturevalue("mock_server"), ("mock-key", "mock-secret")
    seeded = seed(standard_client(address, *key))
    folder = workspace_for(tmp_path_factory.mktemp(request.param) / "ws", address, key)
    ran = lantern("survey", cwd=folder)
    assert ran.code in (0, 3), ran.err
    return Real(folder, seeded)


def test_a_survey_shows_the_settings_that_the_client_put_there(real: Real) -> None:
    wrong = {}
    for bucket, expected in real.seeded.facts.items():
        shown = {f["fact"]: f for f in json.loads(real.run("show", f"real/{bucket}", "--json").out)["facts"]}
        for name, value in expected.items():
            if shown[name]["value"] != value:
                wrong[f"{bucket} {name}"] = (value, shown[name]["value"], shown[name]["note"])
    assert wrong == {}


def test_no_setting_is_left_failed_or_denied(real: Real) -> None:
    result = json.loads(next(iter((real.folder / "surveys").glob("*/stores/real.json"))).read_text())
    states = {
        (name, answer.get("state", "known"), answer.get("note", ""))
        for bucket in result["buckets"]
        for name, answer in bucket.items()
        if isinstance(answer, dict) and answer.get("state") in ("failed", "denied")
    }
    assert states == set()


def test_the_audit_finds_the_open_doors(real: Real) -> None:
    ran = real.run("audit", "--json")
    drift = {(d["bucket"], d["fact"]) for d in json.loads(ran.out)["drift"]}
    assert ran.code == 1
    assert {("reed-public", "exposure.read"), ("reed-writable", "exposure.write")} <= drift
    assert ("reed-versioned", "versioning") not in drift
    assert ("reed-paused", "versioning") in drift


def test_reach_tells_what_may_be_asked(real: Real) -> None:
    ran = real.run("reach", "--json")
    found = json.loads(ran.out)["stores"][0]
    assert found["credential"] == "accepted"
    assert abs(found["clock_ahead_seconds"]) <= 2
    assert {found["questions"][q] for q in ("policy", "grants", "versioning", "tags", "usage")} == {"yes"}


def test_the_gateway_says_of_what_it_does_not_offer_that_it_does_not(gateway: Gateway, tmp_path: Path) -> None:
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.deck)
    gateway.client(gateway.deck).create_bucket(Bucket="deck-only")
    lantern("survey", cwd=folder)
    shown = json.loads(lantern("show", "deck-only", "--json", cwd=folder).out)
    states = {f["fact"]: f["state"] for f in shown["facts"]}
    assert states["encryption.at-rest"] == "unsupported"
    assert "answered with a listing" in next(f["note"] for f in shown["facts"] if f["fact"] == "encryption.at-rest")


def test_knocking_at_the_real_gateway_agrees_with_every_verdict_but_where_it_reads_rules_differently(
    gateway: Gateway, tmp_path: Path
) -> None:
    keeper = gateway.client()
    seed(keeper, "knock")
    keeper.create_bucket(Bucket="knock-negated")
    keeper.put_object(Bucket="knock-negated", Key="k", Body=b"x")
    condition = {"StringNotEquals": {"aws:Referer": "https://elsewhere.example/"}}
    keeper.put_bucket_policy(
        Bucket="knock-negated", Policy=policy("knock-negated", {"Action": "s3:GetObject", "Condition": condition})
    )
    for name in ("knock-public", "knock-fenced", "knock-listed"):
        keeper.put_object(Bucket=name, Key="k", Body=b"x")
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper)
    assert lantern("survey", "--probe", "--only", "real/knock-*", cwd=folder).code in (0, 3)
    ran = lantern("exposure", "--probe", "--json", cwd=folder)
    probed = {(p["bucket"], p["verb"]): p for p in json.loads(ran.out)["probed"]}
    assert {who for who, p in probed.items() if p["outcome"] != "agrees"} == {("knock-negated", "read")}
    assert probed["knock-public", "read"]["answer"] in ("200", "206")
    assert probed["knock-fenced", "read"]["answer"] == "403"
    assert probed["knock-listed", "list"]["answer"] == "200"
    drift = [
        d["bucket"] for d in json.loads(lantern("audit", "--json", cwd=folder).out)["drift"] if d["fact"] == "doors"
    ]
    assert drift == ["knock-negated"]


def test_why_try_and_access_answer_about_the_real_gateway(gateway: Gateway, tmp_path: Path) -> None:
    keeper = gateway.client()
    keeper.create_bucket(Bucket="asked-about")
    shared = {"Action": "s3:GetObject", "Principal": {"AWS": ["arn:aws:iam:::user/deck"]}}
    keeper.put_bucket_policy(Bucket="asked-about", Policy=policy("asked-about", shared))
    folder = workspace_for(tmp_path / "ws", gateway.address, gateway.keeper)
    lantern("survey", "--only", "real/asked-about", cwd=folder)
    rows = json.loads(lantern("access", "--json", cwd=folder).out)["access"]
    assert ("arn:aws:iam:::user/deck", {"read": "open"}) in [(row["identity"], row["verbs"]) for row in rows]
    refused = json.loads(lantern("why", "asked-about", "--json", cwd=folder).out)
    assert (refused["allowed"], refused["steps"][0]["why"]) == (False, "who")
    (tmp_path / "new.json").write_text(policy("asked-about", {"Action": "s3:GetObject"}))
    words = ("try", "--bucket", "asked-about", "--policy", str(tmp_path / "new.json"), "--json")
    changes = json.loads(lantern(*words, cwd=folder).out)["changes"]
    assert (changes[0]["audience"], changes[0]["before"], changes[0]["after"]) == ("anyone", "closed", "open")
