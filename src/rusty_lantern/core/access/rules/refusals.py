"""What a store refuses an identity whatever its rules say: everything, where it is disabled, and the operations that it
is not to use at all.

A gateway asks before any rule whether a user may use the kind of operation that a request is (`op_mask`). That holds
for its further logins, at each door, in buckets of its own, and for the gateway's own administrators (measured on
release 16.2, action by action).
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.shipped import dialect_of
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.document import Fault, Principals, Statement
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Identity, Operation

REFUSING_DISABLED = frozenset({"gateway", "keystone"})
"""How ACLs are read in stores that answer no request of a disabled identity (tried on a gateway 16.2, a Keystone 30).
Of others that is not known: a key of somebody who is disabled may go on working there."""


def refused_whatever_rules_say(identity: Identity, dossier: Dossier) -> tuple[Statement, ...]:
    """Statements that refuse it, at every door."""
    limits = _limits(identity.operations)
    refusing = dialect_of(dossier).readings.disabled_users_are_refused
    if dossier.acl_reading not in REFUSING_DISABLED and not refusing:
        return limits
    return limits + _if_disabled(identity.state)


def _if_disabled(state: Answer[Any]) -> tuple[Statement, ...]:
    """What refuses everything to somebody who is disabled, or may: where it was not read whether that one is."""
    if state.value == "disabled":
        return (_DISABLED,)
    return (_perhaps_disabled(state.reason),) if state.unread else ()


@lru_cache(maxsize=64)
def _perhaps_disabled(why: str) -> Statement:
    return msgspec.structs.replace(_DISABLED, faults=(Fault("", f"whether it is enabled was not read ({why})"),))


_DISABLED = Statement(
    "the identity is disabled", "Deny", principals=Principals(everyone=True), actions=("*",), resources=("*",),
    at_every_door=True,
)  # fmt: skip


def operations_of(action: Action) -> frozenset[Operation]:
    """The kinds of operation of which one is enough to use an action: some actions go with two requests.

    >>> sorted(operations_of(ACTIONS["s3:GetObject"])), sorted(operations_of(ACTIONS["s3:PutBucketTagging"]))
    (['read'], ['delete', 'write'])
    """
    usual = _OF_METHOD[action.method] if action.method else _OF_VERB.get(action.verb, "write")
    return _OTHERWISE.get(action.name, frozenset({usual}))


_OF_METHOD: dict[str, Operation] = {"GET": "read", "PUT": "write", "POST": "write", "DELETE": "delete"}
_OF_VERB: dict[str, Operation] = {"read": "read", "delete": "delete"}
"""Of what no client asks for itself."""
_OTHERWISE: dict[str, frozenset[Operation]] = {
    "s3:DeleteBucketPolicy": frozenset({"write"}),
    "s3:PutBucketNotification": frozenset({"write", "delete"}),
    "s3:PutBucketTagging": frozenset({"write", "delete"}),
    "s3:PutReplicationConfiguration": frozenset({"write", "delete"}),
}
"""Where the method of the action's request does not tell it: `DELETE ?policy` writes, and `DELETE ?tagging` is one of
the requests of `s3:PutBucketTagging`."""


def _limits(operations: Answer[list[Operation]]) -> tuple[Statement, ...]:
    if operations.unread:
        return (_all_but(frozenset(), f"which operations it may use was not read ({operations.reason})"),)
    return () if operations.value is None else (_all_but(frozenset(operations.value)),)


@lru_cache(maxsize=64)
def _all_but(allowed: frozenset[Operation], doubt: str = "") -> Statement:
    """What refuses every action but those that these operations are enough for."""
    refused = tuple(name for name, action in ACTIONS.items() if allowed.isdisjoint(operations_of(action)))
    words = "may limit its operations" if doubt else f"limits its operations ({', '.join(sorted(allowed)) or 'none'})"
    return Statement(
        f"the store {words}", "Deny", principals=Principals(everyone=True), actions=refused,
        resources=("*",), at_every_door=True, faults=(Fault("", doubt),) if doubt else (),
    )  # fmt: skip
