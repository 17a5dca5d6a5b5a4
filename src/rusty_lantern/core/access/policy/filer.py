"""What a SeaweedFS server's filer lets in: everybody who reaches its port, unless it asks for a token. It takes no
policy (measured on release 4.48)."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rusty_lantern.core.access.dialects.shipped import SEAWEED, dialect_of
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.container_acl import EVERYBODY
from rusty_lantern.core.access.policy.document import Fault, Statement
from rusty_lantern.core.access.policy.other_doors import unread_door
from rusty_lantern.core.access.policy.rule_inputs import StoreInputs

FILER = "filer"
"""The door, and what stands in `Statement.by_post` for what is done there: no policy is asked."""
TITLE = "the server's filer, which takes no policy"
READS = ("s3:GetObject", "s3:ListBucket")
CHANGES = tuple(sorted(set(ACTIONS) - set(READS)))


def of_filer(store: StoreInputs) -> Iterator[Statement]:
    """What the filer allows to everybody. A filer that was not read may allow everything."""
    door = next((one for one in store.doors.value or () if one.name == FILER), None)
    if door is not None and door.lets_in:
        yield _allow(READS)
        yield _allow(CHANGES, "whether it takes changes without a token was not tried")
    elif door is not None and not door.read:
        yield _allow(tuple(sorted(ACTIONS)), f"it was not read: {door.note}")
    elif door is None and _has_one(store):
        yield _allow(tuple(sorted(ACTIONS)), "estate.yaml does not name it (doors: filer:)")


def _has_one(store: StoreInputs) -> bool:
    doubtful = unread_door(store.software) and store.dialect is None
    return (SEAWEED if doubtful else dialect_of(store)).readings.filer_takes_no_policy


def _allow(actions: tuple[str, ...], why: str = "") -> Statement:
    said = Statement(TITLE, "Allow", principals=EVERYBODY, actions=actions, resources=("*",), door=FILER, by_post=FILER)
    return msgspec.structs.replace(said, variables=False, faults=(Fault("", why),) if why else ())
