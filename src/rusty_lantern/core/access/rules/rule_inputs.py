"""What the rules of a bucket are made from: what was read of it and of its store; and the same of a bucket of another
name.

Hundreds of buckets are often set up alike, each with a policy that names the bucket itself. What follows from that is
worked out once, for a bucket called `OWN`.
"""

from __future__ import annotations

import hashlib
import re
from operator import attrgetter
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.shipped import SEAWEED, dialect_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.acl import Grant, ObjectAcls, Right
from rusty_lantern.core.model.bucket import AccountAcl, Bucket, ContainerAcl
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.dossier import AclReading, Door, Dossier, Software
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import AttachedPolicy
from rusty_lantern.core.model.network import Network

OWN = "own-bucket"
"""What a bucket is called while something is worked out for all that are like it."""
_PLAIN = re.compile(r"[A-Za-z0-9._-]+")


class StoreInputs(msgspec.Struct, frozen=True):
    """Whatever of a store the rules of its buckets depend on; answers are without their evidence."""

    account_number: str
    acl_reading: AclReading
    dialect: Dialect | None
    software: Answer[Software]
    account: Answer[str]
    network: Answer[Network]
    public_access_guards: Answer[Guards]
    account_acl: Answer[AccountAcl]
    doors: Answer[list[Door]]
    unsigned_user: Answer[list[AttachedPolicy]]
    """What the user is allowed whose permissions hold, or may hold, without credentials; absent without such a user."""


def account_number(store: StoreInputs) -> str:
    """The number of the account that the store's buckets are in; empty where it is not known."""
    number = store.account_number or store.account.value or ""
    return number if number.isdigit() else ""


NO_RULES = "the store offers neither ACLs nor access policies, so nothing that can be read says whom it lets in"


class BucketInputs(msgspec.Struct, frozen=True, omit_defaults=True):
    """Whatever of a bucket its rules depend on; answers are without their evidence."""

    name: str
    holds_nothing: bool
    keeps_versions: bool
    """Whether it is known to keep versions: a filer has its objects elsewhere then."""
    owner: Answer[str]
    enabled: Answer[bool]
    policy: Answer[str]
    acl: Answer[list[Grant]]
    ownership: Answer[str]
    object_acls: Answer[ObjectAcls]
    granted_by: Answer[str]
    container_acl: Answer[ContainerAcl]
    owner_acl: Answer[AccountAcl]
    rights: Answer[list[Right]]
    public_access_guards: Answer[Guards]
    access_points: Answer[list[AccessPoint]]
    network: Answer[Network]
    requester_pays: Answer[bool]
    region: Answer[str]
    tenant: Answer[str]

    @property
    def has_no_rules(self) -> bool:
        """Whether the store offers none of the kinds of rules that let somebody in: then whoever it lets in, it lets in
        by settings of its own."""
        return all(one.state == "unsupported" for one in (self.policy, self.acl, self.container_acl, self.rights))


_OF_STORE = attrgetter(*StoreInputs.__struct_fields__[3:-1])
_OF_BUCKET = attrgetter(*BucketInputs.__struct_fields__[3:])


def store_inputs(dossier: Dossier) -> StoreInputs:
    """What the rules of all of a store's buckets are made from."""
    answers = [*map(_bare, _OF_STORE(dossier)), _unsigned_user(dossier)]
    return StoreInputs(dossier.account_number, dossier.acl_reading, dossier.dialect, *answers)


def _unsigned_user(dossier: Dossier) -> Answer[list[AttachedPolicy]]:
    """The permissions of the user whose permissions hold, or may hold, without credentials."""
    doubtful = dossier.software.unread and dossier.dialect is None
    name = (SEAWEED if doubtful else dialect_of(dossier)).readings.unsigned_callers_are_the_user
    if not name:
        return Answer("unsupported")
    identities = dossier.identities
    if identities.value is None:  # there may be such a user, whether the store shows its users or not
        return Answer(identities.state if identities.unread else "failed", None, identities.reason)
    user = next((one for one in identities.value if one.name == name), None)
    if user is None:
        return Answer("absent")
    groups = {one.name: one.policies for one in dossier.groups.value or ()}
    inside = user.groups.value or []
    sources: list[Answer[Any]] = [user.policies, user.groups]
    sources += [groups.get(group, Answer("failed", None, f"the group {group} was not read")) for group in inside]
    lost = next((one for one in sources if one.unread), None)
    if lost is not None:
        return Answer(lost.state, None, lost.note)
    return Answer("known", [document for source in (sources[0], *sources[2:]) for document in source.value or ()])


def bucket_inputs(bucket: Bucket) -> BucketInputs:
    """What the rules of a bucket are made from."""
    versioning = bucket.versioning.value
    versions = versioning is not None and versioning.state == "on"
    inputs = BucketInputs(bucket.name, holds_nothing(bucket), versions, *map(_bare, _OF_BUCKET(bucket)))
    if not bucket.left_out:
        return inputs
    in_part = inputs.object_acls.map(lambda acls: msgspec.structs.replace(acls, complete=False, names_complete=False))
    return msgspec.structs.replace(inputs, object_acls=in_part)


def holds_nothing(bucket: Bucket) -> bool:
    """Whether there is certainly no object in a bucket, old versions included."""
    usage, versions = bucket.usage.value, bucket.versions.value
    empty = usage is not None and usage.complete and not usage.objects
    return empty and versions is not None and not versions.old


def _bare(answer: Answer[Any]) -> Answer[Any]:
    return Answer(answer.state, answer.value, answer.note)


def as_own(inputs: BucketInputs) -> BucketInputs | None:
    """The same of a bucket called `OWN`; None where the policy cannot be rewritten so."""
    text = inputs.policy.value
    if text is None:
        return msgspec.structs.replace(inputs, name=OWN)
    written = text_as_own(text, inputs.name)
    if written is None:
        return None
    return msgspec.structs.replace(inputs, name=OWN, policy=msgspec.structs.replace(inputs.policy, value=written))


def text_as_own(policy: str, bucket: str) -> str | None:
    """A policy document with a bucket's own name in resource names written as `OWN`; None where the text leaves in
    doubt what a name is: an escape may hide one, and a document may name a bucket `OWN`.

    >>> text_as_own('{"Resource": ["arn:aws:s3:::maps", "arn:aws:s3:::maps/*", "arn:aws:s3:::maps-old"]}', "maps")
    '{"Resource": ["arn:aws:s3:::own-bucket", "arn:aws:s3:::own-bucket/*", "arn:aws:s3:::maps-old"]}'
    """
    if "\\" in policy or OWN in policy or not _PLAIN.fullmatch(bucket):
        return None
    written = policy.replace(f':::{bucket}"', f':::{OWN}"').replace(f":::{bucket}/", f":::{OWN}/")
    return None if f':{bucket}"' in written or f":{bucket}/" in written else written  # with an account before it


def fingerprint(inputs: BucketInputs) -> bytes:
    """Two of them are the same exactly where these bytes are (SHA-256; a policy may be a megabyte)."""
    return hashlib.sha256(_ENCODER.encode(inputs)).digest()


_ENCODER = msgspec.msgpack.Encoder()
