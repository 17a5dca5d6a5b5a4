"""What a survey looked at. A subject that is not in it is gone only where it would be there, if there were one."""

from collections.abc import Iterable, Sequence
from fnmatch import fnmatchcase
from typing import Literal

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.baseline.builtin import OF_PROBED_BUCKETS
from rusty_lantern.core.baseline.finding_words import WHEN_TESTED

Missing = Literal["not there", "not read", "not asked"]


class Limits(msgspec.Struct, frozen=True):
    """The buckets that a survey was limited to."""

    only: list[str] = []
    """Patterns of STORE/BUCKET, by `--only`; none, where it was not limited."""
    of_stores: dict[str, list[str]] = {}
    """Store → patterns of its buckets, by its entry in the estate file; without those that it does not limit."""

    def take_in(self, store: str, bucket: str) -> bool:
        """Whether a bucket was to be looked at."""
        chosen = not self.only or any(fnmatchcase(f"{store}/{bucket}", pattern) for pattern in self.only)
        mine = self.of_stores.get(store)
        return chosen and (not mine or any(fnmatchcase(bucket, pattern) for pattern in mine))


NO_LIMITS = Limits()
TESTED = frozenset(one.fact for one in OF_PROBED_BUCKETS)
"""The facts that are required only of buckets that were tested anonymously, and failed."""


class Coverage(msgspec.Struct, frozen=True):
    """The stores of a survey, what of them could not be listed, and the buckets that it was limited to."""

    stores: list[str] = []
    unlisted: list[tuple[str, str]] = []
    """Store and kind of subject: some of that kind may be there without being in the survey."""
    limits: Limits = NO_LIMITS
    untested: list[str] = []
    """STORE/BUCKET of which the anonymous test showed nothing; `*`: none was tested."""

    @property
    def whole(self) -> bool:
        """Whether every bucket of every store is in the survey, but for those that the estate file leaves out."""
        return not self.limits.only and all(kind != "bucket" for _, kind in self.unlisted)

    def lists(self, pattern: str, kind: str) -> bool:
        """Whether all subjects of a kind are in the survey, of all stores that the pattern fits."""
        return not self.limits.only and not any(
            fnmatchcase(store, pattern) and kind == one for store, one in self.unlisted
        )

    def missing(self, store: str, kind: str, name: str, fact: str = "") -> Missing:
        """What it means that a subject is not in the survey, or that nothing is said there of this fact of it.

        >>> seen = Coverage(["harbour", "attic"], [("attic", "bucket")])
        >>> [seen.missing(store, "bucket", "b") for store in ("harbour", "attic", "cove")]
        ['not there', 'not read', 'not read']
        >>> Coverage(["harbour"], limits=Limits(["harbour/press-*"])).missing("harbour", "bucket", "b")
        'not asked'
        """
        if not self._was_covered(store, kind, name):
            return "not asked"
        tested = fact not in TESTED or self.tested(store, name)
        return "not there" if tested and self._listed(store, kind, name) else "not read"

    def tested(self, store: str, bucket: str) -> bool:
        """Whether the anonymous test showed something of a bucket."""
        return self.untested != ["*"] and f"{store}/{bucket}" not in self.untested

    def still_let_in(self, store: str, bucket: str, observed: str) -> bool:
        """Whether a drift that the anonymous test alone showed may be there still, since it was not made again.
        `observed`: what was seen then, in words."""
        return observed.endswith(WHEN_TESTED) and not self.tested(store, bucket)

    def not_there(self, store: str, kind: str, names: Iterable[str], fact: str = "") -> set[str]:
        """Those of the names that are not there, if they are not in the survey."""
        if kind != "mirror" and self.limits == NO_LIMITS and fact not in TESTED:
            return set(names) if self._listed(store, kind, "") else set()
        return {name for name in names if self.missing(store, kind, name, fact) == "not there"}

    def _was_covered(self, store: str, kind: str, name: str) -> bool:
        """Whether the survey was to look at it. What is no bucket is read whole, wherever a bucket is."""
        if kind == "mirror":
            bucket, copy = _sides(name)
            return self.limits.take_in(store, bucket) and self.limits.take_in(copy, bucket)
        if kind == "bucket":
            return self.limits.take_in(store, name)
        return not self.limits.only or store in self.stores

    def _listed(self, store: str, kind: str, name: str) -> bool:
        """Whether all of its kind is in the survey. A mirror needs the buckets of both stores."""
        if kind == "mirror":
            return all(self._listed(side, "bucket", "") for side in (store, _sides(name)[1]))
        return store in self.stores and (store, kind) not in self.unlisted


def _sides(mirror: str) -> tuple[str, str]:
    """The bucket and the second store of a mirror, which is called `BUCKET → STORE`."""
    bucket, _, copy = mirror.rpartition(" → ")
    return bucket, copy


def coverage(stores: Sequence[StoreSubject], limits: Limits = NO_LIMITS) -> Coverage:
    """What a survey of these stores looked at."""
    unlisted = [(store.name, kind) for store in stores for kind in store.unlisted()]
    views = [view for store in stores for view in store.buckets.values()]
    none = not any(view.bucket.anonymous_test.value for view in views)
    untested = ["*"] if none else [view.title for view in views if not _tested(view)]
    return Coverage([store.name for store in stores], unlisted, limits, untested)


def _tested(view: BucketSubject) -> bool:
    """Whether the anonymous test had a result."""
    answered = bool(view.bucket.anonymous_test.value) and view.probed.value in ("agrees", "disagrees")
    return answered and view.fact("front-bypass").settled
