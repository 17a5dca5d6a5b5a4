"""Surveys that are stopped, limited, told in advance, logged and adapted: nothing lost, nothing doubled."""

from __future__ import annotations

import asyncio
import json
import random
import signal
import subprocess
import time
from collections import Counter
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from aiohttp import web

from rusty_lantern.archive.journal import Journal
from rusty_lantern.archive.surveys import names, sole
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import CREDENTIAL
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.http.concurrency_limit import ConcurrencyLimit
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.s3.bucket_settings import read_bucket
from tests.conftest import PROGRAM, Demo, answering, begin, estate_for, lantern, whole_or
from tests.saltmarsh_answers import DRIFT, MAY_HAVE_LISTS
from tests.test_bad_stores import Handler, harbour, unknown_buckets

AS_OF = ("--as-of", "2026-11-02T06:00:00Z")
KEPT = "surveys/20261102T060000Z/stores/harbour.json"


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace with a survey that nothing interrupted."""
    with harbour() as (address, _):
        folder = estate_for(tmp_path_factory.mktemp("whole") / "ws", address)
        assert lantern("survey", *AS_OF, cwd=folder).code == 0
    return folder


def _without_address(path: Path) -> list[str]:
    """The lines of a dossier but for where the store answers."""
    return [line for line in path.read_text().splitlines() if "http://127.0.0.1" not in line]


KILLED = whole_or(8, 20)


@pytest.mark.timeout(900)
def test_a_survey_killed_many_times_equals_an_uninterrupted_one(tmp_path: Path, whole: Path) -> None:
    dice = random.Random(4)
    running: list[subprocess.Popen[bytes]] = []
    answered: Counter[str] = Counter()
    fuse = [dice.randint(1, 50)]

    async def murderous(request: web.Request) -> web.StreamResponse:
        if len(running) <= KILLED:
            fuse[0] -= 1
            if fuse[0] <= 0:
                running[-1].send_signal(signal.SIGKILL)
                await asyncio.sleep(5)
        answered[request.raw_path] += 1
        return None  # type: ignore[return-value]

    with harbour(murderous) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        while not names(folder / "surveys"):
            words = ["survey", *AS_OF] if not running else ["survey", "--resume"]
            fuse[0] = dice.randint(20, 40)
            running.append(subprocess.Popen([str(PROGRAM), *words], cwd=folder, stderr=subprocess.DEVNULL))
            running[-1].wait(timeout=120)
            assert len(running) < 120
    assert len(running) > KILLED // 2
    assert _without_address(folder / KEPT) == _without_address(whole / KEPT)
    twice = sum(1 for number in answered.values() if number > 1)
    assert twice < len(running) * 17  # only what was under way when it was killed


def test_a_torn_or_damaged_line_of_the_journal_is_asked_again(tmp_path: Path) -> None:
    path = tmp_path / "journal" / "s.jsonl"
    with closing(Journal(path, S3.keeps)) as journal:
        for number in range(3):
            journal.note(f"GET /{number}", 200, {"date": "x", "x-secret": "y"}, b"body%d" % number)
    whole = path.read_bytes()
    assert b"x-secret" not in whole
    for cut in range(len(whole)):
        path.write_bytes(whole[:cut])
        with closing(Journal(path, S3.keeps)) as again:
            kept = whole[:cut].count(b"\n")
            assert [again.recall(f"GET /{n}") is not None for n in range(3)] == [n < kept for n in range(3)]
            again.note("GET /9", 200, {}, b"nine")
        with closing(Journal(path, S3.keeps)) as after:
            assert after.recall("GET /9") == (200, {}, b"nine")
    path.write_bytes(whole.replace(b"GET /1", b"\x00ET /1"))
    with closing(Journal(path, S3.keeps)) as damaged:
        assert damaged.recall("GET /2") == (200, {"date": "x"}, b"body2")


def slow(delay: list[float]) -> Handler:
    """Before every answer, so many seconds pass; the list may change meanwhile."""

    async def wait(request: web.Request) -> web.StreamResponse:
        await asyncio.sleep(delay[0])
        return None  # type: ignore[return-value]

    return wait


def test_ctrl_c_then_resume_asks_only_what_is_missing(tmp_path: Path, whole: Path) -> None:
    delay = [0.05]
    with harbour(slow(delay)) as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        running = begin("survey", *AS_OF, cwd=folder)
        while len(store.requests) < 200:
            time.sleep(0.02)
        running.send_signal(signal.SIGINT)
        _, err = running.communicate(timeout=120)
        assert (running.returncode, "lantern survey --resume" in err) == (130, True), err
        before = len(store.requests)
        delay[0] = 0
        ran = lantern("survey", "--resume", cwd=folder)
        asked = len(store.requests) - before
    assert ran.code == 0
    assert "answers were saved" in ran.err
    assert asked < 26 * 22 - 150
    assert _without_address(folder / KEPT) == _without_address(whole / KEPT)
    assert lantern("survey", "--resume", cwd=folder).code == 2


def test_a_deadline_stops_a_survey_that_can_be_gone_on_with(tmp_path: Path, whole: Path) -> None:
    delay = [0.2]
    with harbour(slow(delay)) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        ran = lantern("survey", *AS_OF, "--deadline", "0.03", cwd=folder)
        assert (ran.code, "not whole after 0.03 minutes" in ran.err) == (3, True), ran.err
        delay[0] = 0
        assert lantern("survey", "--resume", cwd=folder).code == 0
    assert _without_address(folder / KEPT) == _without_address(whole / KEPT)


def test_a_survey_is_gone_on_with_as_it_was_begun(tmp_path: Path) -> None:
    delay = [0.2]
    with harbour(slow(delay)) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        words = ("--only", "harbour/press-*", "--probe", "--deadline", "0.01")
        assert lantern("survey", *AS_OF, *words, cwd=folder).code == 3
        delay[0] = 0
        other = lantern("survey", "--resume", "--objects", "all", cwd=folder)
        assert (other.code, "this survey was not begun with --objects all" in other.err) == (2, True), other.err
        begun = next((folder / "surveys").rglob("begun.json"))
        kept = begun.read_bytes()
        begun.write_bytes(kept[:-3])
        damaged = lantern("survey", "--resume", cwd=folder)
        assert (damaged.code, "cannot be read" in damaged.err, str(begun) in damaged.err) == (2, True, True), (
            damaged.err
        )
        begun.write_bytes(kept)
        ran = lantern("survey", "--resume", cwd=folder)
        assert (ran.code, "--only harbour/press-* --probe" in ran.err) == (0, True), ran.err
    read = json.loads((folder / KEPT).read_bytes())
    assert [bucket["name"] for bucket in read["buckets"]] == ["press-kit"]
    assert read["buckets"][0]["anonymous_test"]["value"]
    assert not list((folder / "surveys").rglob("begun.json"))


def test_two_surveys_at_once_are_refused(demo: Demo) -> None:
    with sole(demo.folder / "surveys"):
        ran = demo.run("survey")
    assert (ran.code, "another survey is being taken" in ran.err) == (2, True)


def test_a_limited_survey_reads_and_says_only_that(tmp_path: Path) -> None:
    with harbour() as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        assert lantern("survey", *AS_OF, "--only", "harbour/gallery-*", cwd=folder).code == 0
        assert not [target for _, target in store.requests if "payroll" in target]
        wrong = lantern("survey", "--only", "harbor/x", cwd=folder)
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    assert (audit["buckets"], audit["only"]) == (2, ["harbour/gallery-*"])
    assert "limited to harbour/gallery-*" in lantern("audit", cwd=folder).out
    assert (wrong.code, 'did you mean "harbour"?' in wrong.err) == (2, True)


def test_what_a_survey_was_not_told_to_ask_is_not_counted_as_failed(tmp_path: Path) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        counted = json.loads(lantern("survey", *AS_OF, "--json", cwd=folder).out)["questions"]["harbour"]
    assert counted["known"] > 300 and counted.get("failed", 0) == 0, counted


def test_a_dry_run_tells_and_keeps_nothing(demo: Demo, tmp_path: Path) -> None:
    before = names(demo.folder / "surveys")
    demo.store.requests.clear()
    ran = demo.run("survey", "--dry-run")
    assert (ran.code, "28 buckets, at least 590 questions" in ran.out) == (0, True), ran.out
    assert len(demo.store.requests) == 1
    down = lantern("survey", "--dry-run", cwd=estate_for(tmp_path / "ws", "http://127.0.0.1:9"))
    assert (down.code, "harbour: cannot be asked: cannot connect" in down.out) == (3, True), down.out
    assert names(demo.folder / "surveys") == before


def test_what_is_not_offered_is_learnt_once(tmp_path: Path) -> None:
    with harbour() as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        lantern("survey", *AS_OF, cwd=folder)
        asked = [target for _, target in store.requests if "policyStatus" in target]
    assert len(asked) == 3  # of the first buckets; one alone may be at fault itself
    shown = json.loads(lantern("show", "press-kit", "--json", cwd=folder).out)
    assert next(f["state"] for f in shown["facts"] if f["fact"] == "public-status") == "unsupported"


def test_the_log_tells_every_question_and_no_secret(tmp_path: Path) -> None:
    with harbour() as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        lantern("survey", *AS_OF, "--log", "questions.jsonl", cwd=folder)
    text = (folder / "questions.jsonl").read_text()
    lines = [json.loads(line) for line in text.splitlines()]
    assert len(lines) == len(store.requests)
    assert {line["outcome"] for line in lines} == {200, 400, 403, 404, 501}
    for word in (saltmarsh.SECRET, saltmarsh.KEY_ID, "Signature", "authorization"):
        assert word not in text


def test_a_store_without_its_credential_is_unread_and_the_others_are_read(tmp_path: Path) -> None:
    extra = "  attic:\n    at: https://attic.example\n    credential: {file: none.ini}\n"
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address, extra)
        ran = lantern("survey", *AS_OF, cwd=folder)
    assert ran.code == 3
    assert "store attic was not read: denied to this credential: the credential file none.ini" in ran.out
    assert (folder / KEPT).is_file()


def test_an_expired_credential_is_renewed_midway(tmp_path: Path) -> None:
    folder = tmp_path / "ws"
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)
    expired = [False]

    async def expiring(request: web.Request) -> web.StreamResponse:
        if len(store.requests) == 150 and not expired[0]:
            expired[0] = True
            (folder / "harbour.credential").write_text(CREDENTIAL)
        if expired[0] and "FIRSTKEY" in request.headers.get("authorization", ""):
            return web.Response(status=400, text="<Error><Code>ExpiredToken</Code></Error>")
        return await store._serve(request)

    store.holdings.keys["FIRSTKEY000000000001"] = store.holdings.keys[saltmarsh.KEY_ID]
    with serve(answering(expiring)) as address:
        estate_for(folder, address)
        first = CREDENTIAL.replace(saltmarsh.KEY_ID, "FIRSTKEY000000000001")
        (folder / "harbour.credential").write_text(first)
        store.holdings.keys["FIRSTKEY000000000001"] = store.holdings.keys[saltmarsh.KEY_ID]
        lantern("survey", *AS_OF, cwd=folder)
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    assert expired[0]
    assert unknown_buckets(audit) <= {"drone-orthophotos", "camera-traps"} | MAY_HAVE_LISTS


def test_the_gate_rises_while_answers_are_quick_and_halves_when_the_store_is_busy() -> None:
    gate = ConcurrencyLimit(ceiling=32)
    for _ in range(2000):
        gate.answered(0.02)
    assert gate.limit == 32
    gate.busy()
    assert gate.limit == 16
    for _ in range(100):
        gate.answered(0.5)
    assert gate.limit < 20
    for _ in range(20):
        gate.busy()
    assert gate.limit == 1


def test_the_gate_doubles_with_each_round_until_the_store_is_slower_once() -> None:
    gate = ConcurrencyLimit(ceiling=128)
    for _ in range(8 + 16 + 32):
        gate.answered(0.02)
    assert gate.limit == 64
    for _ in range(20):
        gate.answered(0.2)
    slower = gate.limit
    for _ in range(20):
        gate.answered(0.02)
    assert slower < 80
    assert gate.limit < slower + 1


def test_what_is_late_gives_its_place_to_others_and_says_so_once() -> None:
    async def crowd() -> tuple[list[str], int]:
        gate, told = ConcurrencyLimit(1, late_after=0.02), []

        async def one(name: str, seconds: float) -> None:
            async with gate.turn(lambda: told.append(f"{name} is late")):
                await asyncio.sleep(seconds)
                told.append(f"{name} is done")

        await asyncio.gather(one("slow", 0.2), one("quick", 0), one("also slow", 0.3), one("last", 0))
        return told, gate.under_way + gate.late

    told, left = asyncio.run(crowd())
    assert told == [
        "slow is late", "quick is done", "also slow is late", "last is done", "slow is done", "also slow is done",
    ]  # fmt: skip
    assert left == 0


@pytest.mark.parametrize("given_up", [0, 1, 2])
def test_who_no_longer_waits_for_a_place_takes_none_from_others(given_up: int) -> None:
    async def crowd() -> int:
        gate = ConcurrencyLimit(1)

        async def one() -> None:
            async with gate.turn():
                await asyncio.sleep(0)

        tasks = [asyncio.create_task(one()) for _ in range(4)]
        for _ in range(1 + given_up):
            await asyncio.sleep(0)
        tasks[1].cancel()
        async with asyncio.timeout(60):
            await asyncio.gather(*tasks, return_exceptions=True)
        return gate.under_way

    assert asyncio.run(crowd()) == 0


@pytest.mark.parametrize("limit", [1, 5])
def test_the_gate_lets_in_no_more_than_its_limit(limit: int) -> None:
    async def crowd() -> int:
        gate, inside, most = ConcurrencyLimit(limit), 0, 0

        async def one() -> None:
            nonlocal inside, most
            async with gate.turn():
                inside += 1
                most = max(most, inside)
                await asyncio.sleep(0.001)
                inside -= 1

        await asyncio.gather(*(one() for _ in range(60)))
        return most

    assert asyncio.run(crowd()) == limit


FAULTS = ("busy", "reset", "short", "broken chunks", "stall")


def test_a_credential_revoked_midway_pauses_the_survey(tmp_path: Path, whole: Path) -> None:
    revoked = [False]

    async def revoking(request: web.Request) -> web.StreamResponse:
        if revoked[0] and len(store.requests) > 150:
            body = "<Error><Code>InvalidAccessKeyId</Code></Error>"
            return web.Response(status=403, text=body)
        return None  # type: ignore[return-value]

    extra = "  attic:\n    at: {}\n    plain-http: allowed\n    credential: {{file: harbour.credential}}\n"
    with harbour(revoking) as (address, store), harbour() as (other, spared):
        folder = estate_for(tmp_path / "ws", address, extra.format(other))
        revoked[0] = True
        ran = lantern("survey", *AS_OF, cwd=folder)
        assert (ran.code, "store harbour no longer accepts its credential" in ran.err) == (3, True), ran.err
        assert "estate.yaml:" in ran.err
        assert names(folder / "surveys") == []
        revoked[0], before = False, (len(store.requests), len(spared.requests))
        assert lantern("survey", "--resume", cwd=folder).code == 0
        assert len(store.requests) - before[0] < 28 * 20 - 100
        assert len(spared.requests) == before[1]
    assert _without_address(folder / KEPT) == _without_address(whole / KEPT)


def test_a_store_full_of_faults_loses_and_doubles_nothing(tmp_path: Path) -> None:
    dice = random.Random(7)
    seen: Counter[str] = Counter()

    async def faulty(request: web.Request) -> web.StreamResponse:
        seen[request.raw_path] += 1
        if seen[request.raw_path] > 2 or dice.random() > 0.3:
            return None  # type: ignore[return-value]
        fault = dice.choice(FAULTS if seen[request.raw_path] == 1 else FAULTS[:4])
        if fault == "stall":
            if dice.random() > 0.05:
                return None  # type: ignore[return-value]
            await asyncio.sleep(7)
        if fault == "busy":
            return web.Response(status=503, headers={"Retry-After": "0"})
        assert request.transport is not None
        head = b"HTTP/1.1 200 OK\r\n"
        body = {
            "stall": b"",
            "reset": b"",
            "short": head + b"Content-Length: 500\r\n\r\n<Tagging>",
            "broken chunks": head + b"Transfer-Encoding: chunked\r\n\r\nzz\r\n<a>",
        }[fault]
        request.transport.write(body)
        request.transport.close()
        return web.Response()

    with harbour(faulty) as (address, _):
        folder = estate_for(tmp_path / "ws", address, "    timeout: 6\n")  # a busy machine takes more than 2 at times
        lantern("survey", *AS_OF, cwd=folder)
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    whole = len(DRIFT) - 1  # what one picture's own access list grants is not looked at
    assert (len(audit["drift"]), unknown_buckets(audit)) == (
        whole,
        {"drone-orthophotos", "camera-traps"} | MAY_HAVE_LISTS,
    )
    assert max(seen.values()) <= 5


def test_what_is_learnt_while_a_late_bucket_is_read_does_not_touch_it() -> None:
    learnt: dict[str, Answer[Any]] = {}

    class Late:
        """A client whose answers come after the other first buckets were read."""

        store = SimpleNamespace(counts="counters", several_regions=False)

        async def ask(self, *_: object, **__: object) -> Reply:
            learnt.update(dict.fromkeys(("counters", "quota"), Answer("unsupported")))
            return Reply(403, {}, b"")

    moment = datetime(2026, 11, 2, tzinfo=UTC)
    read = asyncio.run(read_bucket(Late(), "tides", Answer("known", moment), moment, learnt, 1))  # type: ignore[arg-type]
    assert read.counters.state == "denied"
