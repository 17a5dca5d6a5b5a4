"""Whom an object's own ACL names gets in, whatever the bucket's rules say; where not all were read, others may."""

from __future__ import annotations

import json
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.audit.access_differences import differences
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant
from rusty_lantern.core.model.bucket import ContainerAcl
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.simulator.demo import harbour as saltmarsh

STRANGER, OWNER = "b0a7" * 16, "400100200300"
WHY = "objects' own ACLs may name others, and not all were read"
OWN = ObjectGrant("named", "full-control", "tide/1", OWNER)
LENT = ObjectGrant("named", "read", "tide/1", STRANGER, more=False)
UNREAD: Answer[ObjectAcls] = Answer("unsupported", None, "not looked at")
ALL: Answer[ObjectAcls] = Answer("known", ObjectAcls([OWN], names_complete=True))
ONE: Answer[ObjectAcls] = Answer("known", ObjectAcls([OWN, LENT], names_complete=True))
SOME: Answer[ObjectAcls] = Answer("known", ObjectAcls([OWN, LENT], names_complete=False))
UNREAD_PEOPLE: Answer[list[Identity]] = Answer("unsupported")
OURS: Answer[ObjectAcls] = Answer("known", ObjectAcls([OWN], names_complete=False))


def policy(effect: str, action: str) -> str:
    said = {"Effect": effect, "Principal": "*", "Action": action, "Resource": "arn:aws:s3:::gallery-web/*"}
    return json.dumps({"Version": "2012-10-17", "Statement": [said]})


def bucket_with(
    acls: Answer[ObjectAcls], written: str = "", *, ownership: str = "object-writer", dialect: str = ""
) -> BucketSubject:
    """A bucket of the harbour whose own rules name its owner alone."""
    dossier = saltmarsh.harbour().dossier
    if dialect:
        software = Answer("known", Software("", dialect=dialect))
        dossier = msgspec.structs.replace(dossier, software=software, identities=UNREAD_PEOPLE, account_number="")
    like = next(bucket for bucket in dossier.buckets if bucket.name == "gallery-web")
    made = msgspec.structs.replace(
        like, acl=Answer("known", [Grant("named", "full-control", OWNER)]), ownership=Answer("known", ownership),
        policy=Answer("known", written) if written else Answer("absent"), object_acls=acls,
        public_access_guards=Answer("absent"),
    )  # fmt: skip
    (store,) = store_subjects([msgspec.structs.replace(dossier, buckets=[made])], None, saltmarsh.MOMENT)
    return store.buckets[made.name]


def told(fact: Fact) -> tuple[str, str]:
    """What is certain, and why there may be more."""
    return (str(fact.certain) if isinstance(fact, Partly) else str(fact.value)), fact.reason


@pytest.mark.parametrize(("acls", "written", "ownership", "outside"), [
    (ALL, "", "object-writer", ("", "")),
    (ONE, "", "object-writer", ("read", "")),
    (ONE, policy("Deny", "s3:GetObject*"), "object-writer", ("", "")),
    (SOME, "", "object-writer", ("read", WHY)),
    (OURS, "", "object-writer", ("", WHY)),
    (UNREAD, "", "object-writer", ("", WHY)),
    (Answer("denied", None, "403"), "", "object-writer", ("", WHY)),
    (UNREAD, "", "bucket-owner-enforced", ("", "")),
    (ONE, "", "bucket-owner-enforced", ("", "")),
])  # fmt: skip
def test_who_is_outside_and_let_in_by_objects(
    acls: Answer[ObjectAcls], written: str, ownership: str, outside: tuple[str, str]
) -> None:
    view = bucket_with(acls, written, ownership=ownership)
    assert told(view.fact("access.outside")) == outside
    named = told(view.fact("principals.read"))
    assert (STRANGER in named[0].split(", ")) == (outside[0] == "read")
    assert (named[1] != "") == (outside[1] != "")


@pytest.mark.parametrize(("acls", "of_stranger", "of_partner"), [
    (ALL, ("", ""), ("", "")), (ONE, ("read", ""), ("", "")), (OURS, ("", WHY), ("", WHY)),
])  # fmt: skip
def test_what_one_named_caller_may_do(
    acls: Answer[ObjectAcls], of_stranger: tuple[str, str], of_partner: tuple[str, str]
) -> None:
    view = bucket_with(acls)
    assert told(view.fact(f"access.{STRANGER}")) == of_stranger
    assert told(view.fact("access.500600700800")) == of_partner


