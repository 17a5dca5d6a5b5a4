"""One bucket's odd values, silence or spite: that bucket's facts are failed, everything else is read and saved."""

from __future__ import annotations

import asyncio
import json
import re
import shutil
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import pytest
import typer
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rusty_lantern.archive.surveys import load
from rusty_lantern.cli.app import app
from rusty_lantern.core.access.rules.rule_inputs import NO_RULES
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from tests.conftest import lantern
from tests.raw_store import OBJECT, SETTINGS, Answering, Asked, Told, plain, raw_store

GOOD, BAD = "good-bucket", "bad-bucket"
ESTATE = """estate: t
stores:
  s:
    at: {at}
    plain-http: allowed
    credential: {{file: key.ini}}
    objects: {{"*": all}}
"""
BASELINE = """title: t
sheets:
  - sheet: s
    require: {exposure.read: closed, versioning: on, objects.encryption: at least provider-managed,
    tags.steward: present,
              objects.retention: at least 1 day, access.outside: nothing, last-write: present,
              lifecycle.expires: present}
"""


def workspace(folder: Path, at: str, extra: str = "") -> Path:
    folder.mkdir(parents=True)
    (folder / "estate.yaml").write_text(ESTATE.format(at=at) + extra)
    (folder / "baseline.yaml").write_text(BASELINE)
    (folder / "key.ini").write_text("[default]\naws_access_key_id = TESTKEY0000000000001\naws_secret_access_key = s\n")
    (folder / "key.ini").chmod(0o600)
    return folder


def surveyed(folder: Path) -> Dossier:
    return load(folder / "surveys", None).dossiers[0]


def bucket(dossier: Dossier, name: str) -> Bucket:
    return next(bucket for bucket in dossier.buckets if bucket.name == name)


def unread(found: Bucket) -> dict[str, str]:
    return {f: a.note for f in Bucket.__struct_fields__ if f != "name" and (a := getattr(found, f)).state == "failed"}


async def healthy(asked: Asked) -> Told:
    return plain(asked, [BAD, GOOD])


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Bucket:
    """The good bucket, beside a bad one that is not bad yet."""
    folder = tmp_path_factory.mktemp("whole") / "ws"
    with raw_store(healthy) as at:
        assert lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=workspace(folder, at)).code == 0
    dossier = surveyed(folder)
    assert {f for b in dossier.buckets for f in unread(b)} == {"anonymous_test"}
    return bucket(dossier, GOOD)


@dataclass(frozen=True)
class Twist:
    """What a store answers to one question otherwise."""

    question: str
    changes: dict[str, Any]


def twisted(question: str, **changes: Any) -> Twist:
    return Twist(question, changes)


def store_with(twists: dict[str, Twist]) -> Answering:
    """A store with a good bucket, and others that each answer one question otherwise."""

    async def answer(asked: Asked) -> Told:
        told = plain(asked, [*twists, GOOD])
        twist = twists.get(asked.bucket)
        if twist is None or asked.question != twist.question:
            return told
        said = twist.changes
        return Told(said.get("body", told.body), said.get("status", told.status),
                    {**told.headers, **said.get("headers", {})})  # fmt: skip

    return answer


def versions(**parts: str) -> bytes:
    text = SETTINGS["versions"]
    for name, value in parts.items():
        text = re.sub(f"<{name}>[^<]*</{name}>", f"<{name}>{value}</{name}>", text, count=1)
    return text.encode()


