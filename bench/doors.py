"""What the Swift protocol and a second door cost, beside the S3 protocol alone, in the same run.

Surveying: questions a second about 10,000 containers (HEAD with a token, decoded), beside as many S3 questions
(tags, signed, decoded), against a stub in a process of its own. Deciding: exposures of buckets with a container ACL
behind a second door, beside the same buckets without. Medians of alternating runs.

    python bench/doors.py [ROUNDS]     # with a number, deciding alone
"""

from __future__ import annotations

import asyncio
import statistics
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.stores.http.authorization import Token
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.swift.reader import SwiftReader
from survey import ANSWER, Constant, ours, paired_rates

QUESTIONS, ROUNDS = 10_000, 5
FORMS = (".r:*", ".rlistings", ".r:*,.r:-bad.example", ".r:.good.example", "deck", "*:*")
"""What containers have in turn."""


SHOWN = (
    b"HTTP/1.1 204 No Content\r\nX-Container-Object-Count: 12\r\nX-Container-Bytes-Used: 3400\r\n"
    b"X-Timestamp: 1795614497.34450\r\nX-Container-Read: .r:*,.rlistings\r\nX-Storage-Policy: plain\r\n"
    b"X-Versions-Enabled: True\r\nX-Container-Meta-Steward: dock\r\n\r\n"
)


class Both(Constant):
    """Answers HEAD as a container is shown, and everything else with a bucket's tags."""

    def data_received(self, data: bytes) -> None:
        *requests, self.left = (self.left + data).split(b"\r\n\r\n")
        answers = (SHOWN if request.startswith(b"HEAD") else ANSWER for request in requests)
        self.transport.write(b"".join(answers))  # type: ignore[attr-defined]


async def containers(address: str, questions: int) -> None:
    """The HEAD of every container through our reader."""
    pace = Pace(at_once=64, per_second=1_000_000)
    at = f"{address}/v1/AUTH_bench"
    store = StoreConfig("bench", Place("bench"), "swift", at, Credential("none"), pace, plain_http=True)
    reader = SwiftReader(Visit(store, Path(), datetime.now(UTC)))
    reader.client.auth = Token("token")
    async with reader.client:

        async def some(start: int) -> None:
            for number in range(start, questions, 64):
                told = await reader.head_of(f"container-{number}", [])
                assert told["versioning"].value

        await asyncio.gather(*(some(start) for start in range(64)))


def asking() -> None:
    """Print questions a second, and the median ratio."""
    swift, s3, ratio = paired_rates(
        (lambda address: asyncio.run(containers(address, QUESTIONS)), QUESTIONS),
        (lambda address: asyncio.run(ours(address, QUESTIONS)), QUESTIONS),
        Both,
    )
    print(f"questions a second on one core: Swift {swift:,.0f}   S3 {s3:,.0f}   ratio {ratio:.2f} (aim >= 1)")


def deciding(every: int, rounds: int = 6 * ROUNDS) -> None:
    """Print the time that exposures take with and without a second door, and the median ratio; `every`: each so many-th
    bucket has a container ACL."""
    found = saltmarsh.harbour().dossier
    around = EvaluationContext(saltmarsh.MOMENT, saltmarsh.ACCOUNT)

    def decide(dossier: Dossier) -> float:
        start = time.process_time()
        for bucket in dossier.buckets:
            exposures(rules_of(bucket, dossier), around)
        return time.process_time() - start

    nothing: Answer[ContainerAcl] = Answer("absent")
    buckets = [msgspec.structs.replace(bucket, container_acl=nothing) for bucket in found.buckets]
    for turn, number in enumerate(range(0, len(buckets), every)):
        acl = Answer("known", ContainerAcl(FORMS[turn % len(FORMS)]))
        buckets[number] = msgspec.structs.replace(buckets[number], container_acl=acl)
    merged = msgspec.structs.replace(found, acl_reading="gateway", account_acl=Answer("absent"), buckets=buckets)
    times = [(decide(merged), decide(found)) for _ in range(rounds + 1)][1:]
    with_door, alone = (1000 * statistics.median(one[i] for one in times) / len(buckets) for i in (0, 1))
    ratio = statistics.median(a / b for a, b in times)
    print(f"exposures of a bucket, an ACL on one in {every}: two doors {with_door:.2f} ms   one {alone:.2f} ms   "
          f"ratio {ratio:.2f} (aim <= 1.2)")  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) > 1:
        deciding(5, int(sys.argv[1]))
    else:
        asking()
        deciding(5)
        deciding(2)
