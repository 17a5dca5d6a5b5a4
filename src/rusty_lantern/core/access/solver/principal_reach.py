"""What one named identity is granted, verb by verb."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.policy.public_policy import PublicStatus
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.audience_view import AudienceView, Level, public_policy
from rusty_lantern.core.access.solver.sets import Budget, OverBudget
from rusty_lantern.core.model.identity import Verb


class Reach(msgspec.Struct, frozen=True):
    """What one named identity is granted for one verb: the level, and the rule or restriction."""

    level: Level
    restriction: str = ""
    doubts: tuple[str, ...] = ()


def reach_of(
    identity: Principal, rules: Rules, around: EvaluationContext, work: Budget, *, insider: bool = False
) -> dict[Verb, Reach]:
    """What the rules of a bucket let a named identity do. A restriction is named where there is one.

    `insider`: it is known to be one of the owner's own, whatever its name says.
    """
    if around.account_unread and not insider and identity.account:
        return _either(identity, rules, around, work)
    reaches: dict[Verb, Reach] = {}
    inside = insider or (around.account == identity.account and bool(identity.account)) or identity.kind == "service"
    public = PublicStatus() if inside else public_policy(rules, around, work)
    view = AudienceView(rules, around, "any-account", work, public, identity=identity)
    for verb in VERBS:
        view.doubts.clear()
        try:
            least = view.find(verb, "least")
            most = view.beyond(least, verb)
        except OverBudget:
            reaches[verb] = Reach("unknown", doubts=("the rules are too intricate",))
            continue
        if least.level != most.level:
            reaches[verb] = Reach("unknown", doubts=(*rules.doubted.values(), *view.doubts))
        else:
            reaches[verb] = Reach(least.level, least.restriction.words if least.restriction else "")
    return reaches


def _either(identity: Principal, rules: Rules, around: EvaluationContext, work: Budget) -> dict[Verb, Reach]:
    """What an identity may do where the bucket's account was not read: the identity may be in it or not.

    A verb is decided where both readings agree, and unknown where they differ.
    """
    sure = msgspec.structs.replace(around, account_unread="")
    own = msgspec.structs.replace(sure, account=identity.account)
    here, there = reach_of(identity, rules, own, work), reach_of(identity, rules, sure, work)
    why = (around.account_unread,)
    return {v: here[v] if here[v].level == there[v].level else Reach("unknown", doubts=why) for v in VERBS}
