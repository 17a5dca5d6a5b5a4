"""Which recorded actions can have caused which change."""

from __future__ import annotations

from rusty_lantern.core.facts.event_actions import ACCOUNT_GUARD_ACTIONS, KEY_ACTIONS, PERMISSION_ACTIONS, POINT_ACTIONS
from rusty_lantern.core.facts.registry import lookup

_OF_SUBJECTS = {
    "bucket new": "CreateBucket",
    "bucket gone": "DeleteBucket BulkDelete",
    "identity new": "CreateUser CreateRole",
    "identity gone": "DeleteUser DeleteRole",
    "credential new": "CreateAccessKey UpdateAccessKey",
    "credential gone": "UpdateAccessKey DeleteAccessKey DeleteUser",
    "encryption-key new": "CreateKey ImportKeyMaterial",
    "encryption-key gone": "ScheduleKeyDeletion DeleteKey",
    "deleted": "DeleteObjectVersion DeleteObject DeleteObjects BulkDelete SetObject",
    "retention": "PutObjectRetention",
    "mode": "PutObjectRetention",
    "legal hold": "PutObjectLegalHold",
}
"""A kind of subject with `new` or `gone`, or what was weakened of a version → the actions that can bring it about."""

_OF_KINDS = {
    "identity": PERMISSION_ACTIONS,
    "credential": f"UpdateAccessKey {PERMISSION_ACTIONS}",
    "encryption-key": KEY_ACTIONS,
}
"""What can change a fact of these kinds whose entry names no actions."""

ACCOUNT_WIDE = frozenset(["SetAccount", "BulkDelete", *ACCOUNT_GUARD_ACTIONS.split(), *POINT_ACTIONS.split()])
"""What is done to an account, and so to any of its buckets; and to an access point, whose bucket no event names."""
_ANY_SETTING = ["SetContainer", "SetAccount"]
"""One request of the Swift protocol, which sets any of a container's settings, or of its account's."""


def causes_of(what: str) -> list[str]:
    """The actions that can have brought about a change of a fact or of a subject, the likeliest first."""
    if what in _OF_SUBJECTS:
        return _OF_SUBJECTS[what].split()
    entry = lookup(what)
    actions = (entry.causes or _OF_KINDS.get(entry.subject, "")).split()
    return [*actions, *_ANY_SETTING] if actions and entry.subject == "bucket" else actions
