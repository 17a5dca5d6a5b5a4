"""Bad input in files and on the command line: what, where, why, what to do; a documented exit code; nothing lost."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Demo, lantern


def test_no_workspace(tmp_path: Path) -> None:
    ran = lantern("audit", cwd=tmp_path)
    assert ran.code == 2
    assert "no estate.yaml" in ran.err
    assert "lantern init" in ran.err
    assert ran.out == ""


def test_no_survey_yet(workspace: Path) -> None:
    ran = lantern("buckets", cwd=workspace)
    assert (ran.code, "lantern survey" in ran.err) == (2, True)


@pytest.mark.parametrize("words", [
    ("try", "--bucket", "harbour/press-kit", "--policy"), ("links",), ("why", "harbour/press-kit", "--requests"),
    ("credentials", "--look-in"), ("dossier", "check"), ("baseline", "test"),
])  # fmt: skip
def test_a_file_that_is_not_there_is_told_with_the_one_that_was_meant(demo: Demo, words: tuple[str, ...]) -> None:
    for name, hint in (("baselin.yml", 'did you mean "baseline.yaml"?'), ("nowhere/x.json", "looked in ")):
        ran = lantern(*words, name, cwd=demo.folder)
        assert (ran.code, ran.out) == (2, ""), (name, ran.err)
        assert f"{name}: there is no such file\n  {hint}" in ran.err


OF_A = "stores:\n  a: {at: 'https://x.example', credential: chain, "
ESTATES = {
    "": "the file is empty",
    "stores: [": "not YAML",
    "- a\n- b": "must be a mapping, and is a list",
    "estate: x\nstors: {}": 'estate.yaml:2:1: unknown "stors" in the estate\n  did you mean "stores"?',
    "estate: x\nstores:\n  a:\n    reeds: s3": 'estate.yaml:4:5: unknown "reeds"',
    "stores:\n  a: {at: 'https://x.example', credential: chain}\n  a: {at: 'https://y.example'}": (
        'estate.yaml:3:3: "a" appears twice\n  the first is at 2:3; keep one of them'
    ),
    "stores:\n  a: {at: 'http://x.example', credential: chain}": "plain http lets everyone",
    "stores:\n  a: {at: 'ftp://x', credential: chain}": "needs an address",
    "stores:\n  a: {at: 'https://me:pw@x.example', credential: chain}": "must not carry a user name",
    "stores:\n  a: {at: 'https://x.example', credential: {profil: p}}": 'did you mean "profile"?',
    "stores:\n  a: {credential: {secret: hunter2hunter2}}": "looks like a secret",
    "stores:\n  a: {credential: wJalrXUtnFEMIK7MDENGbPxRfiCYEXAMPLEKEY}": "looks like a secret",
    "a: &x [1]\nb: *x": "anchors and aliases",
    "[" * 500: "nested more than 40 deep",
    "[" * 2000: "nest",
    "stores: {}": "names no store",
    "stores:\n  a: {at: 'https://x.example', credential: chain, pace: {at-once: none}}": "whole number",
    OF_A + "doors: {filer: {at: 'https://y.example', credential: chain}}}": "door filer is asked without credentials",
    OF_A
    + "doors: {web: {at: 'https://y.example', account: '400100200300'}}}": "door web is not asked about an account",
    OF_A + "identities: {minio: 'https://x.example', roles: {}}}": "roles is not said of an identity service of this",
    OF_A
    + "identities: {minio: 'https://x.example', at: 'https://y.example'}}": "at is not said of an identity service",
    OF_A + "identities: {minio: 'http://x.example'}}": "plain http lets everyone",
}


@pytest.mark.parametrize("text", ESTATES)
def test_bad_estate(workspace: Path, text: str) -> None:
    (workspace / "estate.yaml").write_text(text)
    ran = lantern("reach", cwd=workspace)
    assert (ran.code, ran.out) == (2, "")
    assert ESTATES[text] in ran.err
    assert "estate.yaml" in ran.err
    assert "hunter2" not in ran.err
    assert "wJalr" not in ran.err


def test_a_door_of_an_unknown_name_is_one_mistake(workspace: Path) -> None:
    (workspace / "estate.yaml").write_text(OF_A + "doors: {filler: {at: 'https://y.example'}}}")
    told = 'lantern: estate.yaml:2:59: a door cannot be "filler"\n  did you mean "filer"?\n'
    assert lantern("reach", cwd=workspace).err == told


def _sheet(require: str, extra: str = "") -> str:
    return f"title: t\nsheets:\n  - sheet: all\n    require:\n      {require}\n{extra}"


BASELINES = {
    "": "the file is empty",
    _sheet("versionning: on"): 'baseline.yaml:5:7: unknown fact "versionning"\n  did you mean "versioning"?',
    _sheet("versioning: onn"): '"onn" is none of never, suspended, on; did you mean "on"?',
    _sheet("region: at least north"): "`at least` needs an order",
    _sheet("lock.default-retention: at least 7"): "needs a unit",
    _sheet("lock.default-retention: at least 7 yars"): 'did you mean "year"?',
    _sheet("lock.default-retention: between 7 years and 1 year"): "there is nothing between",
    _sheet('created: matches "2.*"'): "`matches` compares texts",
    _sheet('region: matches "("'): "not a regular expression",
    _sheet('region: matches "(a+)+"'): "take for ever",
    _sheet("region: one of []"): "the list is empty",
    _sheet("region: {severity: low}"): 'lacks "is"',
    _sheet("region: {is: x, severity: worst}"): 'severity cannot be "worst"',
    _sheet("region: {is: one of [a], severity: low}"): "put a value with brackets in quotes",
    _sheet("region: x", "  - sheet: all\n    require: {region: y}"): "is already used at line 3",
    _sheet("region: x", "  - sheet: b\n    of: {nam: x}\n    require: {region: y}"): 'cannot choose by "nam"',
    "title: t\nsheets: []": "has no sheets",
    "title: t\nsheets:\n  - sheet: a": "requires nothing",
}


@pytest.mark.parametrize("text", BASELINES)
def test_bad_baseline(demo: Demo, tmp_path: Path, text: str) -> None:
    folder = tmp_path / "ws"
    folder.mkdir()
    (folder / "estate.yaml").write_bytes((demo.folder / "estate.yaml").read_bytes())
    (folder / "surveys").symlink_to(demo.folder / "surveys")
    (folder / "baseline.yaml").write_text(text)
    ran = lantern("audit", cwd=folder)
    assert (ran.code, ran.out) == (2, "")
    assert BASELINES[text] in ran.err


def test_all_complaints_of_a_file_come_at_once(workspace: Path) -> None:
    (workspace / "baseline.yaml").write_text(
        _sheet("versionning: on\n      lock.default-retention: soon\n      tags.: x")
    )
    (workspace / "surveys" / "20261102T060000Z").mkdir()
    ran = lantern("audit", cwd=workspace)
    assert [line.split(":")[2] for line in ran.err.splitlines() if "baseline.yaml:" in line] == ["5", "6", "7"]


@pytest.mark.parametrize(
    "words,message",
    [
        (("audit", "--as-of", "tomorrow"), "--as-of"),
        (("audit", "--survey", "1999"), 'no survey "1999"'),
        (("audit", "--fail-on", "huge"), "huge"),
        (("show", "harbour/pres-kit"), 'did you mean "harbour/press-kit"?'),
        (("exposure", "nowhere"), 'no bucket "nowhere"'),
        (("buckets", "harbour/x*"), 'no bucket fits "harbour/x*"'),
        (("why", "harbour/press-kit", "--verb", "reed"), 'did you mean "read"?'),
        (("why", "harbour/press-kit", "--from", "here"), "not an address"),
        (("why", "harbour/press-kit", "--header", "Referer"), "not a header"),
        (("why", "harbour/press-kit", "--with", "aws:Sauce=1"), "no condition key"),
        (("why", "harbour/press-kit", "--action", "s3:GetObjct"), 'did you mean "s3:GetObject"?'),
        (("why", "harbour/press-kit", "--requests", "none.jsonl"), "there is no such file"),
        (("access", "--can", "red"), 'did you mean "read"?'),
        (("try",), "name a declared bucket"),
        (("try", "none.yaml"), "there is no such file"),
        (("frob",), "frob"),
    ],
)
def test_bad_words(demo: Demo, words: tuple[str, ...], message: str) -> None:
    ran = demo.run(*words)
    assert (ran.code, ran.out) == (2, "")
    assert message in ran.err


@pytest.mark.parametrize(
    "text,message",
    [
        ("name: x\npolcy: {}", 'did you mean "policy"?'),
        ("policy: {}", "needs a name"),
        ("name: x\nversioning: {state: onn}", "versioning"),
        ("- x", "is a mapping"),
    ],
)
def test_bad_declared_bucket(demo: Demo, tmp_path: Path, text: str, message: str) -> None:
    (tmp_path / "bucket.yaml").write_text(text)
    ran = demo.run("try", str(tmp_path / "bucket.yaml"))
    assert (ran.code, message in ran.err) == (2, True), ran.err


def test_a_line_of_a_requests_file_that_makes_no_sense_is_named(demo: Demo, tmp_path: Path) -> None:
    (tmp_path / "asked.jsonl").write_text('{"verb": "read"}\n{"verv": "read"}\n')
    ran = demo.run("why", "harbour/press-kit", "--requests", str(tmp_path / "asked.jsonl"))
    assert (ran.code, "asked.jsonl:2: not a request" in ran.err) == (2, True)


def test_init_never_overwrites(tmp_path: Path) -> None:
    assert lantern("init", "ws", cwd=tmp_path).code == 0
    (tmp_path / "ws/estate.yaml").write_text("mine")
    ran = lantern("init", "ws", cwd=tmp_path)
    assert (ran.code, (tmp_path / "ws/estate.yaml").read_text()) == (2, "mine")