@pytest.mark.parametrize("called", ["deck", "arn:aws:iam:::user/deck"])
def test_at_a_gateway_a_user_is_named_by_id_or_by_resource_name(called: str) -> None:
    lent = ObjectGrant("named", "read", "tide/1", "deck", more=False)
    acls = Answer("known", ObjectAcls([OWN, lent], names_complete=True))
    view = bucket_with(acls, ownership="object-writer", dialect="gateway-16")
    assert told(view.fact(f"access.{called}"))[0] == "read read-settings"
    assert told(view.fact("access.nobody"))[0] == ""


def test_the_stores_own_identities_are_let_in_by_their_own_permissions_alone() -> None:
    """Elsewhere than at a gateway an ACL names accounts: what objects' ACLs may say is no doubt about a user."""
    known, doubtful = (bucket_with(acls).fact("access.tide-reader") for acls in (ALL, OURS))
    assert told(known) == told(doubtful)


def test_who_loses_by_a_policy_is_also_whom_an_object_names() -> None:
    before, after = bucket_with(ONE), bucket_with(ONE, policy("Deny", "s3:GetObject*"))
    losing = {(one.who, one.verb, one.before, one.after) for one in differences(before, after) if one.kind == "named"}
    assert (STRANGER, "read", "open", "closed") in losing


def test_a_denied_answer_never_makes_it_fine() -> None:
    denied: Answer[Any] = Answer("denied", None, "403")
    view = bucket_with(ONE)
    for field in ("object_acls", "ownership", "policy", "acl"):
        bucket = msgspec.structs.replace(view.bucket, **{field: denied})
        less = msgspec.structs.replace(view.dossier, buckets=[bucket])
        (store,) = store_subjects([less], None, saltmarsh.MOMENT)
        assert told(store.buckets[bucket.name].fact("access.outside")) != ("", ""), field


@pytest.mark.parametrize("aliases", [[], ["clerk"]])
def test_a_user_of_a_gateway_is_named_by_its_id_where_only_its_resource_name_is_told(aliases: list[str]) -> None:
    view = bucket_with(ALL, ownership="object-writer", dialect="gateway-16")
    clerk = Identity(
        name="clerk", resource="arn:aws:iam:::user/clerk", aliases=aliases, groups=Answer("absent"),
        policies=Answer("known", []),
    )  # fmt: skip
    lent = msgspec.structs.replace(view.bucket, acl=Answer("known", [Grant("named", "read", "clerk")]))
    dossier = msgspec.structs.replace(view.dossier, buckets=[lent], identities=Answer("known", [clerk]))
    (store,) = store_subjects([dossier], None, saltmarsh.MOMENT)
    assert "list" in told(store.buckets[lent.name].fact("access.clerk"))[0]
    assert "clerk" in str(store.buckets[lent.name].fact("principals.list").value)
    assert "list" not in told(store.buckets[lent.name].fact("access.outside"))[0]


@pytest.mark.parametrize(("own", "named", "outside"), [
    ("AUTH_trust", "trust:clerk", ""), ("AUTH_trust", "trust", ""), ("AUTH_trust", "station:reader", "list read"),
    ("AUTH_trust", "trusty:clerk", "list read"),
])  # fmt: skip
def test_a_user_of_the_own_account_is_nobody_from_outside_by_the_swift_protocol(
    own: str, named: str, outside: str
) -> None:
    """Users of a server with users of its own are named by their account, which its address has after `AUTH_`."""
    view = bucket_with(ALL)
    other: Answer[Any] = Answer("unsupported")
    bucket = msgspec.structs.replace(
        view.bucket, acl=other, ownership=other, policy=other, object_acls=other, owner=other, access_points=other,
        container_acl=Answer("known", ContainerAcl(read=named)), public_access_guards=other,
    )  # fmt: skip
    dossier = msgspec.structs.replace(
        view.dossier, protocol="swift", acl_reading="tempauth", account=Answer("known", own), account_number="",
        account_acl=Answer("absent"), identities=other, groups=other, doors=Answer("known", []), buckets=[bucket],
        public_access_guards=other,
    )  # fmt: skip
    (store,) = store_subjects([dossier], None, saltmarsh.MOMENT)
    assert told(store.buckets[bucket.name].fact("access.outside")) == (outside, "")
