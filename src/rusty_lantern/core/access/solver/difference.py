"""What somebody gains and loses when one set of rules takes another's place."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.policy.condition_keys import Audience
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.policy.public_policy import PublicStatus
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.audience_view import AudienceView, Side, public_policy, way_in
from rusty_lantern.core.access.solver.boxes import without
from rusty_lantern.core.access.solver.sets import Budget, OverBudget
from rusty_lantern.core.access.solver.witness import (
    Witness,
    witness_of,
)
from rusty_lantern.core.model.identity import Verb


class Change(msgspec.Struct, frozen=True):
    """What somebody gains and loses for a verb when one set of rules takes another's place.

    Each is a witness, or None.
    """

    gained: Witness | None
    lost: Witness | None
    may_gain: bool = False
    """Whether something that was not understood or not read may hide a gain, where none is known."""
    may_lose: bool = False

    @property
    def sure(self) -> bool:
        """Whether nothing is hidden."""
        return not (self.may_gain or self.may_lose)

    @property
    def nothing(self) -> bool:
        """Whether there surely is none."""
        return self.gained is None and self.lost is None and self.sure


class Asker(msgspec.Struct, frozen=True):
    """Of whom a difference is asked: an audience, or a named identity, which may be one of the owner's own."""

    audience: Audience = "any-account"
    identity: Principal | None = None
    insider: bool = False


def difference(
    before: Rules, after: Rules, around: EvaluationContext, asker: Asker, verb: Verb, work: Budget
) -> Change:
    """The exact difference of two sets of rules: requests allowed after and not before, and the other way round."""
    old, new = (
        AudienceView(
            mine, around, asker.audience, work, PublicStatus() if asker.insider else public_policy(mine, around, work),
            identity=asker.identity, beside=other.policy,
        )
        for mine, other in ((before, after), (after, before))
    )  # fmt: skip
    try:
        gained, lost = _more(new, old, verb), _more(old, new, verb)
        sides = _comparisons(old, new)
        may_gain = gained is None and any(_more(new, old, verb, *one) is not None for one in sides)
        may_lose = lost is None and any(_more(old, new, verb, *one) is not None for one in sides)
    except OverBudget:
        return Change(None, None, may_gain=True, may_lose=True)
    return Change(gained, lost, may_gain, may_lose)


def _comparisons(old: AudienceView, new: AudienceView) -> tuple[tuple[Side, Side], ...]:
    """Where what is not understood or not read may hide a gain or a loss that is not shown: the sides of the one that
    has more and of the other.

    What only one has may be anything. What both have alike allows something on both or on neither: if it does, the most
    differs; if it neither allows nor refuses it, what is understood does.
    """
    if not (old.doubts or new.doubts or old.rules.doubted or new.rules.doubted):
        return ()
    if (old.doubts, old.rules.doubted) != (new.doubts, new.rules.doubted):
        return (("most", "least"),)
    return ("most", "most"), ("understood", "understood")


def _more(
    view: AudienceView, than: AudienceView, verb: Verb, mine: Side = "least", theirs: Side = "most"
) -> Witness | None:
    """A request that is allowed by one and not by the other: certainly, unless other sides are asked for."""
    for group in view.reading.groups(verb):
        taken = list(than.pieces(group, theirs))
        for piece in view.pieces(group, mine):
            for rest in without(piece, taken, view.work):
                request = view.request_in(rest, group)
                witness = witness_of(request, view.rules.bucket, way_in(view.rules, decide(view.rules, request).by))
                return msgspec.structs.replace(witness, caller=view.identity.name) if view.identity else witness
    return None
