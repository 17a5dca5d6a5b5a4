"""A large estate's people, keys and links, against the figures that are wanted on one core.

5,000 identities and 10,000 buckets: `access` and `credentials`, seconds and peak memory of the installed program, and
as a ratio to what a plain program of four lines takes that decodes the same survey and prints its names; and to four
times what they take of a quarter.
A dossier of 200 MB: seconds to load it, and as a ratio to decoding the same bytes into plain objects.
Links in text: MB a second, and as a ratio to a search of the same text for one literal.

    python bench/holders.py [IDENTITIES]     # with a number, the commands alone, over so many and twice as many buckets
"""

from __future__ import annotations

import itertools
import json
import random
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.dossier_validation import load_untrusted
from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Bucket, Encryption, Versioning
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity
from rusty_lantern.core.model.resources import Link
from rusty_lantern.intake.link_scan import find_links
from rusty_lantern.simulator.demo.workspace_files import workspace_files

MOMENT = datetime(2026, 11, 2, 6, tzinfo=UTC)
DICE = random.Random(7)
ACCOUNT = "400100200300"
PROGRAM = Path(sys.executable).parent / "lantern"
KINDS = ("intake", "tides", "permits", "gallery", "backup", "notes")


def policy(*statements: dict[str, Any]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": list(statements)})


def answered(bucket: Bucket) -> Bucket:
    """The bucket with the evidence that a survey keeps beside each answer: its own question and moment."""
    seen = MOMENT + timedelta(milliseconds=7 * len(bucket.name) + int(bucket.name[-5:]))
    fields = {name: getattr(bucket, name) for name in bucket.__struct_fields__}
    told = {
        name: msgspec.structs.replace(value, evidence=Evidence(f"GET /{bucket.name}?{name}", "200", seen))
        for name, value in fields.items()
        if isinstance(value, Answer)
    }
    return msgspec.structs.replace(bucket, **told)


def bucket(number: int) -> Bucket:
    name = f"{KINDS[number % 6]}-{number:05d}"
    restriction = {"Effect": "Deny", "Principal": "*", "Action": "s3:*", "Resource": f"arn:aws:s3:::{name}/*",
             "Condition": {"Bool": {"aws:SecureTransport": "false"}}}  # fmt: skip
    named = {"Effect": "Allow", "Principal": {"AWS": f"arn:aws:iam::{ACCOUNT}:user/person-{number % 5000:04d}"},
             "Action": "s3:GetObject", "Resource": f"arn:aws:s3:::{name}/*"}  # fmt: skip
    documents = {0: policy(restriction), 1: policy(restriction, named)}
    written = documents.get(number % 5)
    return Bucket(
        name=name,
        created=Answer("known", MOMENT - timedelta(number % 3000)),
        region=Answer("known", "north-shore"),
        owner=Answer("known", ACCOUNT),
        acl=Answer("known", [Grant("named", "full-control", ACCOUNT)]),
        ownership=Answer("known", "bucket-owner-enforced"),
        policy=Answer("known", written) if written else Answer("absent"),
        public_access_guards=Answer("absent"),
        versioning=Answer("known", Versioning("on")),
        encryption=Answer("known", Encryption("provider-managed")),
        tags=Answer("known", {"steward": "records-office", "class": "working"}),
        **S3.of_bucket(),
    )


def estate(people: int, buckets: int) -> Dossier:
    look, change = ["s3:GetObject", "s3:ListBucket"], ["s3:GetObject", "s3:PutObject", "s3:ListBucket"]
    groups = []
    for number in range(200):
        reach = [f"arn:aws:s3:::{KINDS[number % 6]}-{number % 10}*"]
        text = policy({"Effect": "Allow", "Action": change if number % 3 else look, "Resource": reach})
        inside = [f"person-{n:04d}" for n in range(number, people, 200)]
        groups.append(
            Group(name=f"crew-{number}", members=inside, policies=Answer("known", [AttachedPolicy("crew", text)]))
        )
    identities, keys = [], []
    for number in range(people):
        own: list[AttachedPolicy] = []
        if number % 4 == 0:
            reach = [
                f"arn:aws:s3:::{KINDS[number % 6]}-{number:05d}",
                f"arn:aws:s3:::{KINDS[number % 6]}-{number:05d}/*",
            ]
            own = [AttachedPolicy("own", policy({"Effect": "Allow", "Action": look, "Resource": reach}))]
        name = f"person-{number:04d}"
        identities.append(
            Identity(
                name=name, resource=f"arn:aws:iam::{ACCOUNT}:user/{name}", kind="service",
                state=Answer("known", "enabled"), mfa=Answer("known", False),
                password=Answer("absent"),
                groups=Answer("absent"),
                policies=Answer("known", own), tags=Answer("absent"),
            )
        )  # fmt: skip
        for each in range(1 + number % 2):
            made = MOMENT - timedelta(DICE.randrange(1500))
            keys.append(
                Credential(
                    id=f"BENCH{number:010d}{each}", owner=name, state=Answer("known", "active"),
                    created=Answer("known", made), last_used=Answer("known", MOMENT), expires=Answer("absent"),
                )
            )  # fmt: skip
    many = [answered(bucket(number)) for number in range(buckets)]
    return Dossier(
        store="harbour", taken=MOMENT, account=Answer("known", ACCOUNT), account_number=ACCOUNT,
        public_access_guards=Answer("absent"),
        network=Answer("unsupported"), listing=Answer("known", buckets), buckets=many,
        identities=Answer("known", identities), groups=Answer("known", groups), credentials=Answer("known", keys),
        encryption_keys=Answer("known", []), links=Answer("known", list[Link]()),
    )  # fmt: skip


AIMS = {"access": 2.5, "credentials": 2}
"""How many times what the plain program takes a command may take."""
WHO_MAY = """title: bench
sheets: [{sheet: who may, require: {principals.read: "within [person-*]", principals.delete: "within [person-1*]"}}]
"""
PLAIN = """
import json, pathlib
[store] = pathlib.Path("surveys").glob("*/stores/*.json")
for kind in ("identities", "credentials"):
    print([one.get("name", one.get("id")) for one in json.loads(store.read_bytes())[kind]["value"]])
"""


def measured(*words: str, cwd: Path, program: str | Path = PROGRAM, runs: int = 3) -> tuple[float, float]:
    """Seconds of CPU and peak MiB of a program, the installed one if no other is named."""
    code = (
        "import resource, subprocess, sys;"
        "subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, check=False);"
        "used = resource.getrusage(resource.RUSAGE_CHILDREN);"
        "print(used.ru_utime + used.ru_stime, used.ru_maxrss / 1024)"
    )
    found = [
        subprocess.run(
            ["taskset", "-c", "0", sys.executable, "-c", code, str(program), *words],
            cwd=cwd, capture_output=True, text=True, check=True,
        ).stdout.split()
        for _ in range(runs)
    ]  # fmt: skip
    return statistics.median(float(f[0]) for f in found), max(float(f[1]) for f in found)


def median_of(work: Callable[[], object]) -> float:
    times = []
    for _ in range(3):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def people(identities: int, runs: int, *, held: bool = True) -> dict[str, float]:
    """Command → seconds of CPU. `held`: whether they are held to what is wanted."""
    taken: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "ws"
        make(folder, workspace_files("http://127.0.0.1:9"))
        save(folder / "surveys", "bench", MOMENT, [estate(identities, 2 * identities)])
        plain, _ = measured("-c", PLAIN, cwd=folder, program=sys.executable, runs=runs)
        for words in (("access", "--json"), ("credentials", "--json"), ("access",), ("credentials",)):
            seconds, peak = measured(*words, cwd=folder, runs=runs)
            taken[" ".join(words)] = seconds
            told = f"{seconds:5.2f} s (aim <= 5)  {peak:5.0f} MiB (aim <= 500)" if held else f"{seconds:5.2f} s"
            told += f"  ratio to plain {seconds / plain:4.1f} (aim <= {AIMS[words[0]]:g})" if held else ""
            print(f"{' '.join(words):<20} {identities:,} identities, {2 * identities:,} buckets: {told}")
        (folder / "baseline.yaml").write_text(WHO_MAY)
        seconds, peak = measured("audit", "--json", cwd=folder, runs=runs)
        told = f"{seconds:5.2f} s  {peak:5.0f} MiB  ratio to plain {seconds / plain:4.1f}"
        print(f"audit of who may     {identities:,} identities, {2 * identities:,} buckets: {told}")
        taken["audit of who may"] = seconds
    return taken


def growth(identities: int = 5000, runs: int = 3) -> None:
    """The same of so many people and of a quarter: nothing may take more than four times as long."""
    quarter, whole = people(identities // 4, runs, held=False), people(identities, runs)
    for words, seconds in whole.items():
        print(f"growth: {words}: ratio to four quarters {seconds / 4 / quarter[words]:.2f} (aim <= 1.2)")


def loading() -> None:
    dossier = estate(5000, 10_000)
    whole, alone = (len(encode(one)) for one in (dossier, msgspec.structs.replace(dossier, buckets=[])))
    count = (200_000_000 - alone) * len(dossier.buckets) // (whole - alone)
    every = itertools.islice(itertools.cycle(dossier.buckets), count)
    more = [msgspec.structs.replace(bucket, name=f"{bucket.name}-{n}") for n, bucket in enumerate(every)]
    large = encode(msgspec.structs.replace(dossier, buckets=more, listing=Answer("known", len(more))))
    taken = median_of(lambda: load_untrusted(large, "large.json"))
    plain = median_of(lambda: msgspec.json.decode(large))
    print(f"a dossier of {len(large) / 1e6:.0f} MB: {taken:.2f} s (aim <= 4), {taken / plain:.2f} times plain decoding")


def links() -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "mail.txt"
        words = [
            "the",
            "gauge",
            "at",
            "the",
            "mouth",
            "of",
            "the",
            "creek",
            "was",
            "read",
            "again",
            "after",
            "the",
            "storm",
            "and",
            "nothing",
            "was",
            "lost",
        ]
        lines = [" ".join(DICE.choices(words, k=14)) for _ in range(5_000)]
        signed = (
            "see https://harbour.example/tide-gauge-raw/item-{}.csv?X-Amz-Algorithm=AWS4-HMAC-SHA256&X-Amz-Credential="
            "BENCHKEY%2F20261101%2Fus-east-1%2Fs3%2Faws4_request&X-Amz-Date=20261101T000000Z&X-Amz-Expires=3600"
            "&X-Amz-SignedHeaders=host&X-Amz-Signature=" + "0f" * 32
        )
        with path.open("w") as stream:
            for number in range(560):
                stream.write("\n".join(lines) + "\n" + signed.format(number) + "\n")
        size = path.stat().st_size
        taken = median_of(lambda: find_links([path]))
        literal = median_of(lambda: re.findall(b"X-Amz-Signature", path.read_bytes()))
        found = len(find_links([path]).links)
        pace = f"{size / taken / 1e6:.0f} MB (aim >= 50) a second, {taken / literal:.1f} times a search for one literal"
        print(f"links: {found} in {size / 1e6:.0f} MB, {pace}")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        growth(int(sys.argv[1]), 1)
    else:
        links()
        loading()
        growth()
