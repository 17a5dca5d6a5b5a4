"""A store of several regions: each bucket is asked about in its own, and only where the estate file says."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import pytest
from aiohttp import web

from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate_file import read_estate
from rusty_lantern.core.errors import BadInput
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.http.regions import Region, Regions
from rusty_lantern.stores.http.reply import Reply
from tests.conftest import Ran, answering, lantern
from tests.gateway import Gateway, free_ports, standard_client
from tests.real_store import policy

USER = ("AKWALKER", "sk-walker-000")
KEYS = {"COAST_ACCESS_KEY_ID": USER[0], "COAST_SECRET_ACCESS_KEY": USER[1]}
BASELINE = "title: Coast\nsheets:\n  - {sheet: all, require: {exposure.read: closed, versioning: on}}\n"


def estate(at: str, more: str = "", credential: str = "{environment: COAST}") -> str:
    return (
        f"estate: Coast\nstores:\n  coast:\n    reads: s3\n    at: {at}\n    plain-http: allowed\n"
        f"    signing-place: north\n    credential: {credential}\n{more}"
    )


def looked_at(folder: Path, text: str, *how: str, **environment: str) -> Callable[..., Ran]:
    """Survey a workspace made of this estate file; what runs the next commands in it."""
    make(folder, {"estate.yaml": (text, 0o644), "baseline.yaml": (BASELINE, 0o644)})

    def run(*words: str) -> Ran:
        return lantern(*words, cwd=folder, **environment)

    ran = run("survey", "--probe", *how)
    assert ran.code in (0, 3), ran.err
    return run


def facts(run: Callable[..., Ran], bucket: str) -> dict[str, tuple[str, Any]]:
    """Every fact of a bucket, without moments and its own name."""
    shown = json.loads(run("show", f"coast/{bucket}", "--json").out)["facts"]
    own = ("name", "created", "region", "last-write")
    return {fact["fact"]: (fact["state"], fact["value"]) for fact in shown if fact["fact"] not in own}


@pytest.fixture(scope="module")
def coast(running_gateway: Gateway) -> tuple[str, str]:
    """A real store of two regions, and in each a bucket that is set up alike."""
    addresses = running_gateway.regions(USER)
    for address, region in zip(addresses, ("north", "south"), strict=True):
        client, bucket = standard_client(address, *USER, region), f"{region}-notes"
        for _ in range(60):  # who is known in one region is told to the other after a while
            try:
                client.create_bucket(Bucket=bucket, CreateBucketConfiguration={"LocationConstraint": region})
                break
            except client.exceptions.ClientError:
                time.sleep(1)
        client.put_bucket_versioning(Bucket=bucket, VersioningConfiguration={"Status": "Enabled"})
        client.put_bucket_tagging(Bucket=bucket, Tagging={"TagSet": [{"Key": "steward", "Value": "wardens"}]})
        client.put_object(Bucket=bucket, Key="tides.csv", Body=b"1", ContentType="text/csv")
        both = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
        open_to_all = policy(bucket, {"Action": ["s3:GetObject", "s3:ListBucket"], "Resource": both})
        client.put_bucket_policy(Bucket=bucket, Policy=open_to_all)
    return addresses


def test_buckets_that_are_set_up_alike_are_told_alike_in_each_region_of_a_real_store(
    coast: tuple[str, str], tmp_path: Path
) -> None:
    north, south = coast
    run = looked_at(tmp_path / "ws", estate(north, f"    regions: {{south: {south}}}\n"), "--objects", "all", **KEYS)
    here, away = (facts(run, bucket) for bucket in ("north-notes", "south-notes"))
    assert here == away
    assert (away["versioning"], away["objects"]) == (("known", "on"), ("known", 1))
    rows = {row["bucket"]: row for row in json.loads(run("buckets", "--json").out)["buckets"]}
    assert [rows[name]["region"] for name in ("north-notes", "south-notes")] == ["north", "south"]
    probed = json.loads(run("exposure", "--probe", "--json").out)["probed"]
    told = {(one["bucket"], one["verb"]): (one["verdict"], one["outcome"]) for one in probed if not one["door"]}
    assert told == {(bucket, verb): ("open", "agrees") for bucket in rows for verb in ("list", "read")}
    tables = {row["bucket"]: row for row in json.loads(run("objects", "--json").out)["tables"]}
    assert tables["south-notes"] | {"bucket": ""} == tables["north-notes"] | {"bucket": ""}


def test_without_the_address_of_a_region_nothing_is_settled_of_its_buckets_and_reach_prints_the_lines(
    coast: tuple[str, str], tmp_path: Path
) -> None:
    north, south = coast
    run = looked_at(tmp_path / "ws", estate(north), **KEYS)
    settled = {name for name, (state, _) in facts(run, "south-notes").items() if state in ("known", "absent")}
    of_others = {"replication.sources", "replication.source-exposure"}  # the rules of the others were read
    assert settled <= {"anonymous-test", "front-bypass", "transport", *of_others}, settled
    assert facts(run, "south-notes")["anonymous-test"] == ("known", "ambiguous")
    unknown = json.loads(run("audit", "--json").out)["unknown"]
    (versioning,) = [row for row in unknown if (row["name"], row["fact"]) == ("south-notes", "versioning")]
    assert versioning["reason"].endswith(f"redirected to {south}, which estate.yaml names as no region of this store")
    reached = run("reach").out
    assert re.search(rf"add to this store in estate\.yaml:\n +regions:\n +south: {south}\n", reached), reached


HERE = ("gallery-web", "press-kit")
AWAY = ("payroll-drop", "camera-traps")


@dataclass
class Hosted:
    """One address of a hosted store, and how it answers about buckets of another region."""

    region: str
    away: str
    """The region of the buckets that are not here."""
    alone: bool
    """Whether it serves every region, and only wants the signature for the right one."""
    asked: list[str] = field(default_factory=list)

    @web.middleware
    async def answer(self, request: web.Request, handler: Any) -> web.StreamResponse:
        bucket = request.path.lstrip("/").partition("/")[0]
        self.asked.append(bucket)
        lives = self.away if bucket in AWAY else self.region if bucket in HERE else ""
        scope = re.search(r"Credential=[^/]+/[0-9]+/([^/]+)/", request.headers.get("authorization", ""))
        if lives and lives != self.region and not self.alone:
            headers = {"x-amz-bucket-region": lives}
            return web.Response(status=301, headers=headers, body=_error(request, "PermanentRedirect"))
        if lives and scope and scope[1] != lives:
            body = _error(request, "AuthorizationHeaderMalformed", f"<Region>{lives}</Region>")
            return web.Response(status=400, headers={"x-amz-bucket-region": lives}, body=body)
        response: web.StreamResponse = await handler(request)
        return response


def _error(request: web.Request, code: str, more: str = "") -> bytes:
    words = f"<Error><Code>{code}</Code><Message>not here</Message>{more}</Error>".encode()
    return b"" if request.method == "HEAD" else words


@contextmanager
def hosted(front: Hosted, port: int = 0) -> Iterator[str]:
    """The demo's first store behind it: its address."""
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)
    for name in HERE + AWAY:
        at, bucket = next((n, one) for n, one in enumerate(store.holdings.dossier.buckets) if one.name == name)
        lives = Answer("known", front.region if name in HERE else front.away)
        store.holdings.dossier.buckets[at] = msgspec.structs.replace(bucket, region=lives)
    application = store.application()
    application.middlewares.append(front.answer)
    with serve(application, port) as address:
        yield address


