"""What a change to one bucket means for everybody who may get in: the public, whom rules name, whom the team trusts,
and the store's own identities with their own permissions."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator
from typing import Literal, NamedTuple

import msgspec

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.document import Statement
from rusty_lantern.core.access.policy.principals import Principal, read_principal
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.identity_policies import (
    EVERYTHING,
    IdentityPolicies,
    combined_rules,
    identity_policies_of,
    own_account,
    principal_of,
)
from rusty_lantern.core.access.rules.named_identities import as_named
from rusty_lantern.core.access.solver.audience_view import BUDGET, Level
from rusty_lantern.core.access.solver.difference import Asker, Change, difference
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.identity import Identity, Verb
from rusty_lantern.core.model.store_index import StoreIndex

MOST_KINDS = 300
"""How many kinds of the store's own identities are decided for one change: those that can do the same are one."""


class Difference(msgspec.Struct, frozen=True):
    """What somebody gains or loses for one verb; `who` is an audience or a name."""

    who: str
    kind: Literal["audience", "named", "own"]
    verb: Verb
    change: Change
    before: Level
    """How far the verb goes."""
    after: Level


def differences(before: BucketSubject, after: BucketSubject) -> Iterator[Difference]:
    """Everybody who gains or loses anything, or may."""
    for audience in AUDIENCES:
        yield from _of(audience, "audience", before, after, Asker(audience))
    for who in _named(before, after):
        inside = bool(before.account) and who.account == before.account
        yield from _of(who.name, "named", before, after, Asker(identity=who, insider=inside))


class OwnDifferences(NamedTuple):
    """What the store's own identities gain or lose, and why that may not be all; empty where it is."""

    differences: list[Difference]
    unseen: str = ""


def own_differences(before: BucketSubject, after: BucketSubject) -> OwnDifferences:
    """The same of the store's own identities, by their own permissions and the bucket's rules together."""
    identities = before.index.dossier.identities
    if before.rules == after.rules:
        return OwnDifferences([])
    if identities.unread:
        unseen = f"the store's own identities were not read ({identities.reason})"
        return OwnDifferences([], unseen if _may_change(before, after) else "")
    moved = after.dossier is not before.dossier  # to other software, which reads what is attached in its own way
    indexes = before.index, StoreIndex(after.dossier, after.moment) if moved else before.index
    pairs = zip((before, after), indexes, strict=True)
    across = [EffectivePermissions({view.bucket.name: view}, index) for view, index in pairs]
    decided: dict[Hashable, list[Difference]] = {}
    differences: list[Difference] = []
    left = 0
    for identity in identities.value or ():
        policies = identity_policies_of(indexes[0], identity), identity_policies_of(indexes[1], identity)
        kind = tuple(one.profile(identity, own) for one, own in zip(across, policies, strict=True))
        if kind not in decided and len(decided) < MOST_KINDS:
            decided[kind] = list(_of_own(identity, policies, before, after))
        differences += [msgspec.structs.replace(one, who=identity.name) for one in decided.get(kind, ())]
        left += kind not in decided
    return OwnDifferences(differences, f"{left:,} more identities of the store were not checked" if left else "")


def _may_change(before: BucketSubject, after: BucketSubject) -> bool:
    """Whether any of the store's own may gain or lose, whatever their permissions are: one that has none, one that has
    all, or one that a refusal or a condition is about by name. What is allowed by name is compared there."""
    if _about_callers(before.rules) != _about_callers(after.rules):
        return True
    account = before.surroundings.account
    anybody = Identity(name="any identity", resource=f"arn:aws:iam::{account}:user/any" if account else "")
    own = IdentityPolicies(()), IdentityPolicies(EVERYTHING)
    return any(True for policies in own for _ in _of_own(anybody, (policies, policies), before, after))


_OF_CALLERS = ("aws:principal", "aws:user")


def _about_callers(rules: Rules) -> frozenset[Statement]:
    """The refusals that name somebody, and what has a condition on who asks; whatever statements are called."""
    return frozenset(
        msgspec.structs.replace(one, place="", sid="")
        for one in rules.policy.statements
        if (one.effect != "Allow" and not (one.principals and one.principals.everyone))
        or any(condition.key.startswith(_OF_CALLERS) for condition in one.conditions)
    )


def _of_own(
    identity: Identity, policies: tuple[IdentityPolicies, IdentityPolicies], before: BucketSubject, after: BucketSubject
) -> Iterator[Difference]:
    who = principal_of(identity)
    account = own_account(before.rules, before.surroundings, identity)
    old, new = (combined_rules(view.rules, own, account) for view, own in zip((before, after), policies, strict=True))
    was, now = (reach_of(who, rules, after.surroundings, _work(), insider=True) for rules in (old, new))
    for verb in VERBS:
        change = difference(old, new, after.surroundings, Asker(identity=who, insider=True), verb, _work())
        if not change.nothing:
            yield Difference(identity.name, "own", verb, change, was[verb].level, now[verb].level)


def _named(before: BucketSubject, after: BucketSubject) -> Iterable[Principal]:
    """Whom either side names, and the accounts that the team trusts. The owner needs nothing of a bucket's rules."""
    names = {before.account, before.bucket.owner.value or ""} - {""}
    owners = names | {before.rules.principal(name).name for name in names}
    trusted = (read_principal(account) for account in sorted(before.trusted_accounts))
    principals = dict.fromkeys([*before.named, *after.named, *trusted])
    return [who for who in principals if who.name not in owners and who.kind != "group"]


def _of(
    who: str, kind: Literal["audience", "named"], before: BucketSubject, after: BucketSubject, asker: Asker
) -> Iterator[Difference]:
    old, new = (_asked_for(view, asker) for view in (before, after))
    for verb in VERBS:
        change = difference(old, new, after.surroundings, asker, verb, _work())
        if change.nothing:
            continue
        audience = next((one for one in AUDIENCES if one == who), None)
        levels = [
            view.verdicts[audience, verb].level if audience else view.granted(view.rules.principal(who))[verb].level
            for view in (before, after)
        ]
        yield Difference(who, kind, verb, change, levels[0], levels[1])


def _asked_for(view: BucketSubject, asker: Asker) -> Rules:
    """The rules as they count for whoever asks. What objects' own ACLs may grant beyond what was read, they may grant
    before and after."""
    if asker.identity is None:
        return view.rules
    return msgspec.structs.replace(as_named(view.rules, asker.identity, view.surroundings.account), named_on_objects="")


def _work() -> Budget:
    return Budget(BUDGET)
