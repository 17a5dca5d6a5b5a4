"""What a change to one bucket means for everybody who may get in: the public, whom rules name, whom the team trusts,
and the store's own identities with their own permissions."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.identity_policies import both_sides, known_as, side_of
from rusty_lantern.core.access.policy.principals import Principal, read_principal
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.difference import Asker, Change, difference
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.identity import Verb

MOST_OWN = 300
"""How many of the store's own identities are looked at for one change."""


class Difference(msgspec.Struct, frozen=True):
    """What somebody gains or loses for one verb; `who` is an audience or a name."""

    who: str
    kind: Literal["audience", "named", "own"]
    verb: Verb
    change: Change


def differences(before: BucketSubject, after: BucketSubject) -> Iterator[Difference]:
    """Everybody who gains or loses anything, or may."""
    for audience in AUDIENCES:
        yield from _of(audience, "audience", before, after, Asker(audience))
    for who in _named(before, after):
        inside = bool(before.account) and who.account == before.account
        yield from _of(who.name, "named", before, after, Asker(identity=who, insider=inside))


def own_differences(before: BucketSubject, after: BucketSubject) -> Iterator[Difference]:
    """The same of the store's own identities, by their own permissions and the bucket's rules together."""
    index = before.index
    for holder in (index.dossier.identities.value or ())[:MOST_OWN]:
        who, side = known_as(holder), side_of(index, holder)
        account = before.surroundings.account or who.account
        old, new = (both_sides(view.rules, side, account) for view in (before, after))
        for verb in VERBS:
            asker = Asker(identity=who, insider=True)
            yield from _told(holder.name, "own", verb, difference(old, new, after.surroundings, asker, verb, _work()))


def own_unread(view: BucketSubject) -> str:
    """Why not all of the store's own identities are looked at; empty where they are."""
    told = view.index.dossier.identities
    if told.unread:
        return f"the store's own identities were not read ({told.reason})"
    more = len(told.value or ()) - MOST_OWN
    return f"{more:,} more identities of the store were not checked" if more > 0 else ""


def _named(before: BucketSubject, after: BucketSubject) -> Iterable[Principal]:
    """Whom either side names, and the accounts that the team trusts. The owner needs nothing of a bucket's rules."""
    owners = {before.account, before.bucket.owner.value or ""} - {""}
    trusted = (read_principal(account) for account in sorted(before.trusted_accounts))
    found = dict.fromkeys([*before.named, *after.named, *trusted])
    return [who for who in found if who.name not in owners and who.kind != "group"]


def _of(
    who: str, kind: Literal["audience", "named"], before: BucketSubject, after: BucketSubject, asker: Asker
) -> Iterator[Difference]:
    for verb in VERBS:
        change = difference(before.rules, after.rules, after.surroundings, asker, verb, _work())
        yield from _told(who, kind, verb, change)


def _told(who: str, kind: Literal["audience", "named", "own"], verb: Verb, change: Change) -> Iterator[Difference]:
    if change.gained is not None or change.lost is not None or not change.sure:
        yield Difference(who, kind, verb, change)


def _work() -> Budget:
    return Budget(BUDGET)