END, EVER = "9999-12-31T23:59:59Z", "<Years>999999999</Years>"
LONG = "9999-12-31T23:59:59-23:59"
ODD: dict[str, Twist] = {
    "metadata beyond ASCII": twisted("HEAD object", headers={"x-amz-meta-station": b"caf\xe9"}),
    "a content type beyond ASCII": twisted("HEAD object", headers={"Content-Type": b"image/\xff\xfe"}),
    "a disposition beyond ASCII": twisted("HEAD object", headers={"Content-Disposition": b"n\xe4me"}),
    "an encryption beyond ASCII": twisted("HEAD object", headers={"x-amz-server-side-encryption": b"\xe9"}),
    "stored past the calendar": twisted("versions", body=versions(LastModified=LONG)),
    "begun past the calendar": twisted(
        "uploads", body=re.sub("<Initiated>[^<]*", f"<Initiated>{LONG}", SETTINGS["uploads"]).encode()
    ),
    "kept past the calendar": twisted("HEAD object", headers={"x-amz-object-lock-retain-until-date": LONG.encode()}),
    "kept for ever": twisted(
        "HEAD object",
        headers={"x-amz-object-lock-mode": b"GOVERNANCE", "x-amz-object-lock-retain-until-date": END.encode()},
    ),
    "a default for ever": twisted(
        "object-lock", body=SETTINGS["object-lock"].replace("<Days>30</Days>", EVER).encode()
    ),
    "a size of nineteen nines": twisted("versions", body=versions(Size="9" * 19)),
    "a size in other digits": twisted("versions", body=versions(Size="٣")),
    "a size with a power": twisted("versions", body=versions(Size="²")),
    "counters in other digits": twisted("HEAD", headers={"x-rgw-object-count": "²".encode()}),
    "counters without end": twisted("HEAD", headers={"x-rgw-bytes-used": b"9" * 400}),
    "a refusal of the token": twisted("tagging", status=400, body=b"<Error><Code>ExpiredToken</Code></Error>"),
    "a refusal of the key": twisted("policy", status=403, body=b"<Error><Code>InvalidAccessKeyId</Code></Error>"),
    "an invalid token": twisted("HEAD object", status=403, body=b"<Error><Code>InvalidToken</Code></Error>"),
}


REFUSING = ("a refusal of the token", "a refusal of the key", "an invalid token")
TOGETHER = {f"bad-{number}": what for number, what in enumerate(what for what in ODD if what not in REFUSING)}


@pytest.mark.parametrize("odd", [TOGETHER, *({BAD: what} for what in REFUSING)], ids=["values", *REFUSING])
def test_one_odd_value_is_that_buckets_alone(tmp_path: Path, whole: Bucket, odd: dict[str, str]) -> None:
    with raw_store(store_with({name: ODD[what] for name, what in odd.items()})) as at:
        folder = workspace(tmp_path / "ws", at)
        ran = lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=folder)
    assert ran.code == 0, ran.err
    assert bucket(surveyed(folder), GOOD) == whole
    shown = [f"{command} s/{name}" for name in odd for command in ("show", "retention")] if odd is not TOGETHER else []
    drawn = [f"retention s/{name} --timeline t.png" for name, what in odd.items() if what == "kept for ever"]
    for command in ("audit", "buckets", "exposure", "objects", "retention", "remedy", "changes", *shown, *drawn):
        ended = lantern(*command.split(), cwd=folder)
        assert ended.code in (0, 1) or (command == "changes" and ended.code == 2), (command, ended.err)


def test_a_waiting_time_that_is_no_number_is_none(tmp_path: Path, whole: Bucket) -> None:
    busy: set[str] = set()

    async def answer(asked: Asked) -> Told:
        if asked.bucket == BAD and asked.question not in busy:
            busy.add(asked.question)
            return Told(b"<Error><Code>SlowDown</Code></Error>", 503, {"Retry-After": "²".encode()})
        return plain(asked, [BAD, GOOD])

    with raw_store(answer) as at:
        folder = workspace(tmp_path / "ws", at)
        assert lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=folder).code == 0
    assert set(unread(bucket(surveyed(folder), BAD))) == {"anonymous_test"}


def test_a_key_that_is_revoked_midway_is_still_told_apart_from_one_buckets_spite(tmp_path: Path) -> None:
    revoked = []

    async def answer(asked: Asked) -> Told:
        if asked.question == "tagging":
            revoked.append(True)
        if revoked and asked.signed:
            return Told(b"<Error><Code>InvalidAccessKeyId</Code></Error>", 403)
        return plain(asked, [BAD, GOOD])

    with raw_store(answer) as at:
        ran = lantern("survey", cwd=workspace(tmp_path / "ws", at))
    assert (ran.code, "no longer accepts its credential" in ran.err) == (3, True)


def test_what_one_bucket_does_not_offer_is_asked_of_the_others(tmp_path: Path, whole: Bucket) -> None:
    lacking = twisted("policy", status=501, body=b"<Error><Code>NotImplemented</Code></Error>")
    with raw_store(store_with({BAD: lacking})) as at:
        folder = workspace(tmp_path / "ws", at)
        assert lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=folder).code == 0
    assert bucket(surveyed(folder), BAD).policy.state == "unsupported"
    assert bucket(surveyed(folder), GOOD) == whole


