"""Edits of access points' own policies that take the public out of them, and the policies that are left."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from functools import partial

import msgspec

from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.remediation.remedy import Document


def edits_of_points(
    view: BucketSubject, wanted: Sequence[Requirement]
) -> Iterator[tuple[Callable[[BucketSubject], BucketSubject], str]]:
    """For each access point that lets the public in to what a requirement is about: the bucket without what does so in
    its policy, and that in words. One that another one stood before comes after it."""
    points = {point.arn: point.name for point in view.bucket.access_points.value or ()}
    left = {point.arn: numbers for point in view.bucket.access_points.value or () if (numbers := _public(point))}
    while left:
        for arn, numbers in left.items():
            made = partial(_without, arn=arn, numbers=numbers)
            after = made(view)
            if any(after.fact(r.fact).value != view.fact(r.fact).value for r in wanted):
                titles = ", ".join(str(number + 1) for number in numbers)
                yield made, f"take statement {titles} out of the policy of the access point {points[arn]}"
                view = after
                del left[arn]
                break
        else:
            return


def point_documents(before: BucketSubject, after: BucketSubject) -> Iterator[Document]:
    """The policies of access points that an edit changed; an empty one is to be deleted."""
    points = zip(before.bucket.access_points.value or (), after.bucket.access_points.value or (), strict=True)
    for old, new in points:
        if old != new:
            yield Document(f"policy of the access point {new.name}", new.policy.value or "")


def _public(point: AccessPoint) -> list[int]:
    """The numbers of the Allows to everybody in an access point's policy, from 0."""
    policy = parse_policy(point.policy.value) if point.policy.value is not None else None
    if policy is None or policy.unreadable:
        return []
    return [
        number
        for number, said in enumerate(policy.statements)
        if said.effect == "Allow" and said.principals is not None and said.principals.everyone
    ]


def _without(view: BucketSubject, arn: str, numbers: Sequence[int]) -> BucketSubject:
    def edited(point: AccessPoint) -> AccessPoint:
        if point.arn != arn or point.policy.value is None:
            return point
        document = json.loads(point.policy.value)
        written = document["Statement"] if isinstance(document["Statement"], list) else [document["Statement"]]
        kept = [statement for number, statement in enumerate(written) if number not in numbers]
        text = json.dumps(document | {"Statement": kept}, indent=1, ensure_ascii=False)
        return msgspec.structs.replace(point, policy=Answer("known", text) if kept else Answer("absent"))

    points = view.bucket.access_points.map(lambda every: [edited(point) for point in every])
    return msgspec.structs.replace(view, bucket=msgspec.structs.replace(view.bucket, access_points=points))
