"""The cost of access decisions: the demo's policies, many buckets, a monstrous document, growing documents.

The alternative in the same run is one plain decision (`decide`) of one request, the least that any tool must do.

    python bench/access.py [POLICIES]     # with a number, that many random policies alone
"""

from __future__ import annotations

import json
import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.reports.results.decisions import decision_results
from rusty_lantern.simulator.demo import harbour as saltmarsh

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests import policies

AROUND = EvaluationContext(saltmarsh.MOMENT, saltmarsh.ACCOUNT)


def milliseconds(work: Callable[[], object], runs: int = 9) -> float:
    """Median time of a call."""
    times = []
    for _ in range(runs):
        start = time.process_time()
        work()
        times.append((time.process_time() - start) * 1000)
    return statistics.median(times)


def statement(number: int) -> dict[str, object]:
    """One of a family of different statements."""
    return {
        "Effect": "Allow" if number % 4 else "Deny", "Principal": "*", "Action": ["s3:GetObject", "s3:PutObject"],
        "Resource": f"arn:aws:s3:::b/part-{number}/*",
        "Condition": {"IpAddress": {"aws:SourceIp": f"198.51.{number % 256}.0/28"}},
    }  # fmt: skip


def rules(statements: list[dict[str, object]]) -> Rules:
    """Rules of a bucket with these statements."""
    return Rules("b", parse_policy(json.dumps({"Version": "2012-10-17", "Statement": statements})))


_UGLY: list[tuple[str, dict[str, object]]] = [
    ("arn:aws:s3:::b/*{n}*", {"StringLike": {"aws:Referer": ["*{n}*", "*{n}7*x"]}}),
    ("arn:aws:s3:::b/part-{n}/*", {"IpAddress": {"aws:SourceIp": "198.51.{n}.0/24"}}),
    (
        "arn:aws:s3:::*/*{n}*x*",
        {"StringLike": {"s3:prefix": "*{n}*"}, "NotIpAddress": {"aws:SourceIp": "10.{n}.0.0/16"}},
    ),
    ("*", {"ArnLike": {"aws:PrincipalArn": "arn:aws:iam::*:role/*{n}*"}}),
    ("arn:aws:s3:::b/" + "*a?" * 40 + "{n}", {}),
    ("arn:aws:s3:::b/{n}??*{n}", {"StringNotLike": {"aws:UserAgent": "*{n}*"}}),
    (
        "arn:aws:s3:::b/*",
        {"StringLike": {"aws:PrincipalAccount": "*{n}*"}, "StringNotEquals": {"aws:SourceVpce": "v-{n}"}},
    ),
]


def ugly(kind: int, size: int) -> Rules:
    """Rules of many statements that are alike and hard: globs, negations, accounts, endpoints."""
    resource, condition = _UGLY[kind]
    text = json.dumps(
        {"Principal": "*", "Action": ["s3:Get*", "s3:PutObject"], "Resource": resource, "Condition": condition}
    )
    made = [json.loads(text.replace("{n}", str(n))) | {"Effect": "Deny" if n % 3 else "Allow"} for n in range(size)]
    return rules(made)


def random_policies(count: int) -> list[Rules]:
    """Policies of 1 to 12 statements with all that the tests' own generator knows; the same ones each time."""
    found: list[Rules] = []

    @seed(5)
    @settings(max_examples=count, phases=[Phase.generate], database=None, deadline=None,
              suppress_health_check=list(HealthCheck))  # fmt: skip
    @given(st.integers(1, 12).flatmap(lambda n: st.lists(policies.statements(), min_size=n, max_size=n)))
    def draw(made: list[dict[str, object]]) -> None:
        found.append(Rules(policies.BUCKET, parse_policy(policies.document(made))))

    draw()
    return found


def main() -> None:
    """Print the figures."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    times = sorted(milliseconds(lambda r=one: exposures(r, AROUND), 3) for one in random_policies(count))  # type: ignore[misc]
    median, late = statistics.median(times), times[len(times) * 99 // 100]
    store = saltmarsh.harbour().dossier
    asked = Request("s3:GetObject", "a", context={"aws:sourceip": ("8.8.8.8",)})
    first = next(bucket for bucket in store.buckets if bucket.policy.value)
    plain = milliseconds(lambda: decide(rules_of(first, store), asked))
    print(f"{count} random policies of 1 to 12 statements: median {median:.1f} ms (aim <= 4), "
          f"p99 {late:.0f} ms (aim <= 60), ratio of the median to a plain decision "
          f"{median / plain:.0f} (aim <= 60)")  # fmt: skip
    if len(sys.argv) > 1:
        return
    with_policy = [b for b in store.buckets if b.policy.value]
    each = {b.name: milliseconds(lambda b=b: exposures(rules_of(b, store), AROUND)) for b in with_policy}  # type: ignore[misc]
    worst = max(each, key=lambda name: each[name])
    print(f"demo policy, all 14 verdicts: median {statistics.median(each.values()):.2f} ms (aim <= 1)   "
          f"worst {each[worst]:.2f} ms ({worst})   one plain decision {plain:.3f} ms")  # fmt: skip

    start = time.perf_counter()
    for number in range(10_000):
        exposures(rules_of(store.buckets[number % len(store.buckets)], store), AROUND)
    print(f"10,000 buckets of the demo's mix: {time.perf_counter() - start:.1f} s (aim <= 10)")

    view = next(one for one in views([store], None, saltmarsh.MOMENT) if one.name == "payroll-drop")
    specs = [RequestSpec("anyone", "read", key=f"k{n}", address=f"198.51.{n % 256}.{n % 199}") for n in range(10_000)]
    start = time.perf_counter()
    decision_results(view, specs, lambda _: saltmarsh.MOMENT)
    print(f"deciding 100,000 requests one by one: {10 * (time.perf_counter() - start):.1f} s (aim <= 10)")

    stars = rules([{**statement(1), "Condition": {}, "Resource": "arn:aws:s3:::b/" + "*a?" * 6600}])
    print(f"20 KB of stars and question marks: {milliseconds(lambda: exposures(stars, AROUND), 3):.0f} ms (aim <= 200)")
    knot = rules(
        [{**statement(1), "Condition": {}, "Resource": "*"}]
        + [
            {**statement(4), "Condition": {"StringLike": {"aws:Referer": f"*{n}*"}}, "Resource": f"*{n}*"}
            for n in range(90)
        ]
    )
    print(f"a 20 KB knot of 90 denies: {milliseconds(lambda: exposures(knot, AROUND), 3):.0f} ms (aim <= 200)")
    hard = [ugly(kind, size) for kind in range(len(_UGLY)) for size in (4, 16, 60)]
    times = [milliseconds(lambda r=one: exposures(r, AROUND), 3) for one in hard]  # type: ignore[misc]
    print(
        f"{len(hard)} ugly policies: worst {max(times):.0f} ms (aim <= 150), median {statistics.median(times):.0f} ms"
    )
    for size in (1, 4, 16, 64, 256):
        grown = rules([statement(n + 1) for n in range(size)])
        unknown = sum(v.level == "unknown" for v in exposures(grown, AROUND).values())
        time_taken = milliseconds(lambda g=grown: exposures(g, AROUND), 5)  # type: ignore[misc]
        print(f"{size:4} statements: {time_taken:7.1f} ms, {unknown} of 14 verdicts past the budget")


if __name__ == "__main__":
    main()
