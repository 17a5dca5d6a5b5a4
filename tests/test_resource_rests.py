"""What resource patterns leave of themselves: the same whether it was kept or not, and never too much of it."""

from __future__ import annotations

import itertools
import random
from typing import Any

import pytest

from rusty_lantern.core.access import resource_rests
from rusty_lantern.core.access.policy.document import Statement, parse_policy
from rusty_lantern.core.access.resource_rests import Rests

NAMES = sorted(f"{kind}-{number:03d}" for kind, number in itertools.product(("tides", "notes", "permits"), range(40)))
RESOURCES = ("*", "arn:aws:s3:::*", "arn:aws:s3:::tides-0*/x*", "arn:aws:s3:::notes-??1/*", "arn:aws:s3:::permits-003",
             "arn:aws:s3:::*-00*", "arn:aws:s3:::${aws:username}-*")  # fmt: skip


def statements(dice: random.Random, count: int) -> list[Statement]:
    texts = []
    for number in range(count):
        resources = dice.sample(RESOURCES, dice.randint(1, 3))
        named = dice.choice(["Resource", "Resource", "NotResource"])
        texts.append(
            f'{{"Effect": "{dice.choice(["Allow", "Deny"])}", "Action": "s3:Get{number % 7}*",'
            f' "{named}": {str(resources).replace(chr(39), chr(34))}}}'
        )
    return list(parse_policy(f'{{"Statement": [{", ".join(texts)}]}}', attached=True).statements)


def sets(rests: Rests, mine: list[Statement]) -> tuple[dict[str, list[str]], set[str]]:
    """What is left, bucket by bucket, without the order and the numbers that depend on what came before."""
    left, allowing = rests.of(mine)
    shapes = {number: repr(shape) for shape, number in rests._shapes.items()}
    written: Any = left
    return {
        bucket: sorted(repr((shapes[part[0]], *part[1:])) for part in parts) for bucket, parts in written.items()
    }, allowing


def test_what_is_kept_is_what_is_worked_out_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    dice = random.Random(3)
    pool = statements(dice, 40)
    asked = [dice.sample(pool, dice.randint(0, 5)) for _ in range(200)]
    keeping = Rests(NAMES)
    kept = [sets(keeping, mine) for mine in asked]
    assert kept == [sets(Rests(NAMES), mine) for mine in asked]
    monkeypatch.setattr(resource_rests, "MOST_KEPT", 300)
    sparing = Rests(NAMES)
    for mine, expected in zip(asked, kept, strict=True):
        assert sets(sparing, mine) == expected
        assert sum(len(left.rests) for left in sparing._left_of.values()) <= 300
        assert len(sparing._rest) <= 300 + 5 * 3 * len(NAMES)
    assert max(len(left) for left, _ in kept) == len(NAMES) and min(len(left) for left, _ in kept) == 0


def test_statements_that_say_the_same_share_what_they_leave() -> None:
    rests = Rests(NAMES)
    text = '{"Statement": {"Effect": "Allow", "Action": "s3:*", "Resource": "*"}}'
    first, second = parse_policy(text, attached=True), parse_policy(text, attached=True)
    one, _ = rests.of(first.statements)
    other, _ = rests.of(second.statements)
    assert all(one[name] is other[name] for name in NAMES)
    assert len(rests._left_of) == 1
