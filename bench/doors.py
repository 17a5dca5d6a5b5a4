"""What the Swift protocol and a second door cost, beside the S3 protocol alone, in the same run.

Surveying: questions a second about 10,000 containers (HEAD with a token, decoded), beside as many S3 questions
(tags, signed, decoded), against a stub in a process of its own. Deciding: exposures of buckets with a container ACL
behind a second door, beside the same buckets without. Medians of alternating runs.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import socket
import statistics
import time
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from rusty_lantern.core.access.policy.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Credential, Pace, Store
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.swift.reader import SwiftReader
from survey import ours, stub

QUESTIONS, ROUNDS = 10_000, 5
ACLS = ("", "", "", "", ".r:*", ".rlistings", ".r:*,.r:-bad.example", ".r:.good.example", "deck", "*:*")
"""What containers have, most of them nothing."""


async def containers(address: str, questions: int) -> None:
    """The HEAD of every container through our reader."""
    pace = Pace(at_once=64, per_second=1_000_000)
    at = f"{address}/v1/AUTH_bench"
    store = Store("bench", Place("bench"), "swift", at, Credential("none"), pace, plain_http=True)
    reader = SwiftReader(Visit(store, Path(), datetime.now(UTC)))
    reader.token.value = "token"
    reader.client.auth = reader.token
    async with reader.client:

        async def some(start: int) -> None:
            for number in range(start, questions, 64):
                told = await reader.head_of(f"container-{number}", [])
                assert told["versioning"].value

        await asyncio.gather(*(some(start) for start in range(64)))


def asking() -> None:
    """Print questions a second, and the median ratio."""
    listener = socket.create_server(("127.0.0.1", 0), backlog=512)
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    server = multiprocessing.get_context("fork").Process(target=stub, args=(listener,), daemon=True)
    server.start()
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {0})
    rates = []
    for turn in range(ROUNDS + 1):
        start = time.perf_counter()
        asyncio.run(containers(address, QUESTIONS))
        middle = time.perf_counter()
        asyncio.run(ours(address, QUESTIONS))
        end = time.perf_counter()
        if turn:  # the first warms up
            rates.append((QUESTIONS / (middle - start), QUESTIONS / (end - middle)))
    server.terminate()
    swift, s3 = (statistics.median(rate[i] for rate in rates) for i in (0, 1))
    ratio = statistics.median(a / b for a, b in rates)
    print(f"questions a second on one core: Swift {swift:,.0f}   S3 {s3:,.0f}   ratio {ratio:.2f} (aim >= 1)")


def deciding() -> None:
    """Print the time that exposures take with and without a second door, and the median ratio."""
    found = saltmarsh.harbour().dossier
    around = EvaluationContext(saltmarsh.MOMENT, saltmarsh.ACCOUNT)

    def decide(dossier: Dossier) -> float:
        start = time.perf_counter()
        for bucket in dossier.buckets:
            exposures(rules_of(bucket, dossier), around)
        return time.perf_counter() - start

    merged = msgspec.structs.replace(
        found,
        acl_reading="gateway",
        account_acl=Answer("absent"),
        buckets=[
            msgspec.structs.replace(
                bucket, container_acl=Answer("known", ContainerAcl(acl)) if acl else Answer("absent")
            )
            for number, bucket in enumerate(found.buckets)
            for acl in [ACLS[number % len(ACLS)]]
        ],
    )
    times = [(decide(merged), decide(found)) for _ in range(4 * ROUNDS + 1)][1:]
    with_door, alone = (1000 * statistics.median(one[i] for one in times) / len(found.buckets) for i in (0, 1))
    ratio = statistics.median(a / b for a, b in times)
    print(f"exposures of a bucket: two doors {with_door:.2f} ms   one {alone:.2f} ms   ratio {ratio:.2f} (aim <= 1.2)")


if __name__ == "__main__":
    asking()
    deciding()
