"""Stores that are down, hostile or broken: every fact says so, and the rest is read."""

from __future__ import annotations

import asyncio
import json
import signal
import subprocess
import time
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from rusty_lantern.archive.surveys import names
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import CREDENTIAL
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from tests.conftest import Ran, answering, begin, estate_for, lantern
from tests.saltmarsh_answers import MAY_HAVE_LISTS

Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


@contextmanager
def harbour(twist: Handler | None = None) -> Iterator[tuple[str, Standin]]:
    """The demo's store; `twist` may answer a request first, or pass it on by returning None."""
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)

    async def either(request: web.Request) -> web.StreamResponse:
        answer = await twist(request) if twist else None
        return answer if answer is not None else await store._serve(request)

    with serve(answering(either)) as address:
        yield address, store


def _text(body: str, status: int = 200) -> Handler:
    async def answer(_: web.Request) -> web.StreamResponse:
        return web.Response(text=body, status=status)

    return answer


BOMB = '<!DOCTYPE a [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><ListAllMyBucketsResult>&b;</ListAllMyBucketsResult>'
BROKEN: dict[str, tuple[Handler, str]] = {
    "a web page": (_text("<html><p>Welcome</html>"), "the answer is a web page"),
    "a web page with a doctype": (_text("<!DOCTYPE html><html></html>"), "declares a document type"),
    "truncated XML": (_text("<ListAllMyBucketsResult><Buckets>"), "not XML"),
    "an entity bomb": (_text(BOMB), "document type"),
    "nothing": (_text(""), "not XML"),
    "a redirect": (_text("", 307), "redirected elsewhere"),
    "a refusal without a reason": (_text("", 403), "denied"),
    "an error for ever": (_text("<Error><Code>InternalError</Code></Error>", 500), "InternalError"),
}


def _survey(folder: Path, address: str, extra: str = "") -> Ran:
    return lantern("survey", "--as-of", "2026-11-02T06:00:00Z", cwd=estate_for(folder / "ws", address, extra))


@pytest.mark.parametrize("what", BROKEN)
def test_a_broken_store_is_unread_and_says_why(tmp_path: Path, what: str) -> None:
    answer, message = BROKEN[what]
    with serve(answering(answer)) as address:
        ran = _survey(tmp_path, address)
    assert (ran.code, message in ran.out) == (3, True), ran.out
    audit = lantern("audit", cwd=tmp_path / "ws")
    assert (audit.code, "was not read" in audit.out) == (3, True)
    shown = lantern("show", "harbour/press-kit", cwd=tmp_path / "ws")
    assert (shown.code, "store harbour was not read in it" in shown.err) == (2, True)


def test_a_store_that_is_down_is_unread_and_the_others_are_unaffected(tmp_path: Path) -> None:
    down = "  attic:\n    at: http://127.0.0.1:9\n    plain-http: allowed\n    credential: {file: harbour.credential}\n"
    with harbour() as (address, _):
        ran = _survey(tmp_path, address, down)
    assert ran.code == 3
    assert "store attic was not read: cannot connect" in ran.out
    audit = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)
    assert audit["buckets"] == 28
    assert list(audit["unread_stores"]) == ["attic"]


def test_a_hundred_megabytes_are_cut_off(tmp_path: Path) -> None:
    async def flood(request: web.Request) -> web.StreamResponse:
        answer = web.StreamResponse()
        await answer.prepare(request)
        try:
            for _ in range(100):
                await answer.write(b"<a/>" * (1 << 18))
        except ConnectionError:
            pass
        return answer

    with serve(answering(flood)) as address:
        ran = _survey(tmp_path, address)
    assert (ran.code, "larger than 16 MiB" in ran.out) == (3, True)


def test_a_hanging_store_times_out(tmp_path: Path) -> None:
    async def hang(_: web.Request) -> web.StreamResponse:
        await asyncio.sleep(30)
        return web.Response()

    with serve(answering(hang)) as address:
        ran = _survey(tmp_path, address, "    timeout: 1\n")
    assert (ran.code, "no answer within 1 s" in ran.out) == (3, True)


@pytest.mark.parametrize(
    "line,message",
    [
        ("aws_access_key_id = SOMEBODYELSESKEY0001", "does not know this access key"),
        ("aws_secret_access_key = wrong", "the secret is wrong"),
    ],
)
def test_a_wrong_key_is_named_and_never_shown(tmp_path: Path, line: str, message: str) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        name = line.partition(" ")[0]
        kept = [old for old in CREDENTIAL.splitlines() if not old.startswith(name)]
        (folder / "harbour.credential").write_text("\n".join([*kept, line]))
        ran = lantern("reach", cwd=folder)
    assert (ran.code, message in ran.out) == (3, True)
    assert saltmarsh.SECRET not in ran.out + ran.err


