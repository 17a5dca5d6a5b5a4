"""What a gateway lets a bucket's owner do there, whatever the bucket's ACL grants it.

An owner reads and changes some settings by owning the bucket; the ACL, and what goes with it, as if that allowed it;
and at the Swift door it lists, stores and deletes as well. A Deny of the policy refuses all but the POST. The owner may
be nobody: whoever takes a bucket over without credentials leaves it to all who send none.

Measured on release 16.2: `tests/test_gateway_logins.py` does it again.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from rusty_lantern.core.access.policy.acl_permissions import AT_GATEWAY
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.container_acl import EVERYBODY, SETS_ACL, SETS_END, allow, by_post, whom
from rusty_lantern.core.access.policy.document import Fault, Statement
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import NOBODY

_SETTINGS = "Versioning ObjectLockConfiguration Tagging CORS RequestPayment Notification"
BY_OWNING = (
    "s3:GetBucketLocation",
    *(f"s3:{method}Bucket{setting}" for setting in _SETTINGS.split() for method in ("Get", "Put")),
)
"""What an owner does by owning the bucket, and nobody by an ACL."""
_BY_ACL = tuple(sorted(AT_GATEWAY.on_bucket["read-acp"] | AT_GATEWAY.on_bucket["write-acp"]))
_AT_SWIFT_DOOR = ("s3:ListBucket", "s3:PutObject", "s3:DeleteObject")

_ON_STORED_OBJECTS = tuple(
    action.name
    for action in ACTIONS.values()
    if action.target == "object" and action.verb in ("read", "read-settings", "change-settings")
)


def of_suspension(
    statements: Sequence[Statement], enabled: Answer[bool], unread: str, untried: str
) -> Iterator[Statement]:
    """The statements, with what is refused in the buckets of a suspended user: to read an object that is there, or to
    set anything on it, its end too. They can still be listed, and objects stored and deleted. `unread`: why it is not
    known whether the owner is suspended; `untried`: why it is not known what comes of that. Empty where it is."""
    if enabled.value is not False and not unread:
        yield from statements
        return
    doubt = f"whether its owner is suspended could not be read ({unread})" if unread else untried
    faults = (Fault("", doubt),) if doubt else ()
    for statement in statements:
        if statement.by_post != SETS_END:
            yield statement
        elif doubt:
            yield msgspec.structs.replace(statement, faults=(*statement.faults, *faults))
    yield Statement(
        "the owner of the bucket is suspended", "Deny", principals=EVERYBODY, actions=_ON_STORED_OBJECTS,
        resources=("*",), faults=faults, variables=False, at_every_door=True,
    )  # fmt: skip


def of_owner(owner: Answer[str], unread: str, untried: str, *, swift_door: bool) -> Iterator[Statement]:
    """What owning a bucket allows. `unread`: why it is not known who owns it; `untried`: why it is not known what comes
    of that. Empty where it is."""
    if not (owner.value or unread):
        return
    who, conditions = whom(owner.value) if owner.value else (EVERYBODY, ())
    whose = "whoever sends no credentials" if owner.value == NOBODY else owner.value
    words = f"ownership: the bucket belongs to {whose}" if whose else "ownership, which was not read"
    doubt = f"whose bucket it is could not be read ({unread})" if unread else untried
    faults = (Fault("", doubt),) if doubt else ()
    at_s3_door = msgspec.structs.replace(allow(words, who, (*BY_OWNING, *_BY_ACL), conditions), door="s3")
    at_swift_door = (
        allow(f"{words}, at the Swift door", who, _AT_SWIFT_DOOR, conditions),
        *by_post(words, who, conditions, SETS_ACL),
    )
    for statement in (at_s3_door, *(at_swift_door if swift_door else ())):
        yield msgspec.structs.replace(statement, faults=faults)