@pytest.mark.parametrize(
    "answer",
    [
        twisted("acl", status=405, body=b"<html>Method Not Allowed</html>"),
        twisted("acl", status=404, body=b"<Error><Code>NoSuchTagSet</Code></Error>"),
        twisted("policy", status=405, body=b"<Error><Code>MethodNotAllowed</Code></Error>"),
        twisted("policy", status=501, body=b"<html>Not Implemented</html>"),
        twisted("acl", status=200, body=b"<Whatever/>"),
    ],
    ids=lambda twist: f"{twist.question} {twist.changes['status']}",
)
def test_a_refusal_that_is_not_the_stores_own_word_closes_nothing(tmp_path: Path, answer: Twist) -> None:
    deny = b'{"Version": "2012-10-17", "Statement": []}' if answer.question == "acl" else b""

    async def told(asked: Asked) -> Told | None:
        if asked.question == "policy" and deny:
            return Told(deny)
        if asked.question in ("publicAccessBlock", "ownershipControls"):
            return Told(b"<Error><Code>NotImplemented</Code></Error>", 501)
        return await store_with({BAD: answer})(asked)

    with raw_store(told) as at:
        folder = workspace(tmp_path / "ws", at)
        assert lantern("survey", cwd=folder).code == 0
    ran = json.loads(lantern("exposure", "--json", cwd=folder).out)
    exposed = next(row["exposure"]["anyone"] for row in ran["buckets"] if row["bucket"] == BAD)
    assert exposed["read"]["verdict"] == "unknown", exposed["read"]


def test_a_store_without_any_rules_to_read_is_not_closed(tmp_path: Path) -> None:
    """Some answer neither for ACLs nor for policies, and let everybody in."""

    async def told(asked: Asked) -> Told:
        if asked.question in ("policy", "acl", "policyStatus", "publicAccessBlock", "ownershipControls"):
            return Told(b"<Error><Code>NotImplemented</Code></Error>", 501)
        return plain(asked, [BAD])

    with raw_store(told) as at:
        folder = workspace(tmp_path / "ws", at)
        (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: s, require: {exposure.read: closed}}]\n")
        outcomes = []
        for probing in ([], ["--probe"]):
            assert lantern("survey", *probing, cwd=folder).code == 0
            audited = json.loads(lantern("audit", "--json", cwd=folder).out)
            rows = [(kind, row["observed"], row["reason"]) for kind in ("drift", "unknown") for row in audited[kind]]
            outcomes.append((rows, audited["overview"]["let_in"], audited["overview"]["closed_buckets"]))
            shutil.rmtree(folder / "surveys")
    assert outcomes[0] == ([("unknown", "unknown", NO_RULES)], [], 0)
    ((kind, observed, _),), let_in, closed = outcomes[1]
    assert (kind, observed, let_in, closed) == (
        "drift", "at least restricted (let in)", [f"s/{BAD} (read, list)"], 0,
    )  # fmt: skip


def test_a_name_of_which_nobody_knows_whose_it_is_stands_between_outside_and_inside(tmp_path: Path) -> None:
    names = ["arn:aws:iam:::user/deck", "arn:aws:iam::777777777777:root", "400100200300"]
    statement = {"Effect": "Allow", "Principal": {"AWS": names}, "Action": "s3:GetObject",
                 "Resource": "arn:aws:s3:::bad-bucket/*"}  # fmt: skip
    policy = json.dumps({"Version": "2012-10-17", "Statement": [statement]}).encode()
    with raw_store(store_with({BAD: twisted("policy", body=policy)})) as at:
        folder = workspace(tmp_path / "ws", at)
        lantern("survey", cwd=folder)
    ran = lantern("access", "--json", cwd=folder)
    assert ran.code == 0, ran.err
    rows = [row["inside"] for row in json.loads(ran.out)["access"] if row["bucket"] == BAD]
    assert rows == sorted(rows, key=(False, None, True).index) and None in rows
    assert "unknown" in lantern("access", cwd=folder).out


@pytest.mark.parametrize("name", ["n" * 300, "%E2%82%AC" * 40, "€" * 40])
def test_a_long_name_gets_a_file_of_its_own(tmp_path: Path, name: str) -> None:
    async def answer(asked: Asked) -> Told:
        return plain(asked, [GOOD, name])

    with raw_store(answer) as at:
        folder = workspace(tmp_path / "ws", at)
        ran = lantern("survey", cwd=folder)
    assert ran.code == 0, ran.err
    assert {b.name: b.table.state for b in surveyed(folder).buckets} == {GOOD: "known", name: "known"}
    assert lantern("objects", cwd=folder).code == 0
    assert lantern("remedy", "--out", "out", cwd=folder).code == 0


