"""All commands judge alike: one status for every requirement, one number for every count, one rule for exit codes."""

from __future__ import annotations

import json
import shutil
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
import typer
from click.testing import CliRunner

from rusty_lantern.cli.app import app
from tests.conftest import Lived

WAIVED = (
    ("harbour/camera-traps", "objects.encryption", ""),
    ("harbour/permit-archive", "objects.retention", ""),
    ("harbour/payroll-drop", "exposure.write", "open"),
    ("harbour/admin*", "credential.age", ""),
    ("harbour/boat-key", "encryption-key.state", ""),
    ("*meeting-minutes*", "link.lifetime", ""),
    ("harbour/grant-ledger*", "mirror.content", ""),
    ("harbour/ringing-sync", "identity.excess-permissions", "unknown"),
    ("harbour/camera-uploader", "identity.excess-permissions", "nothing"),  # covers nothing: that one is unknown
)
WAIVERS = "waivers:\n" + "".join(
    f'  - {{of: "{of}", fact: {fact}, because: b, by: r, since: 2026-10-01, until: 2027-03-01'
    + (f", observed: {observed}}}\n" if observed else "}\n")
    for of, fact, observed in WAIVED
)
Key = tuple[str, str, str, str]


class Inside:
    """Runs commands in this process, in a copy of the demo's workspace."""

    def __init__(self, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.chdir(folder)
        self.command = typer.main.get_command(app)
        self.last = 0

    def __call__(self, *words: str) -> Any:
        ran = CliRunner().invoke(self.command, [*words])
        assert ran.exit_code in (0, 1, 3), (words, ran.output)
        assert ran.exception is None or isinstance(ran.exception, SystemExit), (words, ran.exception)
        self.last = ran.exit_code
        return json.loads(ran.stdout) if "--json" in words else ran.stdout


@pytest.fixture
def inside(lived: Lived, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Inside:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    return Inside(folder, monkeypatch)


def statuses(inside: Inside) -> dict[Key, str]:
    """Every requirement that does not simply hold, by the audit."""
    audit = inside("audit", "--json")
    groups = {"drift": audit["drift"], "unknown": audit["unknown"], "waived": audit["waived"]}
    return {
        (one["store"], one["subject"], one["name"], one["fact"]): status
        for status, rows in groups.items()
        for one in rows
    }


def test_all_commands_agree_on_the_status_of_every_requirement(inside: Inside) -> None:
    Path("waivers.yaml").write_text(WAIVERS)
    audited = statuses(inside)
    assert Counter(audited.values())["waived"] == len(WAIVED) - 1

    found: dict[Key, str] = {}
    for row in inside("objects", "--json")["requirements"]:
        found[row["store"], "bucket", row["bucket"], row["fact"]] = row["status"]
    for row in inside("retention", "--json")["buckets"]:
        for one in row["drift"]:
            assert one["status"] == audited[one["store"], "bucket", one["bucket"], one["fact"]]
    for command, section, kind, name_of in (
        ("credentials", "identities", "identity", lambda r: r["name"]),
        ("encryption", "keys", "encryption-key", lambda r: r["name"]),
        ("links", "links", "link", lambda r: f"{r['bucket']}/{r['key']}"),
        ("mirrors", "mirrors", "mirror", lambda r: f"{r['bucket']} → {r['target']}"),
    ):
        for row in inside(command, "--json")[section]:
            store = row.get("store") or row["source"]
            for status in ("drift", "unknown", "waived"):
                found |= {(store, kind, name_of(row), fact): status for fact in row["against_baseline"][status]}
    credentials = {
        (row["store"], f"{row['owner']} {row['key']}", fact): status
        for row in inside("credentials", "--json")["credentials"]
        for status in ("drift", "unknown", "waived")
        for fact in row["against_baseline"][status]
    }
    found |= {(store, "credential", name, fact): status for (store, name, fact), status in credentials.items()}
    for bucket in ("camera-traps", "permit-archive", "payroll-drop", "press-kit", "drone-orthophotos", "gallery-web"):
        for one in inside("show", f"harbour/{bucket}", "--required", "--json")["required"]:
            found["harbour", "bucket", bucket, one["fact"]] = one["status"]
    odd = {key: (status, audited.get(key, "ok")) for key, status in found.items() if status != audited.get(key, "ok")}
    assert odd == {}
    judged_elsewhere = {key for key in audited if key[1] != "bucket" and key[1] != "store"}
    assert judged_elsewhere <= found.keys()


def test_a_request_that_is_refused_does_not_hide_that_another_is_allowed(inside: Inside, tmp_path: Path) -> None:
    """Of every bucket, audience and verb, `why` says nothing else than `exposure`, whatever it is asked about."""
    told: Counter[tuple[str, bool | None]] = Counter()
    for row in inside("exposure", "--json")["buckets"]:
        asked = [(audience, verb) for audience in row["exposure"] for verb in row["exposure"][audience]]
        lines = [json.dumps({"caller": audience, "verb": verb}) for audience, verb in asked]
        (tmp_path / "asked.jsonl").write_text("\n".join(lines))
        title = f"{row['store']}/{row['bucket']}"
        ran = CliRunner().invoke(inside.command, ["why", title, "--requests", str(tmp_path / "asked.jsonl"), "--json"])
        found = [json.loads(line) for line in ran.stdout.splitlines()]
        for (audience, verb), one in zip(asked, found, strict=True):
            verdict, allowed, other = row["exposure"][audience][verb], one["allowed"], one["other_requests"]
            told[verdict["verdict"], allowed] += 1
            if verdict["verdict"] == "closed":
                assert (allowed, other) == (False, None), (title, audience, verb)
            elif verdict["verdict"] == "unknown":
                assert allowed or other["level"] == "unknown", (title, audience, verb)
            elif not allowed:
                assert other["example"] == verdict["witness"], (title, audience, verb)
    assert min(told["open", True], told["closed", False]) > 20 and told["open", False] + told["open", None]


def test_a_proposed_bucket_is_judged_with_its_waivers_too(inside: Inside) -> None:
    Path("waivers.yaml").write_text(WAIVERS)
    policy = json.loads(inside("show", "harbour/payroll-drop", "--json")["facts"] and "{}") or {}
    Path("same.json").write_text(json.dumps({"Version": "2012-10-17", "Statement": [
        {"Effect": "Allow", "Principal": "*", "Action": "s3:PutObject", "Resource": "arn:aws:s3:::payroll-drop/*"}]}
        | policy))  # fmt: skip
    tried = inside("try", "--bucket", "harbour/payroll-drop", "--policy", "same.json", "--json")
    assert "exposure.write" in {one["fact"] for one in tried["waived"]}
    assert "exposure.write" not in {one["fact"] for one in tried["drift"]}


def test_every_command_counts_the_same(inside: Inside) -> None:
    audit, changes, history = (inside(command, "--json") for command in ("audit", "changes", "history"))
    inside("report", "--out", "out", "--no-figures")
    report = json.loads(Path("out/report.json").read_text())
    assert audit["counts"]["drift"] == len(audit["drift"]) == history["drift_duration"]["open"]
    assert history["surveys"][-1]["drift_by_severity"] == audit["drift_by_severity"]
    assert report["audit"]["counts"] == audit["counts"]
    turns = Counter(row["change"] for row in changes["drift"])
    since = report["audit"]["overview"]["since"]
    told = {turn: since[turn.replace(" ", "_")] for turn in ("new", "worse", "resolved", "now known")}
    assert told == {turn: turns[turn] for turn in told}
    assert turns["worse"] > 0
    page = Path("out/report.html").read_text()
    for word in ("new", "worse", "resolved"):
        assert f"{turns[word]} {word}" in page


LISTINGS = ("credentials", "encryption", "exposure", "links", "mirrors", "objects", "retention", "changes")


@pytest.mark.parametrize("command", LISTINGS)
def test_a_listing_ends_with_0_unless_a_floor_is_given_and_reached(inside: Inside, command: str) -> None:
    inside(command, "--json")
    assert inside.last == 0
    inside(command, "--json", "--fail-on", "low")
    assert inside.last == 1


def test_unknown_counts_in_the_exit_code_where_that_is_asked_for(inside: Inside) -> None:
    Path("baseline.yaml").write_text('title: t\nsheets: [{sheet: s, require: {policy: "one of [none, present]"}}]\n')
    estate = Path("estate.yaml")
    estate.write_text(estate.read_text().partition("mirrors:")[0])
    inside("audit", "--json")
    assert inside.last == 0
    assert inside("audit", "--quiet") == ""
    inside("audit", "--json", "--fail-on-unknown")
    assert inside.last == 3
    Path("waivers.yaml").write_text(
        "waivers:\n  - {of: '*', fact: policy, observed: unknown, because: b, by: r, since: 2026-10-01,"
        " until: 2027-03-01}\n"
    )
    inside("audit", "--json", "--fail-on-unknown")
    assert inside.last == 0
