"""What a SeaweedFS server's filer lets in: everybody who reaches its port, unless it asks for a token. It takes no
policy, and no lock (measured on release 4.48).

It has a key of its own for reads and one for changes: where one of them is set, the other side is open all the same.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rusty_lantern.core.access.dialects.shipped import SEAWEED, dialect_of
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.container_acl import EVERYBODY
from rusty_lantern.core.access.policy.document import Fault, Statement
from rusty_lantern.core.access.rules.other_doors import unread_door
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Door, Dossier

FILER = "filer"
"""The door, and what stands in `Statement.by_post` for what is done there: no policy is asked."""
VERSIONS = "filer, by version"
"""What stands there for a bucket that keeps versions: an object is a folder of them."""
TITLE = "the server's filer, which takes no policy"
READS = (
    "s3:GetObject", "s3:GetObjectLegalHold", "s3:GetObjectRetention", "s3:GetObjectTagging", "s3:GetObjectVersion",
    "s3:ListBucket", "s3:ListBucketVersions",
)  # fmt: skip
"""What it shows to whoever may read there."""
CHANGES = (
    "s3:BypassGovernanceRetention", "s3:DeleteBucket", "s3:DeleteObject", "s3:DeleteObjectVersion", "s3:PutObject",
)  # fmt: skip
"""What whoever may change files there does: it deletes versions that are locked, in compliance mode too."""
WAY_AROUND = "a deletion at the server's filer"
NOT_NAMED = "estate.yaml does not name it (doors: filer:)"
NOT_KNOWN = "whether it takes changes without a token is not known"
PERHAPS_MORE = "whoever gets in there may come by more: that was not tried"


def of_filer(store: StoreInputs, bucket: BucketInputs) -> Iterator[Statement]:
    """What the filer allows to everybody in a bucket. A filer that was not read may allow everything."""
    by_post = VERSIONS if bucket.keeps_versions else FILER
    yield from (msgspec.structs.replace(one, by_post=by_post) for one in _of_filer(store))


def _of_filer(store: StoreInputs) -> Iterator[Statement]:
    door = filer_of(store)
    everything = tuple(sorted(ACTIONS))
    if door is None:
        if _has_one(store):
            yield _allow(everything, NOT_NAMED)
    elif not door.read:
        yield _allow(everything, f"it was not read: {door.note}")
    elif door.lets_in or door.takes_changes is not False:
        certain = (*(READS if door.lets_in else ()), *(CHANGES if door.takes_changes else ()))
        rest = tuple(action for action in everything if action not in certain)
        if certain:
            yield _allow(certain)
        yield _allow(rest, NOT_KNOWN if door.takes_changes is None else PERHAPS_MORE)


def deletions_at_filer(store: Dossier) -> Answer[str]:
    """How locked versions can be deleted at the filer; absent where nobody can there, or there is none."""
    door = filer_of(store)
    if door is None:
        return Answer("failed", None, f"the server's filer: {NOT_NAMED}") if _has_one(store) else Answer("absent")
    if not door.read:
        return Answer("failed", None, f"the server's filer was not read: {door.note}")
    if door.takes_changes is None:
        return Answer("failed", None, f"the server's filer: {NOT_KNOWN}")
    return Answer("known", WAY_AROUND, "it asks for no token") if door.takes_changes else Answer("absent")


def filer_of(store: StoreInputs | Dossier) -> Door | None:
    """The store's filer, where one is known."""
    return next((one for one in store.doors.value or () if one.name == FILER), None)


def _has_one(store: StoreInputs | Dossier) -> bool:
    doubtful = unread_door(store.software) and store.dialect is None
    return (SEAWEED if doubtful else dialect_of(store)).readings.filer_takes_no_policy


def _allow(actions: tuple[str, ...], why: str = "") -> Statement:
    said = Statement(TITLE, "Allow", principals=EVERYBODY, actions=actions, resources=("*",), door=FILER)
    return msgspec.structs.replace(said, variables=False, faults=(Fault("", why),) if why else ())