def of_demo(folder: Path, text: str) -> dict[str, dict[str, tuple[str, Any]]]:
    """Every fact of the four buckets, as they are read by this estate file."""
    keys = {"COAST_ACCESS_KEY_ID": saltmarsh.KEY_ID, "COAST_SECRET_ACCESS_KEY": saltmarsh.SECRET}
    run = looked_at(folder, text + f"    only: [{', '.join(HERE + AWAY)}]\n", "--as-of", "2026-11-02T06:00:00Z", **keys)
    return {bucket: facts(run, bucket) for bucket in HERE + AWAY}


def different(told: dict[str, dict[str, Any]], itself: dict[str, dict[str, Any]]) -> dict[tuple[str, str], Any]:
    return {(bucket, name): (told[bucket].get(name), fact) for bucket, known in itself.items()
            for name, fact in known.items() if told[bucket].get(name) != fact}  # fmt: skip


def test_a_bucket_is_read_in_its_own_region_as_in_a_store_that_has_only_one(tmp_path: Path) -> None:
    """The regions are named by their ports: on loopback, that makes a pattern of addresses."""
    with hosted(Hosted("north", "north", alone=True)) as only:
        itself = of_demo(tmp_path / "only", estate(only))
    first = free_ports(2, 19480)
    north, south = (
        Hosted(str(first), str(first + 1), alone=False),
        Hosted(str(first + 1), str(first + 1), alone=False),
    )
    with hosted(north, first), hosted(south, first + 1):
        pattern = estate("http://127.0.0.1:{region}").replace("signing-place: north", f"signing-place: {first}")
        assert different(of_demo(tmp_path / "pattern", pattern), itself) == {}
        assert {bucket for bucket in south.asked if bucket} == set(AWAY)
        once = north.asked.count(AWAY[0])
        assert 0 < once < 6 < south.asked.count(AWAY[0]), "only until it is known where the bucket is"
        named = f"    regions: {{'{first + 1}': 'http://127.0.0.1:{first + 1}'}}\n"
        home = estate(f"http://127.0.0.1:{first}", named).replace("signing-place: north", f"signing-place: {first}")
        assert different(of_demo(tmp_path / "named", home), itself) == {}
        assert itself["payroll-drop"]["exposure.write"] == ("known", "open")


