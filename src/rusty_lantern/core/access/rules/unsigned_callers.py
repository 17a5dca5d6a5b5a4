"""What some software lets whoever sends no credentials do beside the policy: by ACLs that it reads in its own way, and
by the permissions of a user, which hold for all such requests (measured on SeaweedFS 4.48)."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import SEAWEED, UNSIGNED_READS, dialect_of
from rusty_lantern.core.access.policy.container_acl import EVERYBODY, UNSIGNED
from rusty_lantern.core.access.policy.document import Fault, Statement, parse_policy
from rusty_lantern.core.access.rules.other_doors import unread_door
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.identity import AttachedPolicy


def of_unsigned_callers(bucket: BucketInputs, store: StoreInputs) -> Iterator[Statement]:
    """What a store lets whoever sends no credentials do, beside what policies say. Where what answers for the store
    could not be read, it may let them do it."""
    dialect, why = dialect_of(store), ""
    if unread_door(store.software) and store.dialect is None:
        dialect, why = SEAWEED, f"how this store's software reads it is not known ({store.software.reason})"
    if dialect.readings.acls_let_unsigned_callers_read:
        yield from (_in_doubt(one, why) for one in _by_acl(bucket))
    if dialect.readings.unsigned_callers_are_the_user:
        yield from (_in_doubt(one, why) for one in _by_their_user(store.unsigned_user, dialect))


def _by_acl(bucket: BucketInputs) -> Iterator[Statement]:
    for grant in bucket.acl.value or ():
        if grant.to == "anyone" and grant.permission in ("read", "full-control"):
            yield _allow(f"ACL grant of {grant.words}", UNSIGNED_READS)
            return
    if bucket.acl.unread:
        yield _in_doubt(_allow("the ACL", UNSIGNED_READS), f"the ACL could not be read ({bucket.acl.reason})")


def _by_their_user(permissions: Answer[list[AttachedPolicy]], dialect: Dialect) -> Iterator[Statement]:
    name = dialect.readings.unsigned_callers_are_the_user
    if permissions.unread:
        why = (
            "they hold for whoever sends no credentials, and the store's users were not read; "
            f"a dossier beside the store can name them ({permissions.reason})"
        )
        yield _in_doubt(_allow(f"the permissions of the user {name}", ("*",)), why)
    own = msgspec.structs.replace(dialect.readings, policies_let_unsigned_callers_only_read=False)
    of_its_own = msgspec.structs.replace(dialect, readings=own)
    for document in permissions.value or ():
        policy = as_read(parse_policy(document.text, attached=True), of_its_own)
        title = f"own permission {document.name} of the user {name}"
        if policy.unreadable:
            yield _in_doubt(_allow(title, ("*",)), f"not understood: {policy.unreadable.what}")
        for one in policy.statements:
            said = msgspec.structs.replace(one, place=title, conditions=(*one.conditions, UNSIGNED))
            yield _in_doubt(said, document.doubt)


def _allow(place: str, actions: tuple[str, ...]) -> Statement:
    return Statement(place, "Allow", principals=EVERYBODY, actions=actions, resources=("*",), conditions=(UNSIGNED,))


def _in_doubt(statement: Statement, why: str) -> Statement:
    return msgspec.structs.replace(statement, faults=(*statement.faults, Fault("", why))) if why else statement
