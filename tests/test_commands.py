"""What the commands print, read as their user: widths, pipes, colour, and the access commands' answers."""

from __future__ import annotations

import json
import re
from pathlib import Path

import msgspec
import pytest

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.cli.app import EXIT_CODES
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.reports.results import access
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import Demo, lantern

ROOT = Path(__file__).parent.parent

VIEWS: tuple[tuple[str, ...], ...] = (
    ("buckets",),
    ("audit",),
    ("show", "press-kit", "--required"),
    ("show", "drone-orthophotos"),
    ("exposure",),
    ("access",),
    ("why", "harbour/contractor-drop", "--verb", "write"),
)


@pytest.mark.parametrize("words", VIEWS)
@pytest.mark.parametrize("width", [80, 100, 160])
def test_nothing_is_wider_than_the_terminal(demo: Demo, words: tuple[str, ...], width: int) -> None:
    out = demo.run(*words, COLUMNS=str(width)).out
    assert out
    assert max(len(line) for line in out.splitlines()) <= width
    assert "\x1b" not in out


def _crowd(folder: Path, times: int) -> Path:
    """A workspace with every bucket of the demo's first store so many times over, each under a name of its own."""
    found = saltmarsh.harbour().dossier
    buckets = [_named(bucket, f"{bucket.name}-{n:02}") for n in range(times) for bucket in found.buckets]
    make(folder, workspace_files("http://127.0.0.1:9"))
    crowded = msgspec.structs.replace(found, buckets=buckets, listing=Answer("known", len(buckets)))
    save(folder / "surveys", "saltmarsh", saltmarsh.MOMENT, [crowded])
    return folder


def _named(bucket: Bucket, name: str) -> Bucket:
    policy = bucket.policy
    if policy.value is not None:
        policy = msgspec.structs.replace(policy, value=policy.value.replace(f":::{bucket.name}", f":::{name}"))
    return msgspec.structs.replace(bucket, name=name, policy=policy)


def test_what_a_thousand_buckets_come_to_is_a_screen(tmp_path: Path) -> None:
    """Names are counted where they are many, and ways in that are alike are told once; the matrix has every bucket."""
    one, many = _crowd(tmp_path / "one", 1), _crowd(tmp_path / "many", 40)
    first = lantern("audit", cwd=many, COLUMNS="100").out
    assert "1,120 buckets" in first
    assert len(first.splitlines()) < 100, first
    alone, told = (lantern("exposure", cwd=folder, COLUMNS="200").out for folder in (one, many))
    assert told.count("allowed by") == alone.count("allowed by") > 10
    ways = [line for line in told.splitlines() if "through a role" not in line and "by copies that" not in line]
    public = "\n".join(ways)
    assert public.count("also in  ") == len(re.findall(r"and \d\d more", public)) > 9
    open_ones = [line.split()[0] for line in alone.splitlines() if line.startswith("harbour/") and "open" in line]
    assert open_ones
    assert all(f"{name[:-2]}{n:02}" in told for name in open_ones for n in range(40))


def test_colour_only_when_asked_and_never_against_no_color(demo: Demo) -> None:
    plain = demo.run("audit").out
    coloured = demo.run("audit", FORCE_COLOR="1").out
    assert "\x1b[" not in plain
    assert "\x1b[" in coloured
    assert "\x1b[3" not in demo.run("audit", FORCE_COLOR="1", NO_COLOR="1").out


def test_ascii_terminals_get_ascii(demo: Demo) -> None:
    ran = demo.run("buckets", PYTHONIOENCODING="ascii", COLUMNS="60")
    assert ran.out.isascii()
    assert "(--json has it all)" in ran.out


def test_a_closed_pipe_is_no_error(demo: Demo) -> None:
    import subprocess

    from tests.conftest import PROGRAM

    shell = f"{PROGRAM} buckets | head -1"
    ran = subprocess.run(["bash", "-c", shell], cwd=demo.folder, capture_output=True, text=True, check=False)
    assert (ran.returncode, ran.stderr) == (0, "")


def test_show_says_who_asked_for_what_on_which_line(demo: Demo) -> None:
    required = {r["fact"]: r for r in json.loads(demo.run("show", "press-kit", "--required", "--json").out)["required"]}
    assert required["exposure.read"]["sheet"] == "public pictures"
    assert required["exposure.read"]["line"] == "baseline.yaml:40:7"
    assert required["exposure.read"]["overrides"] == ["every bucket, baseline.yaml:6:7"]
    assert required["exposure.list"]["status"] == "drift"
    assert required["objects.public"]["observed"] == "1 of 24 fail"
    assert required["objects.public"]["note"] == "first: press/00003.jpg"


