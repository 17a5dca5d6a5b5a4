"""What other doors of a store allow in a bucket, as statements that no policy document has.

At a gateway whoever may write to a bucket, by whichever ACL, may set its ACL by a POST at the Swift door, and is its
owner then: no policy is asked there. Measured on release 16.2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.gateway_deletions import BULK_DELETION, MANY, bulk_deletion_refused
from rusty_lantern.core.access.dialects.shipped import COMMON, SHIPPED
from rusty_lantern.core.access.policy.condition_keys import ARN, REFERER_HOST
from rusty_lantern.core.access.policy.container_acl import (
    BULK_DELETE,
    DOOR,
    EVERYBODY,
    SETS_ACL,
    SETS_END,
    SIGNED,
    GatewayGuards,
    by_post,
    statements_of,
    whom,
)
from rusty_lantern.core.access.policy.document import Condition, Fault, Policy, Principals, Statement
from rusty_lantern.core.access.rules.guards import Guard, guards_of, strongest
from rusty_lantern.core.access.rules.owners import of_owner, of_suspension
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
from rusty_lantern.core.model.acl import Grant, ObjectGrant
from rusty_lantern.core.model.bucket import AccountAcl, ContainerAcl

OTHER_RELEASE = "what a gateway of this release allows by ACLs, and at its Swift door, was not tried"


def unread_door(answer: Answer[Any]) -> bool:
    """Whether there may be an ACL behind another door. A dossier without one has none."""
    return answer.unread and answer.note != NOT_IN_DOSSIER


def _why_unread(answer: Answer[Any]) -> str:
    """Why it is not known what an answer would say; empty where it is, or where nothing asked for it."""
    return answer.reason if unread_door(answer) else ""


def account_acl(bucket: BucketInputs, store: StoreInputs) -> Answer[AccountAcl]:
    """The ACL of the account that the bucket is in."""
    own = bucket.owner_acl
    return store.account_acl if own.state == "unsupported" or own.note == NOT_IN_DOSSIER else own


def of_other_doors(bucket: BucketInputs, store: StoreInputs, policy: Policy) -> tuple[Statement, ...]:
    """What container and account ACLs allow; the two ways to look at a Referer are not weighed against each other."""
    acl, account = bucket.container_acl.value, account_acl(bucket, store).value
    if acl is None and account is None and store.acl_reading != "gateway":
        return ()
    ignored = strongest(guards_of(bucket, store, "ignore_acls", ""))
    refused = strongest(guards_of(bucket, store, "refuse_new_acls", ""))
    guards = GatewayGuards(*(guard.on if guard.sure else None for guard in (ignored, refused)))
    statements = statements_of(acl or ContainerAcl(), account, store.acl_reading, guards)
    if store.acl_reading == "gateway":
        statements = _of_gateway(bucket, store, policy, statements, ignored)
    if not any(condition.key == "aws:referer" for s in policy.statements for condition in s.conditions):
        return statements
    fault = Fault("/Condition", "the policy and the container ACL both look at the Referer")
    return tuple(
        msgspec.structs.replace(s, faults=(*s.faults, fault)) if REFERER_HOST in {c.key for c in s.conditions} else s
        for s in statements
    )


def _of_gateway(
    bucket: BucketInputs, store: StoreInputs, policy: Policy, statements: tuple[Statement, ...], ignored: Guard
) -> tuple[Statement, ...]:
    """Beside what a gateway's container ACLs say (`statements`): what its Swift door does for others, and what owning a
    bucket allows."""
    has_door = _has_swift_door(bucket, store)
    may_have_door = has_door or unread_door(store.doors)
    if may_have_door:
        everybody = tuple(_of_everybody(bucket, store, policy))
        posted = (*_of_writers(bucket, ignored), *_of_object_writers(bucket, ignored), *everybody)
        statements += posted if has_door else _if_there_is_a_door(posted, store)
        statements += (*bulk_deletion_refused(policy.statements),)
    statements = _as_tried(statements, store)
    untried = "" if was_tried(store) else OTHER_RELEASE
    owning = tuple(of_owner(bucket.owner, _why_unread(bucket.owner), untried, swift_door=may_have_door))
    statements += owning if has_door else (*owning[:1], *_if_there_is_a_door(owning[1:], store))
    return tuple(of_suspension(statements, bucket.enabled, _why_unread(bucket.enabled), untried))


def _if_there_is_a_door(statements: Iterable[Statement], store: StoreInputs) -> tuple[Statement, ...]:
    """Statements of a door that the store may have: no Deny of a policy refuses what they allow."""
    fault = Fault("", f"which protocols the store answers is not known ({store.doors.reason})")
    return tuple(msgspec.structs.replace(one, faults=(*one.faults, fault)) for one in statements)


def was_tried(store: StoreInputs) -> bool:
    """Whether the gateway that answers for a store is of a release on which ACLs and the Swift door were tried."""
    software = store.software.value
    if software is not None and software.dialect == COMMON.dialect and not software.name:
        return True  # a gateway's policies as the published language has them: nothing else is supposed
    known = (store.dialect, SHIPPED.get(software.dialect) if software is not None else None)
    return any(dialect is not None and dialect.readings.acl_permissions_are_wider for dialect in known)


def _has_swift_door(bucket: BucketInputs, store: StoreInputs) -> bool:
    read_by_swift = bucket.container_acl.settled and bucket.acl.state == "unsupported"
    return read_by_swift or any(door.name == "swift" for door in store.doors.value or ())


def _of_everybody(bucket: BucketInputs, store: StoreInputs, policy: Policy) -> Iterator[Statement]:
    """What a gateway's bulk deletion lets anybody do, without credentials too: it reaches the caller's own tenant."""
    tenant = _tenant_of(bucket, store)
    unknown = [Fault("", "in whose tenant the bucket is, whose users alone reach it by a bulk deletion")]
    unknown = unknown if tenant is None else []
    if not bucket.policy.settled or policy.unreadable:
        unknown.append(Fault("", "whether the policy denies s3:DeleteBucket, which refuses it"))
    its_users = Condition("arnlike", ARN, (f"arn:aws:iam::{tenant}:*",), "")
    yield Statement(
        "bulk deletion at the Swift door", "Allow", principals=Principals(everyone=True), actions=BULK_DELETION,
        resources=("*",), conditions=(MANY, its_users) if tenant else (MANY,),
        faults=tuple(unknown), variables=False, door=DOOR, by_post=BULK_DELETE,
    )  # fmt: skip


def _tenant_of(bucket: BucketInputs, store: StoreInputs) -> str | None:
    """A bucket's tenant, empty for none: its own, or that of the key by which the store was read. None: not known."""
    if bucket.tenant.settled:
        return bucket.tenant.value or ""
    if unread_door(bucket.tenant):
        return None
    user = store.account.value
    return user.rpartition("$")[0] if user else None


