"""The cost of a dialect: a bucket's verdicts under the gateway's reading, beside the same under the common one.

    python bench/dialects.py [DOCUMENTS]

Documents are drawn at random: 1 to 12 statements, conditions, exceptions, names. Also what such documents cost at the
median and at the 99th percentile. The alternative in the same run is the common reading.
"""

from __future__ import annotations

import json
import random
import statistics
import sys
import time
from typing import Any

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import COMMON, GATEWAY
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.simulator.demo import harbour as saltmarsh

AROUND = EvaluationContext(saltmarsh.MOMENT, saltmarsh.ACCOUNT)
DOCUMENTS = 400
WHO: tuple[Any, ...] = ("*", "*", {"AWS": "*"}, {"AWS": ["arn:aws:iam::500600700800:user/ann"]},
                        {"AWS": ["500600700800"]})  # fmt: skip
CONDITIONS: tuple[dict[str, dict[str, list[str]]], ...] = (
    {"IpAddress": {"aws:SourceIp": ["198.51.100.0/24"]}},
    {"NotIpAddress": {"aws:SourceIp": ["198.51.100.0/24", "203.0.113.0/28"]}},
    {"StringLike": {"aws:Referer": ["https://*.example/*", "*a*b*"]}},
    {"StringNotLike": {"aws:UserAgent": ["probe*", "*crawler*"]}},
    {"StringNotEquals": {"aws:PrincipalType": ["Anonymous"]}},
    {"StringEqualsIfExists": {"s3:prefix": ["pub/", "a/${aws:username}/"]}},
    {"Null": {"aws:SourceVpce": ["true"]}},
    {"Bool": {"aws:SecureTransport": ["false"]}},
    {"DateLessThan": {"aws:CurrentTime": ["2030-01-01T00:00:00Z"]}},
    {"ArnNotLike": {"aws:PrincipalArn": ["arn:aws:iam::400100200300:role/*"]}},
)


def document(dice: random.Random) -> str:
    """A random legal document."""
    statements = []
    for _ in range(dice.randint(1, 12)):
        names = ["", "/*", "/pub/*", "/p*x?", "/${aws:username}/*"]
        made: dict[str, Any] = {
            "Effect": dice.choice(["Allow", "Allow", "Deny"]), "Principal": dice.choice(WHO),
            "Action": dice.sample(["s3:GetObject", "s3:PutObject", "s3:ListBucket", "s3:*", "s3:Get*"], 2),
            "Resource": [f"arn:aws:s3:::b{name}" for name in dice.sample(names, 2)],
        }  # fmt: skip
        if dice.random() < 0.1:
            made["NotPrincipal"] = {"AWS": ["arn:aws:iam::400100200300:user/keeper"]}
            del made["Principal"]
        for condition in dice.sample(CONDITIONS, dice.choice([0, 1, 1, 2])):
            made.setdefault("Condition", {}).update(condition)
        statements.append(made)
    return json.dumps({"Version": "2012-10-17", "Statement": statements})


def timed(documents: list[str], dialect: Dialect) -> list[float]:
    """Milliseconds for the verdicts of each document, parsing and reading it included."""
    found = []
    for text in documents:
        start = time.process_time()
        exposures(Rules("b", as_read(parse_policy(text), dialect)), AROUND)
        found.append((time.process_time() - start) * 1000)
    return found


def main() -> None:
    """Print both, and their ratio; three passes in turn, of which the first warms up."""
    dice = random.Random(20261126)
    documents = [document(dice) for _ in range(int(sys.argv[1]) if len(sys.argv) > 1 else DOCUMENTS)]
    for _ in range(2):
        common, gateway = timed(documents, COMMON), timed(documents, GATEWAY)
    for title, found in (("common reading", common), ("gateway-16", gateway)):
        worst = sorted(found)[int(len(found) * 0.99)]
        print(
            f"{title}: median {statistics.median(found):.2f} ms (aim <= 4), 99 of 100 below {worst:.1f} ms (aim <= 60)"
        )
    alike = [(a, b) for a, b in zip(common, gateway, strict=True)]
    print(f"gateway-16 / common, ratio {sum(b for _, b in alike) / sum(a for a, _ in alike):.2f} (aim <= 1.10)")


if __name__ == "__main__":
    main()
