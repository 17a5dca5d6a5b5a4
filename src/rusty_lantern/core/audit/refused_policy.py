"""Whether the store refuses to take a policy, because one of its public-access guards is on."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.rules.guards import a_gateways, guards_of, strongest
from rusty_lantern.core.audit.bucket_subject import BucketSubject


def refused_by_guard(proposed: BucketSubject) -> str:
    """Why the guard that refuses new public policies refuses a bucket's policy, or may; empty where it does not.

    Measured: a gateway (16.2) takes every policy for public that allows anything to somebody by name, or to everybody
    without a condition. The S3 family's documentation: a policy that lets the public in is refused.
    """
    guards = guards_of(proposed.inputs, proposed.around, "refuse_new_policies", "new public policies are refused")
    guard, policy = strongest(guards), proposed.written_policy
    if policy is None or all(statement.effect != "Allow" for statement in policy.statements):
        return ""
    if not guard.on:
        return "" if guard.sure else f"{guard.source}: one that refuses new public policies may be on"
    if a_gateways(proposed.around):
        return f"{guard.source}, and a gateway then refuses nearly every policy with an Allow; {_MEANWHILE}"
    alone = msgspec.structs.replace(proposed, supposed=msgspec.structs.replace(proposed.rules, acl=(), rights=()))
    verbs = [verb for verb in VERBS if any(alone.verdicts[who, verb].level == "open" for who in AUDIENCES)]
    return f"{guard.source}, and this policy lets the public {' and '.join(verbs)}; {_MEANWHILE}" if verbs else ""


_MEANWHILE = "switch the guard off while this one is applied"
