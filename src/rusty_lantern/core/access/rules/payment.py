"""Who gets in where the requester pays: nobody without credentials.

A gateway asks who pays of what an ACL allows, and of some of what a policy allows: of the rest (`payer_not_asked`) it
does not ask, and whom the policy lets in without credentials is in (measured on release 16.2).
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.gateway_deletions import ONE
from rusty_lantern.core.access.dialects.shipped import GATEWAY, dialect_of
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE
from rusty_lantern.core.access.policy.document import Fault, Statement
from rusty_lantern.core.access.rules.other_doors import unread_door
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs
from rusty_lantern.core.access.rules.setting_refusals import own_statement
from rusty_lantern.core.answer import NOT_IN_DOSSIER
from rusty_lantern.core.model.acl import Grant


def with_payers_acl(bucket: BucketInputs, store: StoreInputs) -> BucketInputs:
    """The ACL as it counts where the requester pays: what it grants everybody, only callers with credentials have.
    Elsewhere than at such a gateway the Deny of `with_payers` says the same of every action."""
    if not (bucket.requester_pays.value and _not_asked(store) and bucket.acl.value):
        return bucket
    return msgspec.structs.replace(bucket, acl=bucket.acl.map(_to_payers))


def _to_payers(acl: list[Grant]) -> list[Grant]:
    payers = [msgspec.structs.replace(one, to="any-account") if one.to == "anyone" else one for one in acl]
    return [one for one in payers if one.to != "unsigned"]


def with_payers(doors: Iterable[Statement], bucket: BucketInputs, store: StoreInputs) -> tuple[Statement, ...]:
    """A Deny of whoever is refused because the requester pays, and `doors`: what ACLs allow at a store's other doors,
    narrowed like the ACL."""
    allowed = tuple(doors)
    if bucket.requester_pays.value and _not_asked(store):
        signed = _of_callers("Allow", "StringNotEquals", Action="*").conditions
        allowed = tuple(
            msgspec.structs.replace(one, conditions=(*one.conditions, *signed))
            if one.effect == "Allow" and one.by_post != BULK_DELETE
            else one
            for one in allowed
        )
    return (*_of_payment(bucket, store, bulk=any(one.by_post == BULK_DELETE for one in allowed)), *allowed)


def _of_payment(bucket: BucketInputs, store: StoreInputs, *, bulk: bool) -> tuple[Statement, ...]:
    """Where the requester pays, a Deny of requests without credentials (published with that setting); where it is not
    known who pays, one that may or may not be there. `bulk`: whether there is a bulk deletion, which does not ask."""
    pays = bucket.requester_pays
    if not pays.value and (not pays.unread or pays.note == NOT_IN_DOSSIER):
        return ()  # a dossier without it means the default: the owner pays
    spared = _not_asked(store) if pays.value else ()
    title = "the requester pays" if pays.value else "who pays for requests"
    unread = f"could not be read ({pays.reason})" if pays.unread else ""
    refused = [_refused(title, unread, bulk=bulk, **({"NotAction": spared} if spared else {"Action": "*"}))]
    if spared and _may_be_a_gateway(store):
        refused.append(_refused(title, _NOT_RECOGNIZED, bulk=bulk, Action=spared))
    return tuple(refused)


_NOT_RECOGNIZED = "does not keep all of them out if a gateway answers: what answers for the store could not be read"


def _refused(title: str, doubt: str, *, bulk: bool, **actions: Any) -> Statement:
    read = _of_callers("Deny", "StringEquals", **actions)
    faults = (Fault(title, doubt),) if doubt else ()
    conditions = (*read.conditions, ONE) if bulk else read.conditions
    return msgspec.structs.replace(read, place=title, faults=faults, conditions=conditions, at_every_door=True)


def _not_asked(store: StoreInputs) -> tuple[str, ...]:
    """The actions for which the store does not, or perhaps does not, ask who pays."""
    dialect = GATEWAY if _may_be_a_gateway(store) else dialect_of(store)
    return dialect.readings.payer_not_asked


def _may_be_a_gateway(store: StoreInputs) -> bool:
    return unread_door(store.software) and store.dialect is None


def _of_callers(effect: str, operator: str, **actions: Any) -> Statement:
    """A statement about whoever sends no credentials, or about everybody else."""
    said = {"Effect": effect, "Principal": "*", "Resource": "*", "Condition": {operator: {_TYPE: "Anonymous"}}}
    (read,) = own_statement(json.dumps(said | actions))
    return read


_TYPE = "aws:PrincipalType"