@pytest.mark.parametrize("value", ["a\nb", "a\x01b", "\x7f", "é"])
def test_a_witness_that_cannot_be_sent_is_not(tmp_path: Path, value: str) -> None:
    statement = {"Effect": "Allow", "Principal": "*", "Action": ["s3:GetObject", "s3:ListBucket"],
                 "Resource": ["arn:aws:s3:::bad-bucket", "arn:aws:s3:::bad-bucket/*"],
                 "Condition": {"StringEquals": {"aws:Referer": value}}}  # fmt: skip
    policy = json.dumps({"Version": "2012-10-17", "Statement": [statement]}).encode()
    with raw_store(store_with({BAD: twisted("policy", body=policy)})) as at:
        folder = workspace(tmp_path / "ws", at)
        ran = lantern("survey", "--probe", cwd=folder)
        knocked = lantern("exposure", "--probe", cwd=folder)
    assert (ran.code, knocked.code) == (0, 0), ran.err + knocked.err
    doors = bucket(surveyed(folder), BAD).anonymous_test
    assert doors.value and {k.let_in for k in doors.value} == {None}
    assert "HTTP cannot carry" in doors.value[0].answer


def test_a_store_that_sends_a_body_after_head_is_reached(tmp_path: Path) -> None:
    async def answer(asked: Asked) -> Told | None:
        if asked.question == "buckets" and asked.method == "HEAD":
            asked.writer.write(b"HTTP/1.1 200 X\r\nContent-Length: 4\r\n\r\nbody more of it\r\n")
            await asked.writer.drain()
            return None
        return plain(asked, [BAD, GOOD])

    with raw_store(answer) as at:
        ran = lantern("reach", "--json", cwd=workspace(tmp_path / "ws", at))
    found = json.loads(ran.out)["stores"][0]
    assert (ran.code, found["credential"], found["note"]) == (0, "accepted", "")


def test_a_list_of_buckets_whose_tokens_go_round_ends(tmp_path: Path) -> None:
    page = [0]

    async def answer(asked: Asked) -> Told:
        told = plain(asked, [BAD, GOOD])
        if asked.question == "buckets" and asked.method == "GET":
            page[0] += 1
            token = f"<ContinuationToken>t{page[0]}</ContinuationToken></ListAllMyBucketsResult>"
            return Told(told.body.replace(b"</ListAllMyBucketsResult>", token.encode()))
        return told

    with raw_store(answer) as at:
        ran = lantern("survey", cwd=workspace(tmp_path / "ws", at))
    assert (ran.code, "never ends" in ran.out) == (3, True)
    assert page[0] < 5


TEXTS = re.compile(rb">([^<>]*)<")
payloads = st.one_of(
    st.binary(max_size=12),
    st.sampled_from(
        [b"9" * 400, b"-1", b"1e400", b"NaN", LONG.encode(), b"0001-01-01T00:00:00+23:59", "²".encode(), "٣".encode(),
         b"&#0;", b"&#1;", b"&#xD800;", b"<x/>", b"x" * 100_000, b"\xed\xa0\x80", b"true", b"", b"../../x", b"\x1b[31m"]
    ),
)  # fmt: skip
PLACES = [
    *((question, number) for question, text in SETTINGS.items() for number in range(len(TEXTS.findall(text.encode())))),
    *(("HEAD object", name) for name in OBJECT),
    *(("HEAD", name) for name in ("x-rgw-object-count", "x-rgw-bytes-used", "x-rgw-quota-bucket-size", "Date")),
    *((question, "whole body") for question in SETTINGS),
]


def spoilt(told: Told, place: int | str, payload: bytes) -> Told:
    """An answer with one of its texts, attributes or headers replaced."""
    if isinstance(place, int):
        found = list(TEXTS.finditer(told.body))
        if place >= len(found):
            return told
        start, end = found[place].span(1)
        return Told(told.body[:start] + payload + told.body[end:], told.status, told.headers)
    if place == "whole body":
        return Told(payload, told.status, told.headers)
    clean = payload.replace(b"\r", b"").replace(b"\n", b"").replace(b"\0", b"")[:4000]
    return Told(told.body, told.status, {**told.headers, place: clean})


