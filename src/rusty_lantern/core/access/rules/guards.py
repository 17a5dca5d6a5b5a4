"""Public-access guards of a bucket and of its account: which of them are on, as far as they count in a store."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.dialects.shipped import dialect_of
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.guards import Guards


class Guard(msgspec.Struct, frozen=True):
    """One standing guard. `sure` is false where it may or may not be set, because it could not be read."""

    on: bool
    sure: bool = True
    source: str = ""


def guards_of(bucket: BucketInputs, store: StoreInputs, name: str, words: str) -> list[Guard]:
    """A guard holds if it is set at either level; the account's overrides the bucket's own switch."""
    levels: list[tuple[str, Answer[Guards]]] = [
        ("account", store.public_access_guards),
        ("bucket", bucket.public_access_guards),
    ]
    guards = []
    for level, answer in levels:
        if answer.value is not None:
            guards.append(Guard(getattr(answer.value, name), source=f"{words} by the {level}'s public-access guard"))
        elif answer.unread:
            words = f"the {level}'s public-access guards could not be read ({answer.reason})"
            guards.append(Guard(False, sure=False, source=words))
    return guards


def strongest(public_access_guards: list[Guard]) -> Guard:
    """The one that counts of several levels: one that is on, or else one that may be."""
    return next(
        (guard for guard in public_access_guards if guard.on),
        next((guard for guard in public_access_guards if not guard.sure), Guard(False)),
    )


def a_gateways(store: StoreInputs) -> bool:
    """Whether guards are a gateway's, which keeps them and reads policies for them in its own way."""
    return dialect_of(store).readings.public_policies_count_under_their_guard or store.acl_reading == "gateway"


def of_this_software(store: StoreInputs, guard: Guard) -> Guard:
    """The guard on public policies as the store's software takes it: a gateway keeps it, and release 16.2 lets a
    standing policy count all the same (measured); whether another release does is not known."""
    if not a_gateways(store) or (guard.sure and not guard.on):
        return guard
    return Guard(False, sure=False, source="gateways of this kind may not apply the guard on public policies")
