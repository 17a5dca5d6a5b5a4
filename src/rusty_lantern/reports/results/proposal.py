"""The result of `lantern try`: the result of a proposed bucket or change."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.audit.access_differences import (
    Difference,
    OwnDifferences,
    differences,
    own_differences,
)
from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import ReadOtherwise, read_otherwise
from rusty_lantern.core.audit.refused_policy import refused_by_guard
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.usage.proposed_retention import RetentionCost
from rusty_lantern.reports.results.audit import FindingResult, finding_result
from rusty_lantern.reports.results.exposure import VerdictResult, verdict_result


class ChangeResult(msgspec.Struct, frozen=True, kw_only=True):
    """What somebody would gain or lose for one verb, with a witness each."""

    audience: str
    """An audience, whom rules name, an account that the team trusts, or one of the store's own identities: that one by
    its own permissions and the bucket's rules together."""
    verb: str
    before: str
    after: str
    gained: Witness | None
    lost: Witness | None
    sure: bool


class TryResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern try --json`."""

    bucket: str
    against: str | None
    as_of: datetime
    exposure: dict[str, dict[str, VerdictResult]]
    changes: list[ChangeResult] | None
    own_unseen: str = ""
    """Why what the store's own identities gain or lose is not known of all; empty where it is."""
    drift: list[FindingResult] | None = None
    """What would drift from the baseline; null where there is none."""
    new_drift: list[str] = []
    """The facts of it that do not drift now."""
    fixed: list[str] = []
    """The facts that drift now and would not any more."""
    unknown: list[FindingResult] = []
    waived: list[FindingResult] = []
    """What would drift and is accepted in writing."""
    refused: str = ""
    """Why the store refuses to take the policy, or probably does, by a guard that is on; empty where none is."""
    read_otherwise: list[ReadOtherwise] = []
    """Verdicts that hang on how the store's software reads policies."""
    retention: RetentionCostResult | None = None
    """What another default retention would cost; null where it stays as it is."""


class RetentionCostResult(msgspec.Struct, frozen=True, kw_only=True):
    """What comes of another default retention, at the rate that versions are written now. What is stored already is not
    touched by it."""

    now_seconds: int | None
    """Null: it was not read."""
    proposed_seconds: int
    written_bytes_a_month: int | None
    counted_from: str
    locked_bytes: int | None
    """What is locked at any time once the first of it is let go."""
    cost_month: float | None
    """What that costs a month; null without a price in prices.yaml."""
    more_a_month: float | None
    """By how much that is more than now."""
    currency: str = ""


class TriesResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern try FOLDER --json`: one for each file."""

    tries: list[TryResult]


def try_result(
    current: BucketSubject | None,
    after: BucketSubject,
    judge: Judge | None = None,
    cost: RetentionCost | None = None,
    currency: str = "",
) -> TryResult:
    """What would be so, and what would change against the bucket as it is; with a baseline, what would drift."""
    own = OwnDifferences([]) if current is None else own_differences(current, after)
    judged = _judged(after, judge) if judge else []
    now = _judged(current, judge) if current is not None and judge is not None else []
    before = {j.requirement.fact for j in now if j.status == "drift"}
    drifts = [j for j in judged if j.status == "drift"]
    would = {j.requirement.fact for j in drifts}
    return TryResult(
        bucket=after.bucket.name,
        against=current.title if current else None,
        as_of=after.moment,
        exposure={a: {v: verdict_result(after.verdicts[a, v]) for v in VERBS} for a in AUDIENCES},
        changes=None if current is None else _changes(current, after, own.differences),
        own_unseen=own.unseen,
        drift=[finding_result(j) for j in drifts] if judge else None,
        new_drift=sorted(would - before),
        fixed=sorted(before - would - {j.requirement.fact for j in judged if j.status == "unknown"}),
        unknown=[finding_result(j) for j in judged if j.status == "unknown"],
        waived=[finding_result(j) for j in judged if j.status == "waived"],
        refused=_refused(current, after),
        read_otherwise=read_otherwise(after),
        retention=_retention(cost, currency) if cost else None,
    )


def _refused(current: BucketSubject | None, after: BucketSubject) -> str:
    return "" if current is not None and current.bucket.policy == after.bucket.policy else refused_by_guard(after)


def _retention(cost: RetentionCost, currency: str) -> RetentionCostResult:
    return RetentionCostResult(
        now_seconds=cost.before,
        proposed_seconds=cost.after,
        written_bytes_a_month=cost.written_a_month,
        counted_from=cost.counted_from,
        locked_bytes=cost.locked,
        cost_month=None if cost.month is None else float(round(cost.month, 2)),
        more_a_month=None if cost.more is None else float(round(cost.more, 2)),
        currency=currency,
    )


def _judged(view: BucketSubject, judge: Judge) -> list[Finding]:
    """The judgements on a bucket alone; those on its objects are left out, since nobody knows what will be in it."""
    return sorted(
        (j for j in judge.findings(view) if lookup(j.requirement.fact).subject != "object"),
        key=lambda j: (SEVERITIES.index(j.requirement.severity), j.requirement.fact),
    )


def _changes(current: BucketSubject, after: BucketSubject, own: Sequence[Difference]) -> list[ChangeResult]:
    """What each gains and loses. One of the store's own is shown once, by both sides, though rules may name it too."""
    others = (
        one for one in differences(current, after) if one.kind != "named" or current.identity_named(one.who) is None
    )
    return [
        ChangeResult(
            audience=one.who, verb=one.verb, before=one.before, after=one.after,
            gained=one.change.gained, lost=one.change.lost, sure=one.change.sure,
        )
        for one in (*others, *own)
    ]  # fmt: skip