@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.sampled_from(PLACES), payloads)
def test_any_bytes_anywhere_leave_the_survey_saved_and_the_other_bucket_whole(
    whole: Bucket, tmp_path_factory: pytest.TempPathFactory, spot: tuple[str, int | str], payload: bytes
) -> None:
    question, place = spot

    async def answer(asked: Asked) -> Told:
        told = plain(asked, [BAD, GOOD])
        return spoilt(told, place, payload) if (asked.bucket, asked.question) == (BAD, question) else told

    with pytest.MonkeyPatch.context() as patch, raw_store(answer) as at:
        folder = workspace(tmp_path_factory.mktemp("any") / "ws", at, "    timeout: 5\n")
        patch.chdir(folder)
        command = typer.main.get_command(app)
        ran = CliRunner().invoke(command, ["survey", "--as-of", "2026-11-02T06:00:00Z"])
        assert (ran.exit_code, ran.exception) == (0, None) or isinstance(ran.exception, SystemExit), ran.output
        assert ran.exit_code == 0, ran.output
        assert bucket(surveyed(folder), GOOD) == whole
        for words in (["audit"], ["retention"]):
            judged = CliRunner().invoke(command, words)
            assert judged.exit_code in (0, 1) and (
                judged.exception is None or isinstance(judged.exception, SystemExit)
            ), (words, judged.exception)


HUGE = b"<a>" + b"x" * (17 << 20)


async def drip(asked: Asked) -> None:
    """Send a byte now and then, and never come to an end."""
    asked.writer.write(b"HTTP/1.1 200 X\r\nContent-Length: 100000\r\n\r\n")
    for _ in range(400):
        asked.writer.write(b" ")
        await asked.writer.drain()
        await asyncio.sleep(0.3)


async def spite(asked: Asked, number: int) -> Told | None:
    """What a hostile bucket does: eight ways, by its number."""
    match number % 8:
        case 0:
            await asyncio.sleep(120)
        case 1:
            await drip(asked)
        case 2:
            asked.writer.transport.abort()
        case 3:
            return Told(HUGE)
        case 4:
            bomb = zlib.compress(b"\0" * (8 << 20))
            return Told(bomb, 200, {"Content-Encoding": b"deflate"})
        case 5:  # a listing that never ends
            told = plain(asked, [asked.bucket])
            key = asked.query.get("key-marker", asked.query.get("start-after", "")) + "a"
            body = told.body.replace(b"false</IsTruncated>", b"true</IsTruncated>")
            return Told(body.replace(b"<Key>a</Key>", b"<Key>%s</Key>" % key.encode()), told.status, told.headers)
        case 6:
            return Told(b"<Error><Code>SlowDown</Code></Error>", 503, {"Retry-After": b"30"})
        case _:
            return Told(b"<" * 5000)
    return None


@pytest.mark.timeout(900)
def test_hostile_buckets_end_and_every_healthy_one_is_read(tmp_path: Path) -> None:
    hostile = {f"hostile-{number:02d}" + "x" * (290 if number % 5 == 0 else 0): number for number in range(8)}
    good = [f"wholesome-{number}" for number in range(6)]

    async def answer(asked: Asked) -> Told | None:
        if asked.bucket in hostile:
            return await spite(asked, hostile[asked.bucket])
        return plain(asked, sorted([*hostile, *good]))

    with raw_store(answer) as at:
        extra = "    timeout: 4\n    patience: {bucket: 3 seconds, store: 2 minutes}\n    pace: {per-second: 2000}\n"
        folder = workspace(tmp_path / "ws", at, extra)
        ran = lantern("survey", "--list-limit", "20", cwd=folder)
    assert ran.code == 0, ran.err
    dossier = surveyed(folder)
    assert len(dossier.buckets) == 14
    for name in good:
        assert set(unread(bucket(dossier, name))) == {"anonymous_test"}, name
    for name, number in hostile.items():
        if number % 8 in (0, 1):
            assert "did not answer" in bucket(dossier, name).policy.note, name
    raw = msgspec.json.decode(lantern("audit", "--json", cwd=folder).out.encode())
    judged = {row["bucket"] for row in raw["unknown"]}
    assert {name for name, number in hostile.items() if number % 8 not in (5,)} <= judged