def may_have_acls(bucket: BucketInputs) -> bool:
    """Whether there may be objects whose own ACLs count."""
    by_bucket = bucket.ownership.value == "bucket-owner-enforced" or bucket.granted_by.value == "bucket"
    by_each = bucket.granted_by.value == "object" or unread_door(bucket.granted_by)
    without = bucket.acl.state in ("absent", "unsupported") and not by_each
    return not (by_bucket or bucket.holds_nothing or without)


def _of_object_writers(bucket: BucketInputs, ignored: Guard) -> Iterator[Statement]:
    """What objects' own grants to write allow at a gateway's Swift door: to have the object deleted. Whom they name is
    counted as far as it was read."""
    if not may_have_acls(bucket):
        return
    acls = bucket.object_acls.value
    for grant in acls.acl if acls else ():
        granted = _whom_granted(grant)
        if grant.permission not in ("write", "full-control") or granted is None or (ignored.on and not grant.by_name):
            continue
        words = f"the object's own ACL grant of {grant.words}"
        for statement in by_post(words, *granted, SETS_END):
            on_key = msgspec.structs.replace(statement, resources=(f"arn:aws:s3:::{bucket.name}/{grant.key}",))
            yield on_key if grant.by_name or ignored.sure else _perhaps(on_key, ignored.source)
            if grant.more:
                yield _perhaps(statement, "other objects' ACLs grant it as well")
    if (acls is None or not acls.complete) and not ignored.on:
        for statement in by_post("objects' own ACLs", Principals(everyone=True), (), SETS_END):
            yield _perhaps(statement, "not all of them were read")


def _perhaps(statement: Statement, why: str) -> Statement:
    return msgspec.structs.replace(statement, faults=(*statement.faults, Fault("", why)))


def _of_writers(bucket: BucketInputs, ignored: Guard) -> Iterator[Statement]:
    """What the grants to write of a bucket's S3 ACL allow at a gateway's Swift door."""
    for grant in bucket.acl.value or ():
        granted = _whom_granted(grant)
        if grant.permission not in ("write", "full-control") or granted is None or (ignored.on and not grant.by_name):
            continue
        words = f"ACL grant of {grant.words}"
        doubt = () if grant.by_name or ignored.sure else (Fault("", ignored.source),)
        for statement in by_post(words, *granted, SETS_ACL):
            yield msgspec.structs.replace(statement, faults=doubt)


def _whom_granted(grant: Grant | ObjectGrant) -> tuple[Principals, tuple[Condition, ...]] | None:
    if grant.by_name:
        return whom(grant.identity) if grant.identity else None
    conditions = {"anyone": (), "any-account": (SIGNED,)}.get(grant.to)
    return None if conditions is None else (EVERYBODY, conditions)


def _as_tried(statements: tuple[Statement, ...], store: StoreInputs) -> tuple[Statement, ...]:
    """What ACLs allow at a gateway besides reading, listing and writing was tried on one release: of another it is in
    doubt."""
    if was_tried(store):
        return statements
    fault = Fault("", OTHER_RELEASE)
    return tuple(
        msgspec.structs.replace(one, faults=(*one.faults, fault)) if one.by_post or one.door == "s3" else one
        for one in statements
    )