def test_why_names_the_rule_and_the_first_part_that_does_not_fit(demo: Demo) -> None:
    refused = json.loads(demo.run("why", "contractor-drop", "--verb", "write", "--json").out)
    assert (refused["allowed"], refused["by"]) == (False, 'statement 2 "S2"')
    words = ("why", "contractor-drop", "--verb", "write", "--header", "User-Agent: contractor-uploader", "--json")
    allowed = json.loads(demo.run(*words).out)
    assert (allowed["allowed"], allowed["by"]) == (True, 'statement 1 "S1"')
    assert allowed["steps"][0]["why"] == "StringNotEquals aws:useragent"
    unsure = json.loads(demo.run("why", "drone-orthophotos", "--json").out)
    assert unsure["allowed"] is None
    own = json.loads(demo.run("why", "boat-logs", "--as", "400100200300", "--json").out)
    assert (own["allowed"], "own permissions" in own["note"]) == (False, True)


def test_every_bucket_of_an_identity_is_listed_for_programs_unless_there_are_very_many(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    stores = store_subjects([saltmarsh.harbour().dossier], None, saltmarsh.MOMENT)

    def rows() -> list[access.IdentityAccessRow]:
        about = {"survey": "", "as_of": saltmarsh.MOMENT}
        return access.access_result(about, stores, [], access.AccessChoice()).identities

    whole = rows()
    assert max(row.count for row in whole) > access.FEW
    assert all(len(row.buckets) == row.count for row in whole)
    monkeypatch.setattr(access, "MOST_PAIRS", sum(row.count for row in whole) - 1)
    cut = rows()
    assert [(row.identity, row.count) for row in cut] == [(row.identity, row.count) for row in whole]
    assert all(len(row.buckets) == min(row.count, access.FEW) for row in cut)


def test_many_requests_are_decided_from_a_file(demo: Demo, tmp_path: Path) -> None:
    asked = [
        {"caller": "anyone", "address": "198.51.100.7"},
        {"caller": "anyone", "address": "192.0.2.1"},
        {"caller": "any-account", "verb": "write"},
    ]
    (tmp_path / "asked.jsonl").write_text("\n".join(map(json.dumps, asked)))
    ran = demo.run("why", "ringing-records", "--requests", str(tmp_path / "asked.jsonl"), "--json")
    assert [json.loads(line)["allowed"] for line in ran.out.splitlines()] == [True, False, False]


def test_access_lists_named_identities_and_tells_outside_from_inside(demo: Demo) -> None:
    rows = json.loads(demo.run("access", "--outside", "--json").out)["access"]
    assert {r["bucket"]: (r["identity"], r["verbs"]) for r in rows} == {
        "tide-gauge-raw": ("500600700800", {"read": "open"}),
        "reef-plans": ("500600700800", {"read": "open"}),
        "partner-feed": ("500600700800", {"read": "open"}),  # whom a Deny spares
        "station-inbox": ("500600700800", {"read": "open", "write": "open", "delete": "open"}),
    }
    writers = json.loads(demo.run("access", "--can", "write", "--json").out)["access"]
    assert {r["bucket"] for r in writers} >= {"tmp-exchange", "payroll-drop", "tide-gauge-raw"}


FENCED = {
    "Effect": "Allow",
    "Principal": "*",
    "Action": "s3:GetObject",
    "Resource": "arn:aws:s3:::payroll-drop/*",
    "Condition": {"IpAddress": {"aws:SourceIp": "198.51.100.0/24"}},
}


def test_try_tells_who_gains_and_who_loses(demo: Demo, tmp_path: Path) -> None:
    (tmp_path / "new.json").write_text(json.dumps({"Version": "2012-10-17", "Statement": FENCED}))
    ran = demo.run("try", "--bucket", "payroll-drop", "--policy", str(tmp_path / "new.json"), "--json")
    changes = {(c["audience"], c["verb"]): c for c in json.loads(ran.out)["changes"]}
    assert set(changes) == {(a, v) for a in ("anyone", "any-account") for v in ("read", "write")}
    assert changes["anyone", "read"]["gained"] is None
    assert changes["anyone", "read"]["lost"]["request"] == "GET /payroll-drop/a"
    assert (changes["anyone", "read"]["before"], changes["anyone", "read"]["after"]) == ("open", "restricted")


def test_the_same_policy_in_other_words_changes_nothing(demo: Demo, tmp_path: Path) -> None:
    halves = ["128.0.0.0/2", "192.0.0.0/2", "0.0.0.0/1"]
    same = {
        **FENCED,
        "Action": ["s3:PutObject", "s3:GetObject"],
        "Condition": {"IpAddress": {"aws:SourceIp": halves}},
    }
    (tmp_path / "new.json").write_text(json.dumps({"Version": "2012-10-17", "Statement": [same]}))
    ran = demo.run("try", "--bucket", "payroll-drop", "--policy", str(tmp_path / "new.json"))
    assert "No access changes." in ran.out


def test_a_bucket_that_does_not_exist_yet_can_be_tried(demo: Demo, tmp_path: Path) -> None:
    (tmp_path / "new.yaml").write_text(
        "name: new-drop\nownership: object-writer\nversioning: {state: on}\n"
        "acl: [{to: any-account, permission: write}]\n"
    )
    result = json.loads(demo.run("try", str(tmp_path / "new.yaml"), "--json").out)
    assert result["against"] is None
    assert result["exposure"]["any-account"]["write"]["verdict"] == "open"
    assert result["exposure"]["anyone"]["write"]["verdict"] == "closed"


def test_knocking_agrees_on_the_demo_and_says_whom_it_contacts(demo: Demo) -> None:
    ran = demo.run("exposure", "--probe", "--json")
    probed = json.loads(ran.out)["probed"]
    forged = {p["bucket"]: p for p in probed if p["outcome"] == "disagrees"}
    assert set(forged) == {"ringing-records"}  # it lets in the office alone, and the store believes whoever says so
    assert "saying that it comes from 198.51.100." in forged["ringing-records"]["asked"]
    others = (p for p in probed if p["bucket"] not in ("drone-orthophotos", "tmp-exchange", "ringing-records"))
    assert {p["outcome"] for p in others} == {"agrees"}
    unread = {p["verb"]: p["note"] for p in probed if p["bucket"] == "drone-orthophotos"}
    assert unread["read"].startswith("let in from here")
    assert len(probed) > 40
    assert f"testing anonymously: {demo.address}" in ran.err


def test_help_tells_the_exit_codes_and_every_command_has_an_example(tmp_path: Path) -> None:
    out = lantern("--help", cwd=tmp_path, COLUMNS="200").out
    for code, meaning in EXIT_CODES.items():
        assert f"{code} {meaning}" in " ".join(out.split())
        assert f"| {code} | {meaning} |" in (ROOT / "README.md").read_text().replace("`", "")
    for command in (
        "init",
        "reach",
        "survey",
        "buckets",
        "show",
        "audit",
        "exposure",
        "why",
        "access",
        "try",
        "standin",
    ):
        assert command in out
        words = " ".join(lantern(command, "--help", cwd=tmp_path).out.split())
        assert "Example: lantern" in words, command


def test_the_working_folder_may_be_anywhere_below_the_workspace_and_json_needs_no_terminal(demo: Demo) -> None:
    below = demo.folder / "surveys"
    assert lantern("buckets", "--json", cwd=below).out == demo.run("buckets", "--json").out
    assert lantern("buckets", "--json", "--workspace", str(demo.folder), cwd=Path("/")).code == 0


@pytest.mark.parametrize("words,told", [
    (("audit", "--fact", "exposre.read"), 'did you mean "exposure.read"?'),
    (("audit", "--owner", "stewrd=finance"), "no bucket has the tag stewrd=finance"),
    (("audit", "--store", "harbor"), 'did you mean "harbour"?'),
    (("audit", "--max-age", "26 ours"), '--max-age: "ours" is not a unit of duration'),
    (("credentials", "--owner", "tide-readr"), "no identity and no owner of a credential"),
    (("credentials", "--store", "harbor"), 'did you mean "harbour"?'),
])  # fmt: skip
def test_what_is_asked_of_what_is_not_there_is_refused_and_never_looks_fine(
    demo: Demo, words: tuple[str, ...], told: str
) -> None:
    ran = demo.run(*words)
    assert (ran.code, ran.out) == (2, "")
    assert told in ran.err


def test_a_survey_older_than_asked_for_is_not_fine(demo: Demo) -> None:
    """Whatever it says: the audit of a requirement that all buckets meet."""
    asked = ("audit", "--fact", "region", "--max-age", "26 hours", "--as-of")
    fresh, old = demo.run(*asked, "2026-11-03T07:00:00Z"), demo.run(*asked, "2026-11-03T09:00:00Z", "--quiet")
    assert (fresh.code, "too old" in fresh.out) == (0, False), fresh.out
    assert (old.code, "the survey is too old: it was taken 27 hours ago" in old.out) == (3, True), old.out
    for form in ("sarif", "junit", "markdown", "json"):
        assert "27 hours ago" in demo.run(*asked, "2026-11-03T09:00:00Z", "--format", form).out, form