def test_a_refusal_and_a_redirect_are_told_and_no_signature_follows(tmp_path: Path) -> None:
    followed: list[str] = []

    async def expired(request: web.Request) -> web.StreamResponse:
        followed.append(request.path)
        if request.path == "/elsewhere":
            return web.Response()
        if request.query_string == "policy=" and "press-kit" in request.path:
            return web.Response(status=307, headers={"Location": "/elsewhere"})
        if request.query_string == "acl=":
            return web.Response(status=403, text="<Error><Code>RequestTimeTooSkewed</Code></Error>")
        return None  # type: ignore[return-value]

    with harbour(expired) as (address, _):
        _survey(tmp_path, address)
    assert "/elsewhere" not in followed
    shown = json.loads(lantern("show", "press-kit", "--json", cwd=tmp_path / "ws").out)
    facts = {f["fact"]: f for f in shown["facts"]}
    assert "redirected elsewhere" in facts["exposure.read"]["note"]
    assert "the clocks differ too much" in facts["exposure.list"]["note"]
    assert facts["versioning"]["value"] == "on"


def test_a_clock_off_by_an_hour_is_told_and_corrected_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from datetime import UTC, datetime, timedelta

    import rusty_lantern.simulator.s3_server as server

    class Later(datetime):
        @classmethod
        def now(cls, tz: object = None) -> datetime:  # type: ignore[override]
            return datetime.now(UTC) + timedelta(hours=1)

    monkeypatch.setattr(server, "datetime", Later)
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)

    async def an_hour_ahead(request: web.Request) -> web.StreamResponse:
        answer = await store._serve(request)
        answer.headers["Date"] = Later.now().strftime("%a, %d %b %Y %H:%M:%S GMT")
        return answer

    with serve(answering(an_hour_ahead)) as address:
        ran = _survey(tmp_path, address)
        reached = lantern("reach", cwd=tmp_path / "ws")
    assert "26" in ran.out
    assert "signatures may be refused" in reached.out


def test_a_bucket_deleted_meanwhile_and_a_refused_question_leave_the_rest(tmp_path: Path) -> None:
    async def gone(request: web.Request) -> web.StreamResponse:
        if "boat-logs" in request.path:
            return web.Response(status=404, text="<Error><Code>NoSuchBucket</Code></Error>")
        if request.query_string == "tagging=":
            return web.Response(status=403, text="<Error><Code>AccessDenied</Code></Error>")
        return None  # type: ignore[return-value]

    with harbour(gone) as (address, _):
        assert _survey(tmp_path, address).code == 0
    audit = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)
    reasons = {(u["bucket"], u["fact"]): u["reason"] for u in audit["unknown"]}
    assert "the bucket is gone" in reasons["boat-logs", "versioning"]
    assert reasons["gallery-web", "tags.steward"] == "denied to this credential: AccessDenied"
    assert "hangs on tags" in reasons["boat-logs", "lock.mode"] or "gone" in reasons["boat-logs", "lock.mode"]
    assert reasons["gallery-web", "lock.mode"].startswith("whether the sheet applies depends on tags")
    assert ("tmp-exchange", "encryption.at-rest") in {(d["bucket"], d["fact"]) for d in audit["drift"]}


ONE = "<Version><Key>same</Key><VersionId>v</VersionId><IsLatest>true</IsLatest><Size>1</Size></Version>"


@pytest.mark.parametrize(
    "entries,note",
    [
        (ONE, "the listing never ends: a page came twice"),
        ("", "the listing breaks off: an empty page that promises more"),
        (ONE.replace("<Key>same</Key>", ""), "a listing has an entry without a key"),
        (ONE.replace("1</Size>", "1e9</Size>"), 'a listing gives a size that is no number of bytes: "1e9"'),
    ],
)
def test_an_endless_or_broken_list_is_noticed(tmp_path: Path, entries: str, note: str) -> None:
    assert _old_versions(tmp_path, f"<IsTruncated>true</IsTruncated>{entries}") == note


@pytest.mark.parametrize(
    "word,note",
    [("True", "the listing never ends: a page came twice"), ("more", 'IsTruncated is "more", neither true nor false')],
)
def test_a_list_that_says_in_its_own_words_whether_it_goes_on_is_not_taken_for_whole(
    tmp_path: Path, word: str, note: str
) -> None:
    assert _old_versions(tmp_path, f"<IsTruncated>{word}</IsTruncated>{ONE}") == note


def _old_versions(tmp_path: Path, page: str) -> str:
    """Why the number of old versions is not known, where every page of their listing is this one."""

    async def endless(request: web.Request) -> web.StreamResponse:
        if "versions" in request.query:
            return web.Response(text=f"<ListVersionsResult>{page}</ListVersionsResult>")
        if "list-type" in request.query:
            return web.Response(status=501)
        return None  # type: ignore[return-value]

    with harbour(endless) as (address, _):
        _survey(tmp_path, address)
    shown = json.loads(lantern("show", "press-kit", "--json", cwd=tmp_path / "ws").out)
    [note] = [f["note"] for f in shown["facts"] if f["fact"] == "versions.old"]
    return str(note)


