"""10,000 buckets times 60 requirements judged, and two such surveys compared; a year of nightly surveys looked back on.

    python bench/judge.py [BUCKETS]     # with a number, judging and comparing alone

Judging is held against reading the same dossier's bytes with the plain decoder, `changes` against judging both surveys.
"""

from __future__ import annotations

import gc
import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import timedelta
from functools import partial
from pathlib import Path

import msgspec

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.audit import Audit, Judge, audit
from rusty_lantern.core.audit.store_subject import StoreSubject, store_subjects
from rusty_lantern.core.baseline.loader import Baseline, read_baseline
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.history.changes import changes
from rusty_lantern.core.history.drift_changes import drift_changes
from rusty_lantern.core.model.dossier import Dossier, decode, encode
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import BASELINE

APART = ("principals.",)
"""Facts that are measured with identities (`bench/holders.py`)."""
FACTS = [
    name
    for name, entry in REGISTER.items()
    if entry.subject == "bucket" and not name.endswith(".*") and not name.startswith(APART)
][:50]


def baseline() -> str:
    """60 requirements for every bucket, in three sheets."""
    first = dict.fromkeys(FACTS, "present")
    first |= {
        f"exposure.{verb}": "closed"
        for verb in ("read", "list", "write", "delete", "change-settings", "bypass-retention", "read-settings")
    }
    first |= {"versioning": "on", "encryption.at-rest": "at least provider-managed", "region": "north-shore"}
    rest = {f"tags.t{n}": "present" for n in range(60 - len(first))}
    sheets = [
        {"sheet": "every bucket", "require": first},
        {"sheet": "tags", "require": rest},
        {"sheet": "some", "of": {"name": "b-000*"}, "require": {"versioning": "at least suspended"}},
    ]
    return json.dumps({"title": "bench", "sheets": sheets})


def estate(buckets: int, changed: int = 0) -> Dossier:
    """Buckets made of the demo's, each with a name and steward of its own; every `changed`-th one otherwise."""
    found = saltmarsh.harbour().dossier
    made = []
    for number in range(buckets):
        bucket = found.buckets[number % len(found.buckets)]
        name = f"b-{number:06d}"
        policy = bucket.policy
        if policy.value is not None:
            policy = msgspec.structs.replace(policy, value=policy.value.replace(f":::{bucket.name}", f":::{name}"))
        tags = {"steward": f"team-{number % 40}", **{f"t{n}": "x" for n in range(20)}}
        bucket = msgspec.structs.replace(bucket, name=name, policy=policy, tags=Answer("known", tags))
        if changed and number % changed == 0:
            bucket = msgspec.structs.replace(bucket, versioning=Answer("absent"), policy=Answer("absent"))
        made.append(bucket)
    nobody: Answer[list[object]] = Answer("unsupported")
    return msgspec.structs.replace(
        found, buckets=made, listing=Answer("known", len(made)), identities=nobody, groups=nobody, credentials=nobody
    )


def in_turn(one: Callable[[], object], other: Callable[[], object]) -> tuple[float, float]:
    """Seconds of CPU that the first takes, and how many times the other's: medians of five turns."""
    pairs = []
    for _ in range(5):
        taken = []
        for work in (one, other):
            gc.collect()
            start = time.process_time()
            work()
            taken.append(time.process_time() - start)
        pairs.append((taken[0], taken[0] / taken[1]))
    return statistics.median(pair[0] for pair in pairs), statistics.median(pair[1] for pair in pairs)


def audited(dossier: Dossier, sheets: Baseline) -> Audit:
    """A dossier held against a baseline."""
    return audit(stores_of(dossier), Judge(sheets, saltmarsh.MOMENT))


def stores_of(dossier: Dossier) -> list[StoreSubject]:
    """A dossier's store with all that follows from it, worked out when asked."""
    return store_subjects([dossier], None, saltmarsh.MOMENT)


def judged(buckets: int) -> None:
    """Judging and comparing."""
    before, after = estate(buckets), estate(buckets, changed=50)
    sheets = read_baseline(baseline(), "bench")
    document = encode(before)
    found = audited(before, sheets)
    assert len(found.findings) + len(found.met) >= buckets * 60
    told = found.overview()
    assert told.closed + len(told.public) + len(told.undetermined) == buckets
    judging, times = in_turn(lambda: audited(before, sheets).overview(), lambda: decode(document, "bench"))
    ratio = f"ratio to decoding their dossier {times:.1f} (aim <= 5)"
    print(f"{buckets:,} buckets x 60: judged and summed up in {judging:.2f} s, {ratio}")

    def whole(dossier: Dossier) -> object:
        return audited(dossier, sheets).overview()

    # in turn too: what all of them take changes from minute to minute
    times_more = [in_turn(partial(whole, before), partial(whole, estate(buckets // part)))[1] for part in (4, 2)]
    quarter, half = (judging / times for times in times_more)
    words = f"{quarter:.2f}, {half:.2f}, {judging:.2f} s for a quarter, a half, all of them"
    print(f"growth: {words}: ratio to four quarters {times_more[0] / 4:.2f} (aim <= 1.2)")

    def compare() -> int:
        old, new = stores_of(before), stores_of(after)
        told = changes(old, new)
        later = audit(new, Judge(sheets, saltmarsh.MOMENT))  # of the same, as the command does
        return len(told) + len(drift_changes(found, later))

    count = compare()
    assert count > buckets // 50
    comparing, times = in_turn(compare, partial(whole, before))
    ratio = f"ratio to judging one {times:.2f} (aim <= 1.3)"
    print(f"changes between two such surveys: {comparing:.2f} s ({count:,}), {ratio}")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory {peak:.0f} MiB (aim <= 300)")


def looked_back() -> None:
    """A year of nightly surveys: the first `history` judges them all, every later one reads what is kept."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "ws"
        entry = "{at: 'http://127.0.0.1:9', plain-http: allowed, credential: {profile: x}}"
        estate_file = f"estate: bench\nstores: {{harbour: {entry}}}\n"
        make(place, {"estate.yaml": (estate_file, 0o644), "baseline.yaml": (BASELINE, 0o644)})
        for night in range(365):
            taken = saltmarsh.MOMENT - timedelta(days=364 - night)
            dossier = msgspec.structs.replace(estate(500, changed=(night % 9) + 3), taken=taken)
            save(place / "surveys", "bench", taken, [dossier])
        program = [str(Path(sys.executable).parent / "lantern"), "history", "--json"]

        def history() -> bytes:
            return subprocess.run(program, cwd=place, check=True, capture_output=True).stdout

        start = time.perf_counter()
        history()
        first = time.perf_counter() - start
        start = time.perf_counter()
        history()
        again = time.perf_counter() - start
        words = f"first {first:.0f} s, then {again:.2f} s, {first / again:.0f} times less"
        print(f"history of 365 surveys of 500 buckets: {words}")


if __name__ == "__main__":
    judged(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
    if len(sys.argv) == 1:
        looked_back()
