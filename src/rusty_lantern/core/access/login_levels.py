"""Further logins of a user that have a part of what ACLs give the user.

Tried on a gateway 16.2, at the S3 door, with logins of each level: what a policy of a bucket, or a permission of the
user's own, allows or refuses counts for each login in full. Of what the user has by ACLs, its own buckets among that, a
login reads and lists if its level has `read`, writes and deletes if it has `write`. Of settings, a login of any level
reads and changes some of its user's own buckets, and others only with full control: that is not decided.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rusty_lantern.core.access.evaluator.request import Decision
from rusty_lantern.core.access.policy.bucket_rules import Rules
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.model.identity import Verb

_GIVEN: Mapping[str, frozenset[Verb]] = {
    "read": frozenset({"list", "read"}),
    "write": frozenset({"write", "delete"}),
    "read-write": frozenset({"list", "read", "write", "delete"}),
}
_BY_LEVEL: frozenset[Verb] = frozenset({"list", "read", "write", "delete"})


def without_acls(rules: Rules) -> Rules:
    """The rules but for what ACLs grant: of the bucket, of its objects, and at the Swift door."""
    policy = msgspec.structs.replace(
        rules.policy, statements=tuple(one for one in rules.policy.statements if not one.door)
    )
    return msgspec.structs.replace(rules, policy=policy, acl=(), named_object_acls=(), named_on_objects="")


def has(level: str, verb: Verb) -> bool | None:
    """Whether a login of a level has a verb where ACLs give it to its user; None: it is not known.

    >>> has("read", "list"), has("read", "delete"), has("write", "change-settings"), has("nonsense", "read")
    (True, False, None, None)
    """
    if verb not in _BY_LEVEL or level not in _GIVEN:
        return None
    return verb in _GIVEN[level]


def not_decided(level: str) -> str:
    """Why it is not known, in words."""
    return f"what its level ({level}) leaves of what ACLs give its user is not known"


def of_login(level: str, whole: Mapping[Verb, Reach], without: Mapping[Verb, Reach]) -> dict[Verb, Reach]:
    """What a login of a level can do. `whole`: what its user can; `without`: the same but for ACLs."""
    reaches: dict[Verb, Reach] = {}
    for verb, reach in whole.items():
        given = has(level, verb)
        if reach == without[verb] or given:
            reaches[verb] = reach
        else:
            reaches[verb] = without[verb] if given is False else Reach("unknown", doubts=(not_decided(level),))
    return reaches


def decided_of_login(level: str, verb: Verb, whole: Decision, without: Decision) -> Decision:
    """The same of one request: what is decided of the user, and what is but for ACLs."""
    given = has(level, verb)
    if without.allowed == whole.allowed or given:
        return whole
    return without if given is False else msgspec.structs.replace(whole, allowed=None, by=not_decided(level))
