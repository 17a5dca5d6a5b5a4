"""The demo estate, through the installed program: every trap caught, every look-alike left alone."""

from __future__ import annotations

import json
import shutil
import urllib.request
from collections import Counter
from datetime import timedelta
from itertools import product
from pathlib import Path
from typing import Any
from urllib.error import HTTPError

import pytest

from rusty_lantern.archive.surveys import load
from rusty_lantern.archive.workspace import Workspace
from rusty_lantern.cli.session import stores_of
from rusty_lantern.core.answer import NOT_IN_DOSSIER
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.capabilities import FIELD_WORDS
from rusty_lantern.reports.results.surveys import survey_result
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import Demo, Lived, Whole, estate_for, lantern
from tests.saltmarsh_answers import DRIFT, EXPOSED, LOOK_ALIKES, OBJECT_DRIFT, OBJECT_UNKNOWN, UNKNOWN


def test_every_drift_is_found_and_nothing_else(demo: Demo) -> None:
    ran = demo.run("audit", "--json")
    result = json.loads(ran.out)
    assert ran.code == 1
    whole = [d for d in result["drift"] if d["objects"] is None]
    assert {(d["bucket"], d["fact"]): (d["severity"], d["observed"]) for d in whole} == DRIFT
    counted = [(d, d["objects"]) for d in result["drift"] if d["objects"] is not None]
    found = {(d["bucket"], d["fact"]): (d["severity"], o["failed"], o["checked"]) for d, o in counted}
    assert found == OBJECT_DRIFT
    assert {(u["bucket"], u["fact"]) for u in result["unknown"]} == UNKNOWN | OBJECT_UNKNOWN
    reasons = {u["reason"] for u in result["unknown"] if (u["bucket"], u["fact"]) in UNKNOWN}
    why = ("policy could not be read", "ACLs", "traps-copy is not in this store")
    assert all(any(words in reason for words in why) for reason in reasons)


def test_look_alikes_are_left_alone(demo: Demo) -> None:
    result = json.loads(demo.run("audit", "--json").out)
    assert not {d["bucket"] for d in result["drift"] + result["unknown"]} & set(LOOK_ALIKES)
    assert {b.name for b in saltmarsh.harbour().dossier.buckets} == set(LOOK_ALIKES) | set(EXPOSED) | {
        bucket for bucket, _ in (*DRIFT, *OBJECT_DRIFT)
    }


def test_exposures_are_as_written_down(demo: Demo) -> None:
    rows = json.loads(demo.run("buckets", "--json").out)["buckets"]
    assert {row["bucket"]: row["exposure"] for row in rows if row["exposure"]} == EXPOSED


def test_the_stand_in_accepts_each_witness_of_the_public_and_refuses_the_look_alikes(demo: Demo) -> None:
    exposure = json.loads(demo.run("exposure", "--json").out)
    asked = 0
    for row in exposure["buckets"]:
        for verb in ("read", "write", "list", "delete"):
            verdict = row["exposure"]["anyone"][verb]
            witness = verdict["witness"]
            if witness and not witness["at"].startswith("2026"):
                continue  # season-preview: allowed from a date on, and the stand-in's date is before it
            if witness:
                assert _knock(demo.address, witness["request"], witness) in (200, 204, 404), row["bucket"]
                asked += 1
            elif verdict["verdict"] == "closed" and verb in ("read", "list"):
                path = f"GET /{row['bucket']}" + ("/item-00000" if verb == "read" else "?list-type=2")
                assert _knock(demo.address, path, {"address": "198.51.100.7"}) == 403, row["bucket"]
                asked += 1
    assert asked > 40


def _knock(address: str, line: str, witness: dict[str, Any]) -> int:
    method, _, target = line.partition(" ")
    headers = {"x-standin-from": str(witness["address"]), "user-agent": "visitor"}
    headers |= witness.get("headers", {})
    if through := witness.get("circumstances", {}).get("through the access point"):
        headers["x-standin-through"] = through
    request = urllib.request.Request(address + target, method=method, headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=5) as answer:
            return int(answer.status)
    except HTTPError as error:
        with error:
            return int(error.code)


def test_audit_works_again_with_the_store_gone_and_prints_the_same_bytes(lived: Lived) -> None:
    first = lived.run("audit")
    again = lantern("audit", cwd=lived.folder / "surveys")
    assert first.out == again.out
    assert first.out.splitlines()[3] in lived.out
    for step in ("reach", "survey", "buckets", "audit", "remedy", "changes", "show", "exposure", "history"):
        assert f"$ lantern {step}" in lived.out


