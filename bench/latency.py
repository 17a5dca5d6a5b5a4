"""A survey of 300 buckets against a stub that answers after 20 ms, beside the usual SDK in 32 threads, and beside the
HTTP client alone, which signs, sends and parses the same.

All ask the same settings questions of every bucket; all are pinned to one core, the stub runs on another. They take
turns, and what is reported are medians: questions a second, CPU seconds per 1,000 questions, peak memory of a process
of its own, and ratios of neighbours; and the memory of a survey as the number of buckets grows.

    python bench/latency.py [BUCKETS]     # with a number, one turn with so many
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import multiprocessing
import os
import resource
import socket
import statistics
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

LATENCY = 0.02
TURNS = 7
LARGE = 100
"""From so many buckets on, each side has a core of its own: fewer are measured on a busy machine, by CPU time alone."""
ABSENT = b"<Error><Code>NoSuchTagSet</Code></Error>"
EMPTY = b"<ListVersionsResult><IsTruncated>false</IsTruncated></ListVersionsResult>"


def answer(status: bytes, body: bytes) -> bytes:
    """One HTTP answer."""
    return b"HTTP/1.1 %s\r\nContent-Type: application/xml\r\nContent-Length: %d\r\n\r\n%s" % (status, len(body), body)


class Slow(asyncio.Protocol):
    """Answers each request after the latency: the list of buckets, an empty listing, or *not configured*."""

    buckets = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport
        self.left = b""

    def data_received(self, data: bytes) -> None:
        *requests, self.left = (self.left + data).split(b"\r\n\r\n")
        for request in requests:
            method, target = request.split(b" ", 2)[:2]
            if method == b"HEAD":
                reply = answer(b"200 OK", b"")
            elif target == b"/":
                reply = answer(b"200 OK", self.buckets)
            elif b"versions" in target or b"list-type" in target:
                reply = answer(b"200 OK", EMPTY)
            else:
                reply = answer(b"404 Not Found", ABSENT)
            asyncio.get_running_loop().call_later(LATENCY, self.transport.write, reply)  # type: ignore[attr-defined]


def stub(listener: socket.socket, buckets: int) -> None:
    """Serve for ever."""
    if (os.cpu_count() or 1) > 1 and buckets >= LARGE:
        os.sched_setaffinity(0, {1})
    entries = b"".join(
        b"<Bucket><Name>bucket-%05d</Name><CreationDate>2026-01-01T00:00:00Z</CreationDate></Bucket>" % n
        for n in range(buckets)
    )
    Slow.buckets = b"<ListAllMyBucketsResult><Buckets>%s</Buckets></ListAllMyBucketsResult>" % entries

    async def run() -> None:
        server = await asyncio.get_running_loop().create_server(Slow, sock=listener, backlog=512)
        await server.serve_forever()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(run())


async def ours(address: str) -> int:
    """A survey through our reader; the number of questions asked."""
    from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
    from rusty_lantern.core.errors import Place
    from rusty_lantern.stores.http.authorization import Signed
    from rusty_lantern.stores.http.client import Client
    from rusty_lantern.stores.http.credentials import AccessKey
    from rusty_lantern.stores.reader import SurveyOrder, Visit
    from rusty_lantern.stores.s3.reader import survey

    pace = Pace(at_once=128, per_second=1_000_000)
    store = StoreConfig("bench", Place("bench"), "s3", address, Credential("chain"), pace, plain_http=True)
    async with Client(store, Signed(AccessKey("AKIDBENCH", "bench-secret"), "us-east-1"), Path()) as client:
        dossier = await survey(client, Visit(store, Path(), datetime.now(UTC)), SurveyOrder())
        assert dossier.listing.settled
        return client.questions_asked


CALLS = [
    "get_bucket_acl",
    "get_bucket_ownership_controls",
    "get_bucket_policy",
    "get_bucket_policy_status",
    "get_public_access_block",
    "get_bucket_versioning",
    "get_bucket_encryption",
    "get_object_lock_configuration",
    "get_bucket_tagging",
    "get_bucket_location",
    "get_bucket_logging",
    "get_bucket_lifecycle_configuration",
    "get_bucket_website",
    "get_bucket_cors",
    "get_bucket_replication",
    "get_bucket_notification_configuration",
    "get_bucket_request_payment",
    "get_bucket_accelerate_configuration",
    "list_objects_v2",
    "list_object_versions",
    "list_multipart_uploads",
]


async def bare(address: str, buckets: int) -> int:
    """The same questions, signed, sent and parsed by the HTTP client and the XML parser alone."""
    import aiohttp
    from lxml import etree
    from yarl import URL

    from rusty_lantern.stores.http.credentials import AccessKey
    from rusty_lantern.stores.http.sigv4 import sign
    from rusty_lantern.stores.s3.bucket_settings import BY_SUB_RESOURCE

    key, free, host = AccessKey("AKIDBENCH", "bench-secret"), asyncio.Semaphore(128), address.removeprefix("http://")
    queries = [f"{ask}=" for ask in BY_SUB_RESOURCE]
    queries += ["encoding-type=url&list-type=2", "encoding-type=url&versions=", "encoding-type=url&uploads="]
    asked = 0
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=128)) as session:

        async def one(path: str, query: str) -> None:
            nonlocal asked
            async with free:
                headers = sign(key, "GET", host, path, query, datetime.now(UTC), "us-east-1", {}, "s3")
                async with session.get(URL(f"{address}{path}?{query}", encoded=True), headers=headers) as reply:
                    etree.fromstring(await reply.read())
                asked += 1

        for start in range(0, buckets, 50):
            await asyncio.gather(
                *(one(f"/bucket-{n:05d}", query) for n in range(start, min(start + 50, buckets)) for query in queries)
            )
    return asked


def theirs(address: str, buckets: int) -> int:
    """The same questions through the usual SDK in 32 threads."""
    import boto3
    from botocore.config import Config
    from botocore.exceptions import ClientError

    client = boto3.client(
        "s3", endpoint_url=address, region_name="us-east-1", aws_access_key_id="AKIDBENCH",
        aws_secret_access_key="bench-secret", config=Config(max_pool_connections=32, s3={"addressing_style": "path"}),
    )  # fmt: skip

    def one(number: int) -> None:
        for call in CALLS:
            with contextlib.suppress(ClientError):
                getattr(client, call)(Bucket=f"bucket-{number:05d}")

    with ThreadPoolExecutor(32) as pool:
        list(pool.map(one, range(buckets)))
    return buckets * len(CALLS)


def measured(who: str, address: str, buckets: int) -> None:
    """Run one side in this process and print what it took, as JSON."""
    if buckets >= LARGE:
        os.sched_setaffinity(0, {0})
    start, before = time.perf_counter(), time.process_time()

    sides = {"ours": lambda: asyncio.run(ours(address)), "bare": lambda: asyncio.run(bare(address, buckets))}
    asked = sides.get(who, lambda: theirs(address, buckets))()
    seconds, cpu = time.perf_counter() - start, time.process_time() - before
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    sys.stdout.write(json.dumps({"asked": asked, "seconds": seconds, "cpu": cpu, "peak": peak}))


def side(who: str, buckets: int) -> dict[str, float]:
    """One side against a stub of its own, each in a process of its own."""
    listener = socket.create_server(("127.0.0.1", 0), backlog=512)
    server = multiprocessing.get_context("fork").Process(target=stub, args=(listener, buckets), daemon=True)
    server.start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    words = [sys.executable, __file__, who, address, str(buckets)]
    ran = subprocess.run(words, capture_output=True, text=True, check=True)
    server.terminate()
    found: dict[str, float] = json.loads(ran.stdout)
    return found


def rate(ran: dict[str, float]) -> float:
    """Questions a second."""
    return ran["asked"] / ran["seconds"]


def cost(ran: dict[str, float]) -> float:
    """CPU seconds a question."""
    return ran["cpu"] / ran["asked"]


def main() -> None:
    """Print the figures."""
    if len(sys.argv) > 2:
        measured(sys.argv[1], sys.argv[2], int(sys.argv[3]))
        return
    small = len(sys.argv) > 1
    buckets = int(sys.argv[1]) if small else 300
    turns = [
        (side("ours", buckets), side("theirs", buckets * 3 // 20), side("bare", buckets))
        for _ in range(1 if small else TURNS)
    ]
    for title, ran in zip(("lantern", "SDK, 32 threads", "client alone"), zip(*turns, strict=True), strict=True):
        peak = max(one["peak"] for one in ran)
        used = f"{1000 * statistics.median(map(cost, ran)):6.2f} CPU s per 1,000 questions   peak {peak:,.0f} MiB"
        print(f"{title:16} {statistics.median(map(rate, ran)):7,.0f} questions/s   {used}")
    quicker = statistics.median(rate(mine) / rate(other) for mine, other, _ in turns)
    cheaper = statistics.median(cost(other) / cost(mine) for mine, other, _ in turns)
    more = statistics.median(cost(mine) / cost(least) for mine, _, least in turns)
    print(
        f"survey of {buckets:,} buckets: throughput {quicker:.1f} (aim >= 3) times, CPU ratio {cheaper:.1f} (aim >= 5)"
    )
    print(f"CPU a question beside signing, sending and parsing alone: ratio {more:.2f} (aim <= 1.25)")
    for buckets in () if small else (100, 1000, 10_000):
        found = side("ours", buckets)
        print(
            f"{buckets:6,} buckets: peak {found['peak']:,.0f} MiB, {found['asked'] / found['seconds']:,.0f} questions/s"
        )


if __name__ == "__main__":
    main()
