"""Facts of how a bucket is served: whether it is on, over what its data are spread, its policies for share links."""

from __future__ import annotations

from typing import get_args

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, fact_of, switch_fact
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.bucket import Redundancy
from rusty_lantern.core.value_sets import WordSet
from rusty_lantern.core.value_types import COUNT, SWITCH, Levels

# One that is off holds its data still. At a gateway the buckets of a suspended user are.
fact(
    "enabled",
    SWITCH,
    "whether the bucket is switched on; one that is off answers nobody (at a gateway, whose owner is suspended: nobody "
    "reads or changes the objects in it)",
    advice="switch the bucket on, or copy what is in it and delete it",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.enabled))

fact(
    "redundancy",
    Levels(get_args(Redundancy), ordered=True),
    "over what its data are spread: one device, one zone, several zones, several regions",
    advice="move the bucket to a redundancy of {wanted}",
)(lambda subject, _: fact_of(subject.bucket.redundancy))

fact(
    "compression",
    SWITCH,
    "whether the store compresses what is put into it",
    advice="set compression: {wanted}",
    habit=False,
)(lambda subject, _: switch_fact(subject.bucket.compression))


def _policies(subject: BucketView) -> Answer[int]:
    return subject.bucket.link_policies.map(len).default(0)


fact(
    "link-policies.count",
    COUNT,
    "how many policies for share links the bucket stores",
    area="access",
    advice="remove the policies that no link needs: that ends their links",
    habit=False,
)(lambda subject, _: fact_of(_policies(subject)))


@fact(
    "link-policies.without-end",
    COUNT,
    "how many of them have no end date: each of their links may have one",
    area="access",
    advice="give each policy an end ({note})",
)
def without_end(subject: BucketView, _: str) -> Fact:
    """The note names them."""
    answer = subject.bucket.link_policies
    endless = [policy.name for policy in answer.value or () if policy.expires is None]
    if answer.value is None:
        return fact_of(_policies(subject))
    return Answer("known", len(endless), ", ".join(endless), answer.evidence)


@fact(
    "link-policies.allow",
    WordSet(VERBS),
    "what they let whoever has such a link do",
    area="access",
    advice="take verbs away from the policies until links can do {wanted}",
)
def allowed(subject: BucketView, _: str) -> Fact:
    """A policy that names no verbs leaves them to each link."""
    answer = subject.bucket.link_policies
    if answer.value is None:
        return fact_of(answer.map(str).default(""))
    unsaid = next((policy.name for policy in answer.value if not policy.verbs), "")
    if unsaid:
        return Answer("failed", None, f'the policy "{unsaid}" leaves it to each link', answer.evidence)
    given = {verb for policy in answer.value for verb in policy.verbs}
    return Answer("known", " ".join(verb for verb in VERBS if verb in given), "", answer.evidence)
