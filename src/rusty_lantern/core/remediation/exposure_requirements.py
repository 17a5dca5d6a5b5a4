"""What a baseline requires of a bucket's exposure, held against the bucket as it is or as it is proposed."""

from __future__ import annotations

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.loader import Requirement

EXPOSURE_FACTS = {f"exposure.{verb}": verb for verb in VERBS} | {
    f"exposure.{audience}.{verb}": verb for audience in AUDIENCES for verb in VERBS
}
"""Each fact of exposure → the verb that it is about."""


def too_open(requirement: Requirement) -> bool:
    """Whether what drifts from it is more open than required."""
    assert requirement.comparison is not None
    return requirement.comparison.accepts("closed")


def holds(view: BucketSubject, requirement: Requirement) -> bool:
    """Whether it is known to be as required."""
    fact = view.fact(requirement.fact)
    assert requirement.comparison is not None
    return fact.value is not None and requirement.comparison.accepts(fact.value)


def opens_more(view: BucketSubject, requirement: Requirement) -> bool:
    """Whether it is known to be more open than required."""
    return view.fact(requirement.fact).settled and not holds(view, requirement)