def test_one_address_for_every_region_is_signed_for_the_buckets_own_as_the_standard_client_does(tmp_path: Path) -> None:
    with hosted(Hosted("north", "north", alone=True)) as only:
        itself = of_demo(tmp_path / "only", estate(only))
    front = Hosted("north", "south", alone=True)
    with hosted(front) as at:
        client = standard_client(at, saltmarsh.KEY_ID, saltmarsh.SECRET, "north")
        assert client.get_bucket_acl(Bucket=AWAY[0])["Grants"]  # it signs again, by what the same answer tells it
        assert different(of_demo(tmp_path / "alone", estate(at)), itself) == {}


def test_nothing_is_sent_to_an_address_that_only_an_answer_names(tmp_path: Path) -> None:
    asked: list[str] = []

    async def listening(request: web.Request) -> web.StreamResponse:
        asked.append(request.path)
        return web.Response(status=200)

    with serve(answering(listening)) as stranger, hosted(Hosted("north", "north", alone=True)) as at:

        @web.middleware
        async def away(request: web.Request, handler: Any) -> web.StreamResponse:
            if "policy" in request.query:
                return web.Response(status=307, headers={"location": f"{stranger}{request.path}?policy"})
            response: web.StreamResponse = await handler(request)
            return response

        application = Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application()
        application.middlewares.append(away)
        with serve(application) as front:
            told = of_demo(tmp_path / "ws", estate(front, f"    regions: {{south: {at}}}\n"))
    assert asked == [] and told["camera-traps"]["exposure.list"][0] == "failed"


STORE = read_estate(
    "stores: {coast: {reads: s3, at: 'https://s3.{region}.coast.example', credential: chain, signing-place: north,"
    " regions: {old: 'https://old.example/s3'}}}",
    "estate.yaml",
).stores[0]


@pytest.mark.parametrize("status,headers,body,region", [
    (301, {"x-amz-bucket-region": "south"}, b"", "https://s3.south.coast.example"),
    (301, {"x-amz-bucket-region": "old"}, b"", "https://old.example/s3"),
    (307, {"location": "https://notes.s3.south.coast.example/?acl"}, b"", "https://s3.south.coast.example"),
    (301, {"location": "https://old.example/s3/notes"}, b"", "https://old.example/s3"),
    (400, {}, b"<Error><Region>south</Region></Error>", "https://s3.south.coast.example"),
    (301, {"x-amz-bucket-region": "south.evil.example/"}, b"", ""),
    (400, {}, b"<Error><Region>south.evil.example/</Region></Error>", ""),
    (301, {"location": "https://s3.south.coast.example.evil.example/"}, b"", ""),
    (301, {"location": "https://s3.a.b.coast.example/"}, b"", ""),
    (301, {"location": "http://old.example/s3/notes"}, b"", ""),
    (301, {"location": "//old.example/s3"}, b"", ""),
    (301, {"location": "https://[::1"}, b"", ""),
    (301, {"x-amz-bucket-region": "north"}, b"", ""),
    (403, {"x-amz-bucket-region": "south"}, b"", ""),
    (200, {"x-amz-bucket-region": "south"}, b"", ""),
    (400, {}, b"<Error>", ""),
])  # fmt: skip
def test_where_an_answer_points_is_an_address_of_the_estate_file_or_nothing(
    status: int, headers: dict[str, str], body: bytes, region: str
) -> None:
    regions, reply = Regions(STORE), Reply(status, headers, body)
    own = regions.of("notes")
    found = [regions.elsewhere("notes", own, reply) for _ in range(2)]  # of two that were asked at the same time
    assert [one.at if one else "" for one in found] == [region, region]
    assert regions.of("notes").at == (region or STORE.at) and regions.of("other") == own == Region("", STORE.at)
    assert regions.elsewhere("notes", regions.of("notes"), reply) is None, "there it is not asked again"


@pytest.mark.parametrize("entry,place,words", [
    ("    regions: {South: https://south.example}\n", "estate.yaml:9:15", '"South" cannot name a region'),
    ("    regions: {south: http://u:p@south.example}\n", "estate.yaml:9:22", "must not carry a user name"),
    ("    regions: {south: south.example}\n", "estate.yaml:9:22", "needs an address"),
    ("    regions: [south]\n", "estate.yaml:9:14", "regions"),
])  # fmt: skip
def test_a_mistake_in_a_region_is_told_by_its_place(entry: str, place: str, words: str) -> None:
    text = estate("https://coast.example", entry)
    with pytest.raises(BadInput) as refused:
        read_estate(text, "estate.yaml")
    told = [str(one) for one in refused.value.complaints]
    assert any(words in one for one in told) and any(place in str(one) for one in told), told
