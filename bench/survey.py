"""Questions a second on one core, against a stub that always answers the same, beside the usual SDK in 16 threads.

The stub runs in processes of its own; the asker is pinned to one core. Both ask for the tags of buckets, signed, and
decode the answer. Medians of alternating runs.

    python bench/survey.py [SHARE]     # with a number, that share of the questions, by CPU time
"""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import os
import socket
import statistics
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import boto3
from botocore.config import Config

from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.s3.bucket_settings import ask_setting
from rusty_lantern.stores.s3.settings import QUESTIONS

BODY = b"<Tagging><TagSet><Tag><Key>steward</Key><Value>hydrology</Value></Tag></TagSet></Tagging>"
ANSWER = b"HTTP/1.1 200 OK\r\nContent-Type: application/xml\r\nContent-Length: %d\r\n\r\n%s" % (len(BODY), BODY)
OURS, THEIRS, ROUNDS = 6000, 1500, 5
TAGS = next(q for q in QUESTIONS if q.field == "tags")
KEY = AccessKey("AKIDBENCH", "bench-secret")


class Constant(asyncio.Protocol):
    """Answers every request with the same bytes."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport
        self.left = b""

    def data_received(self, data: bytes) -> None:
        whole = self.left + data
        *requests, self.left = whole.split(b"\r\n\r\n")
        self.transport.write(ANSWER * len(requests))  # type: ignore[attr-defined]


def stub(listener: socket.socket, protocol: type[Constant] = Constant) -> None:
    """Serve for ever."""
    if hasattr(os, "sched_setaffinity") and (os.cpu_count() or 1) > 1:
        os.sched_setaffinity(0, {1})

    async def run() -> None:
        server = await asyncio.get_running_loop().create_server(protocol, sock=listener)
        await server.serve_forever()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(run())


async def ours(address: str, questions: int) -> None:
    """Ask through our reader."""
    pace = Pace(at_once=64, per_second=1_000_000)
    store = StoreConfig("bench", Place("bench"), "s3", address, Credential("chain"), pace, plain_http=True)
    now = datetime.now(UTC)
    async with Client(store, Signed(KEY, "us-east-1"), Path()) as client:

        async def some(start: int) -> None:
            for number in range(start, questions, 64):
                answer = await ask_setting(client, f"bucket-{number}", TAGS, now)
                assert answer.value == {"steward": "hydrology"}

        await asyncio.gather(*(some(start) for start in range(64)))


def theirs(address: str, questions: int) -> None:
    """Ask through the usual SDK in 16 threads."""
    client = boto3.client(
        "s3", endpoint_url=address, region_name="us-east-1", aws_access_key_id="AKIDBENCH",
        aws_secret_access_key="bench-secret",
        config=Config(max_pool_connections=16, s3={"addressing_style": "path"}),
    )  # fmt: skip

    def one(number: int) -> None:
        assert client.get_bucket_tagging(Bucket=f"bucket-{number}")["TagSet"]

    with ThreadPoolExecutor(16) as pool:
        list(pool.map(one, range(questions)))


Way = tuple[Callable[[str], None], int]
"""A way to ask the store at an address, and how many questions it puts."""


def paired_rates(
    one: Way, other: Way, protocol: type[Constant] = Constant, clock: Callable[[], float] = time.perf_counter
) -> tuple[float, float, float]:
    """Questions a second of two ways to ask, on one core, in alternating turns: both medians, and the median ratio."""
    listener = socket.create_server(("127.0.0.1", 0), backlog=512)
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    server = multiprocessing.get_context("fork").Process(target=stub, args=(listener, protocol), daemon=True)
    server.start()
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {0})
    rates = []
    for turn in range(ROUNDS + 1):
        start = clock()
        one[0](address)
        middle = clock()
        other[0](address)
        end = clock()
        if turn:  # the first warms up
            rates.append((one[1] / (middle - start), other[1] / (end - middle)))
    server.terminate()
    first, second = (statistics.median(rate[i] for rate in rates) for i in (0, 1))
    return first, second, statistics.median(a / b for a, b in rates)


def main() -> None:
    """Print questions a second and the median ratio."""
    small = len(sys.argv) > 1
    share = float(sys.argv[1]) if small else 1.0
    many, few = int(OURS * share), int(THEIRS * share)
    mine, other, ratio = paired_rates(
        (lambda address: asyncio.run(ours(address, many)), many),
        (lambda address: theirs(address, few), few),
        clock=time.process_time if small else time.perf_counter,
    )
    rates_shown = f"lantern {mine:,.0f}   SDK, 16 threads {other:,.0f}"
    print(f"questions a second {'of CPU' if small else 'on one core'}: {rates_shown}   ratio {ratio:.1f} (aim >= 8)")


if __name__ == "__main__":
    main()