def test_two_demos_keep_the_same_survey(lived: Lived, whole: Whole) -> None:
    for store in ("harbour", "skerry", "attic", "undercroft"):
        one = (lived.folder / f"surveys/20261102T060000Z/stores/{store}.json").read_text()
        other = (whole.folder / f"surveys/20261102T060000Z/stores/{store}.json").read_text()
        assert _without_address(one) == _without_address(other)


def _without_address(text: str) -> list[str]:
    return [line for line in text.splitlines() if '"address"' not in line and "127.0.0.1" not in line]


def _points(bucket: Bucket) -> list[tuple[object, ...]]:
    """Access points without the evidence of what was read of them."""
    points = bucket.access_points.value or []
    return [(p.name, p.arn, p.origin, p.vpc, p.policy.value, p.public_access_guards.value) for p in points]


def test_what_the_survey_read_is_what_the_stand_in_holds(demo: Demo) -> None:
    from rusty_lantern.archive.surveys import load

    read = {b.name: b for b in load(demo.folder / "surveys").dossiers[0].buckets}
    for held in saltmarsh.harbour().dossier.buckets:
        for field in set(held.__struct_fields__) - {
            "name",
            "policy",
            "anonymous_test",
            "public_status",
            "usage",
            "table",
            "object_acls",
            "access_points",
        }:
            expected, found = getattr(held, field), getattr(read[held.name], field)
            assert (found.state, found.value) == (expected.state, expected.value), (held.name, field)
        assert read[held.name].usage.value == held.usage.value
        assert _points(read[held.name]) == _points(held)
        if held.name != "drone-orthophotos":
            assert read[held.name].policy.value == held.policy.value
    assert read["drone-orthophotos"].policy.state == "denied"


def test_only_reading_requests_are_ever_sent(demo: Demo, tmp_path: Path) -> None:
    folder = estate_for(tmp_path / "ws", demo.address, objects=True)
    demo.store.requests.clear()
    lantern("reach", cwd=folder)
    lantern("survey", "--probe", "--objects", "sample", cwd=folder)
    methods = {method for method, _ in demo.store.requests}
    assert methods <= {"GET", "HEAD"}
    assert len(demo.store.requests) > 800


@pytest.mark.parametrize("floor,code", [("critical", 1), ("low", 1)])
def test_the_floor_decides_the_exit_code(demo: Demo, floor: str, code: int) -> None:
    assert demo.run("audit", "--fail-on", floor).code == code


def test_what_follows_from_a_survey_is_kept_in_a_process_until_its_estate_changes(lived: Lived, tmp_path: Path) -> None:
    place = Workspace(Path(shutil.copytree(lived.folder, tmp_path / "ws")))
    taken = load(place.surveys)
    when = taken.manifest.taken
    first = stores_of(place, taken, when)
    assert stores_of(place, load(place.surveys), when) is first
    assert stores_of(place, taken, when + timedelta(days=1)) is not first
    estate = place.folder / "estate.yaml"
    estate.write_text(estate.read_text().replace("encrypted disks", "disks that are encrypted"))
    assert stores_of(Workspace(place.folder), taken, when) is not first


def test_a_survey_says_what_it_did_not_read_and_why(lived: Lived) -> None:
    """Every answer about a bucket that is unread for whatever reason: denied, hidden from this credential, failed."""
    survey = load(Workspace(lived.folder).surveys)
    told, counted = survey_result(survey), Counter[str]()
    apart = ("anonymous_test", "object_acls", "table", "differs_by_door", "owner")
    for dossier in survey.dossiers:
        rows = told.unread_answers.get(dossier.store, [])
        for bucket, name in product(dossier.buckets, FIELD_WORDS):
            answer = getattr(bucket, name)
            if answer.unread and answer.note != NOT_IN_DOSSIER and name not in apart:
                counted[answer.state] += 1
                [row] = [row for row in rows if row.reason == answer.reason]
                assert FIELD_WORDS[name] in row.what and row.buckets >= 1
    assert min(counted[state] for state in ("denied", "hidden", "failed")) >= 1, counted
    assert sum(row.buckets for rows in told.unread_answers.values() for row in rows) <= counted.total()
    words = " ".join(lived.out.split())
    assert "not read of bucket drone-orthophotos: access policies (denied to this credential: AccessDenied)" in words
    assert "lagoon: not read of 9 buckets: default encryption (not shown to this credential" in words