def test_hostile_names_and_tags_stay_text(tmp_path: Path) -> None:
    with harbour() as (address, _):
        _survey(tmp_path, address)
    for words in (("buckets",), ("show", "members-area"), ("audit",)):
        ran = lantern(*words, cwd=tmp_path / "ws", FORCE_COLOR="1", COLUMNS="200")
        assert "\x9b" not in ran.out
    shown = lantern("show", "members-area", cwd=tmp_path / "ws", COLUMNS="250").out
    assert '=HYPERLINK("https://evil.example") <script>alert(1)</script> \\x9b31m[bold]red' in shown
    assert "\x1b[31m[bold]" not in shown


def test_a_store_that_answers_otherwise_than_its_rules_say_is_a_finding(tmp_path: Path) -> None:
    async def leaky(request: web.Request) -> web.StreamResponse:
        unsigned = "authorization" not in {name.lower() for name in request.headers}
        if unsigned and request.path.startswith(("/boat-logs", "/gallery-web/web")):
            return web.Response(text="come in", status=200 if "boat-logs" in request.path else 403)
        return None  # type: ignore[return-value]

    with harbour(leaky) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        assert lantern("survey", "--probe", "--as-of", "2026-11-02T06:00:00Z", cwd=folder).code == 0
        knocked = lantern("exposure", "--probe", "harbour/boat-logs", "harbour/old-website", cwd=folder)
    found = {
        d["bucket"]: d["note"]
        for d in json.loads(lantern("audit", "--json", cwd=folder).out)["drift"]
        if d["fact"] == "anonymous-test"
    }
    assert set(found) == {"boat-logs", "gallery-web", "ringing-records"}
    assert "believes what a request says of its address" in found["ringing-records"]  # as harbour is in the demo
    assert "the store allows what the rules deny" in found["boat-logs"]
    assert "the store denies what the rules allow" in found["gallery-web"]
    assert (knocked.code, "2 of 4 answers agree" in knocked.out) == (0, True)


def unknown_buckets(audit: dict[str, Any]) -> set[str]:
    """Buckets of which something other than their objects is unknown; here no objects were looked at."""
    return {unknown["bucket"] for unknown in audit["unknown"] if not unknown["fact"].startswith("objects.")}


def test_busy_stores_are_asked_again(tmp_path: Path) -> None:
    refused: set[str] = set()

    async def busy(request: web.Request) -> web.StreamResponse:
        if request.raw_path in refused:
            return None  # type: ignore[return-value]
        refused.add(request.raw_path)
        return web.Response(status=503, text="<Error><Code>SlowDown</Code></Error>")

    with harbour(busy) as (address, _):
        ran = _survey(tmp_path, address)
    states = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)
    assert "26" in ran.out
    assert unknown_buckets(states) == {"drone-orthophotos", "camera-traps"} | MAY_HAVE_LISTS


async def half_a_second(request: web.Request) -> web.StreamResponse:
    """What about a bucket is asked takes a while: a whole survey takes half a minute."""
    if request.query_string:
        await asyncio.sleep(0.5)
    return None  # type: ignore[return-value]


def interrupted(running: subprocess.Popen[str], when: Callable[[], bool]) -> str:
    """Press Ctrl-C when that has happened, and see the program end. Returns what it told."""
    while running.poll() is None and not when():
        time.sleep(0.01)
    running.send_signal(signal.SIGINT)
    _, err = running.communicate(timeout=120)
    assert "Traceback" not in err
    assert running.returncode == 130, err
    return err


def test_ctrl_c_keeps_nothing_by_half(tmp_path: Path) -> None:
    with harbour(half_a_second) as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        for more in (1, 10, 60):
            heard = len(store.requests) + more
            err = interrupted(begin("survey", cwd=folder), lambda heard=heard: len(store.requests) >= heard)  # type: ignore[misc]
            assert "lantern survey --resume" in err
            assert names(folder / "surveys") == []


LOSES_INTERRUPTS = """
import pathlib, sys, time

class Finder:
    def find_spec(self, name, path, target=None):
        if name == {module!r}:
            pathlib.Path("importing").touch()
            try:
                time.sleep(1)
            except BaseException:
                pass

sys.meta_path.insert(0, Finder())
"""


@pytest.mark.parametrize("module", ["typer", "rusty_lantern.cli.survey", "aiohttp", "lxml.etree"])
def test_ctrl_c_is_not_lost_in_an_import_that_takes_it_for_something_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, module: str
) -> None:
    (tmp_path / "sitecustomize.py").write_text(LOSES_INTERRUPTS.format(module=module))
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    with harbour(half_a_second) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        interrupted(begin("survey", cwd=folder), (folder / "importing").exists)
        assert names(folder / "surveys") == []
