"""Everything that decides about one bucket, gathered from the dossier: policy, grants, guards, and doubts.

A *doubt* is an input that could not be read. It does not spoil every verdict: the deciders ask what would be so
if the unread input said the most, and if it said the least, and only where that differs the verdict is unknown.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.policy_as_read import as_read, in_its_tenant
from rusty_lantern.core.access.dialects.shipped import SHIPPED, Answering, dialect_of
from rusty_lantern.core.access.policy.acl_permissions import AT_GATEWAY, AT_SEAWEED, PUBLISHED, AclPermissions
from rusty_lantern.core.access.policy.actions import Target
from rusty_lantern.core.access.policy.document import Fault, Policy, Statement, parse_policy
from rusty_lantern.core.access.policy.principals import Principal, read_principal, user_named
from rusty_lantern.core.access.rules.access_points import may_pass_through_points, through_access_points
from rusty_lantern.core.access.rules.content_networks import content_networks
from rusty_lantern.core.access.rules.filer import of_filer
from rusty_lantern.core.access.rules.guards import Guard, a_gateways, guards_of, of_this_software, strongest
from rusty_lantern.core.access.rules.other_doors import (
    OTHER_RELEASE,
    account_acl,
    may_have_acls,
    of_other_doors,
    unread_door,
    was_tried,
)
from rusty_lantern.core.access.rules.payment import with_payers, with_payers_acl
from rusty_lantern.core.access.rules.provider_services import with_unbound_services
from rusty_lantern.core.access.rules.rule_inputs import NO_RULES, BucketInputs, StoreInputs, bucket_inputs, store_inputs
from rusty_lantern.core.access.rules.setting_refusals import of_network
from rusty_lantern.core.access.rules.unsigned_callers import of_unsigned_callers
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.acl import Grant, ObjectGrant, Right
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.dossier import Dossier


class EvaluationContext(msgspec.Struct, frozen=True):
    """What a decision depends on besides the bucket: the moment, the bucket's owner, and whom the team trusts."""

    moment: datetime
    account: str = ""
    trusted_accounts: frozenset[str] = frozenset()
    trusted_networks: tuple[str, ...] = ()
    """Networks that the team trusts, in CIDR form: what only they reach is said to be so."""
    account_unread: str = ""
    """Why it is not known which account the bucket is in; empty where it is, or where the store has none."""

    @property
    def seconds(self) -> int:
        """The moment as seconds since 1970."""
        return int(self.moment.astimezone(UTC).timestamp())


class Rules(msgspec.Struct, frozen=True):
    """The rules of one bucket. `doubts` maps an unread input (`policy`, `grants`, `rights`) to the reason."""

    bucket: str
    policy: Policy = msgspec.field(default_factory=Policy)
    acl: tuple[Grant, ...] = ()
    ignore_acls: Guard = Guard(False)
    restrict_policies: Guard = Guard(False)
    doubts: tuple[tuple[str, str], ...] = ()
    rights: tuple[Right, ...] = ()
    disable_grants: Guard = Guard(False)
    """The ownership mode, which puts all ACLs out of force; `ignore_acls` only public ones."""
    members: Mapping[str, frozenset[str]] = {}
    """Group → the names of all who are in it, directly or through another group."""
    object_acls: tuple[ObjectGrant, ...] = ()
    """What objects' own ACLs are known to grant the public, on an object each."""
    object_doubt: str = ""
    """Why they may grant the public more; empty where they do not."""
    fixed: tuple[tuple[str, str], ...] = ()
    """Condition keys that are the bucket's own, as far as they were read, with the value."""
    ids_are_names: bool = False
    """Whether a user's id (used in ACLs) and its resource name (used in policies) follow from each other."""
    tenant: Answer[str] | None = None
    """The bucket's tenant, where a user's own permissions apply only to buckets of the user's; None: of all buckets."""
    named_object_acls: tuple[ObjectGrant, ...] = ()
    """What objects' own ACLs are known to grant by name, on an object each."""
    named_on_objects: str = ""
    """Why they may grant more by name; empty where they do not."""
    of_one_identity: bool = False
    """Whether one identity alone is asked about, which objects' own ACLs may name."""
    acl_permissions: AclPermissions = PUBLISHED
    """What each permission of an ACL allows."""
    acl_permissions_doubt: str = ""
    """Why they may allow as much as at a gateway; empty where it is known what they allow."""
    bypass_goes_with_deletion: bool = False
    """Whether to bypass governance is no permission of its own."""
    names_are_given: bool = False
    """Whether the store's administrators name its users: no outsider chooses a name."""
    takes_copies_alone: bool = False
    """Whether nothing, or perhaps nothing, is stored in it but copies of other objects: plain uploads are refused,
    whatever rules say."""

    through_points: str = ""
    """Why an identity's own permission on access points may count here: the bucket has some, or may have; empty where
    it has none."""
    networks: tuple[Principal, ...] = ()
    """The content delivery networks that the policy names."""

    def granted_actions(self, grant: Grant | ObjectGrant, *, most: bool = False) -> frozenset[str]:
        """What a grant allows; `most`: what it may allow, where that is in doubt."""
        wide = most and self.acl_permissions_doubt
        tables = AT_GATEWAY if wide else self.acl_permissions
        table = tables.on_bucket if isinstance(grant, Grant) else tables.on_object
        return table[grant.permission]

    def grantable(self, target: Target) -> frozenset[str]:
        """Whatever an ACL of a bucket, or of an object, may allow."""
        tables = AT_GATEWAY if self.acl_permissions_doubt else self.acl_permissions
        return (tables.on_bucket if target == "bucket" else tables.on_object)["full-control"]

    def grantee(self, identity: str) -> Principal:
        """Whom a grant names."""
        return user_named(identity) if self.ids_are_names else read_principal(identity)

    def principal(self, name: str) -> Principal:
        """Whom a person, or a policy, means by a name. A number is an account's."""
        known = read_principal(name)
        users = ("identity", "canonical", "service")
        return user_named(name) if self.ids_are_names and known.kind in users else known

    @property
    def fixed_values(self) -> dict[str, tuple[str, ...]]:
        """The same as a request carries them."""
        return {key: (value,) for key, value in self.fixed}

    def gives(self, right: Right, name: str) -> bool:
        """Whether a right to a named one, or to a group, is one to the identity of this name."""
        if right.to == "group":
            return name == right.identity or name in self.members.get(right.identity, ())
        return right.to == "named" and bool(name) and right.identity == name

    def guard_on(self, granted: Grant | Right | ObjectGrant) -> Guard:
        """What keeps a grant or right from counting, if anything does."""
        if isinstance(granted, Right):
            kept_back = granted.to in ("anyone", "any-account") and granted.door != "web"
            return self.ignore_acls if kept_back else Guard(False)
        return strongest([self.disable_grants, *([] if granted.by_name else [self.ignore_acls])])

    @property
    def doubted(self) -> dict[str, str]:
        """Unread inputs and why they are unread. A policy that makes no sense as a whole is one of them."""
        if self.policy.unreadable:
            return {"policy": f"the policy is not understood: {self.policy.unreadable}", **dict(self.doubts)}
        return dict(self.doubts)


def rules_of(bucket: Bucket, store: Dossier, members: Mapping[str, frozenset[str]] | None = None) -> Rules:
    """The rules of a bucket as its dossier has them. `members`: group → all its members."""
    return rules_from(bucket_inputs(bucket), store_inputs(store), members)


def rules_from(bucket: BucketInputs, store: StoreInputs, members: Mapping[str, frozenset[str]] | None = None) -> Rules:
    """The rules of a bucket, from what was read of it and of its store. `members`: group → all its members."""
    written = bucket
    if not objects_have_acls(store):  # and those of buckets: see `unsigned_callers`
        bucket = msgspec.structs.replace(bucket, acl=_NONE, object_acls=_NONE, ownership=_NONE)
    bucket = with_payers_acl(bucket, store)
    doubts: list[tuple[str, str]] = []
    policy = Policy()
    if bucket.policy.value is not None:
        policy = as_the_store_reads(parse_policy(bucket.policy.value), store, _of_unsigned_users(store))
        if dialect_of(store).readings.resources_are_of_the_buckets_account:
            policy = in_its_tenant(policy, bucket.name)
        policy, doubt = through_access_points(with_unbound_services(policy, store), bucket, store)
        doubts += [("access points", doubt)] if doubt else []
    elif written.has_no_rules:
        doubts.append(("policy", NO_RULES))
    elif bucket.policy.unread:
        doubts.append(("policy", f"the policy could not be read ({bucket.policy.reason})"))
    if bucket.acl.unread and bucket.ownership.value != "bucket-owner-enforced":
        doubts.append(("acl", f"the ACL could not be read ({bucket.acl.reason})"))
    if bucket.rights.unread:
        doubts.append(("rights", f"the rights could not be read ({bucket.rights.reason})"))
    if unread_door(bucket.container_acl):
        doubts.append(("doors", f"the container ACL could not be read ({bucket.container_acl.reason})"))
    elif unread_door(account_acl(bucket, store)):
        doubts.append(("doors", f"the account ACL could not be read ({account_acl(bucket, store).reason})"))
    elif unread := [door for door in store.doors.value or () if not door.read and door.name in ("s3", "swift")]:
        doubts.append(("doors", f"the store's {unread[0].name} door was not read ({unread[0].note})"))
    elif unread_door(store.doors):
        doubts.append(("doors", f"which protocols the store answers is not known ({store.doors.reason})"))
    enforced = _by_ownership(bucket)
    if store.account.unread and not store.account_number:
        policy = _of_no_known_account(policy)
    levels = (("bucket", bucket.network), ("store", store.network))
    restrictions = tuple(restriction for level, network in levels for restriction in of_network(level, network))
    restrictions += (
        *with_payers(of_other_doors(bucket, store, policy), bucket, store),
        *of_unsigned_callers(written, store),
        *of_filer(store, bucket),
    )
    users_have_ids = dialect_of(store).readings.ids_are_user_names or store.acl_reading == "gateway"
    return Rules(
        bucket.name,
        msgspec.structs.replace(policy, statements=policy.statements + restrictions) if restrictions else policy,
        tuple(bucket.acl.value or ()),
        strongest(guards_of(bucket, store, "ignore_acls", "public ACLs ignored")),
        of_this_software(store, strongest(guards_of(bucket, store, "restrict_policies", "public policy restricted"))),
        tuple(doubts),
        tuple(bucket.rights.value or ()),
        enforced,
        members or {},
        *of_objects(bucket),
        _fixed(bucket, store),
        users_have_ids,
        _tenant(bucket, store),
        *_by_name(bucket),
        False,
        *_acl_permissions(store),
        dialect_of(store).readings.bypass_goes_with_deletion,
        dialect_of(store).readings.user_names_are_given,
        # measured on release 16.2: the guard refuses every upload and every part; a copy passes
        a_gateways(store) and strongest(guards_of(bucket, store, "refuse_new_acls", "")) != Guard(False),
        may_pass_through_points(bucket, store),
        content_networks(policy, store),
    )


_NONE: Answer[Any] = Answer("absent")


def objects_have_acls(store: Answering) -> bool:
    """Whether the store's software looks at objects' own ACLs."""
    readings = dialect_of(store).readings
    return not (readings.acls_let_unsigned_callers_read or readings.acls_grant_nothing)


def _by_ownership(bucket: BucketInputs) -> Guard:
    """What the ownership mode puts out of force. A bucket in which it disables ACLs has none that grants others
    anything: the published service refuses to set either beside the other. Where a store shows both, it is not that
    service, and which of them counts is not known. Source: the S3 family's documentation of object ownership."""
    acl, mode = bucket.acl.value or (), bucket.ownership
    if mode.unread and acl:
        return Guard(False, sure=False, source=f"the ownership mode could not be read ({mode.reason})")
    if mode.value != "bucket-owner-enforced":
        return Guard(False)
    beside = next((grant for grant in acl if grant.public or _of_another(grant, bucket.owner)), None)
    if beside is not None:
        words = f"the ownership mode disables ACLs, and the ACL grants {beside.words}: stores that do so refuse both"
        return Guard(False, sure=False, source=words)
    return Guard(True, source="the ownership mode disables ACLs")


def _of_another(grant: Grant, owner: Answer[str]) -> bool:
    return grant.to == "named" and bool(owner.value) and grant.identity != owner.value


def _acl_permissions(store: StoreInputs) -> tuple[AclPermissions, str]:
    """What ACLs' permissions allow in a store, and why they may allow as much as at a gateway."""
    if dialect_of(store).readings.acl_permissions_are_wider:
        return AT_GATEWAY, ""
    if dialect_of(store).readings.acls_let_unsigned_callers_read:
        return AT_SEAWEED, ""
    if unread_door(store.software) and store.dialect is None:
        return PUBLISHED, f"what this store's ACLs allow is not known ({store.software.reason})"
    return PUBLISHED, OTHER_RELEASE if store.acl_reading == "gateway" and not was_tried(store) else ""


def _tenant(bucket: BucketInputs, store: StoreInputs) -> Answer[str] | None:
    """The bucket's tenant, where own permissions apply only to buckets in their user's tenant."""
    if dialect_of(store).readings.own_permissions_stay_in_their_account:
        return bucket.tenant
    if store.acl_reading == "gateway" and store.dialect is None and unread_door(store.software):
        return Answer("failed", None, f"how this store's software reads it: {store.software.reason}")
    return None


def _by_name(bucket: BucketInputs) -> tuple[tuple[ObjectGrant, ...], str]:
    """What objects' own ACLs grant by name, and why they may grant more."""
    acls = bucket.object_acls.value
    if not may_have_acls(bucket):
        return (), ""
    grants = tuple(grant for grant in acls.acl if grant.to == "named") if acls else ()
    return grants, "" if acls and acls.names_complete else NAMED_ON_OBJECTS


NAMED_ON_OBJECTS = "objects' own ACLs may name others, and not all were read"


def _of_unsigned_users(store: StoreInputs) -> Dialect:
    """The store's dialect, as it reads a policy of a bucket: where requests without credentials are a user's, an Allow
    to everybody lets them do all that it says."""
    dialect = dialect_of(store)
    if store.unsigned_user.value is None or not dialect.readings.policies_let_unsigned_callers_only_read:
        return dialect
    whole = msgspec.structs.replace(dialect.readings, policies_let_unsigned_callers_only_read=False)
    return msgspec.structs.replace(dialect, readings=whole)


def as_the_store_reads(policy: Policy, store: Answering, dialect: Dialect | None = None) -> Policy:
    """The policy in the store's own dialect, or in the one that is given. Where what answers for the store could not be
    read, what not every dialect makes of it is in doubt."""
    if not unread_door(store.software) or store.dialect is not None:
        return as_read(policy, dialect or dialect_of(store))
    every = [as_read(policy, dialect).statements for dialect in SHIPPED.values()]
    if all(statements == policy.statements for statements in every):
        return policy
    common = set(every[0]).intersection(*every[1:])
    fault = Fault("", f"how this store's software reads it is not known ({store.software.reason})")
    read = dict.fromkeys(statement for statements in every for statement in statements)
    return Policy(
        tuple(s if s in common else msgspec.structs.replace(s, faults=(*s.faults, fault)) for s in read),
        policy.unreadable,
    )


def of_objects(bucket: BucketInputs) -> tuple[tuple[ObjectGrant, ...], str]:
    """What objects' own ACLs grant the public, and why they may grant more."""
    acls = bucket.object_acls
    if not may_have_acls(bucket):
        return (), ""
    if acls.value is None:
        return (), "" if acls.settled else f"objects may have their own ACLs: {acls.reason}"
    acl = tuple(acls.value.public)
    if not acls.value.complete:
        return acl, "objects may have their own ACLs, of which not all were read"
    return acl, ""


def _fixed(bucket: BucketInputs, store: StoreInputs) -> tuple[tuple[str, str], ...]:
    account, region = store.account_number or store.account.value or "", bucket.region.value or ""
    values = (("aws:resourceaccount", account), ("s3:resourceaccount", account), ("aws:requestedregion", region))
    return tuple((key, value) for key, value in values if value)


OF_UNREAD_ACCOUNT = Fault("/Condition", "it depends on the account that the bucket is in, which was not read")
_OF_AN_ACCOUNT = ("aws:principalaccount", "aws:principalarn", "aws:resourceaccount", "aws:sourceaccount")


def _of_no_known_account(policy: Policy) -> Policy:
    """A policy where it is not known which account is the bucket's own: conditions on accounts may say anything."""

    def doubted(statement: Statement) -> Statement:
        if not any(condition.key in _OF_AN_ACCOUNT for condition in statement.conditions):
            return statement
        kept = tuple(c for c in statement.conditions if c.key not in _OF_AN_ACCOUNT)
        return msgspec.structs.replace(statement, conditions=kept, faults=(*statement.faults, OF_UNREAD_ACCOUNT))

    return msgspec.structs.replace(policy, statements=tuple(map(doubted, policy.statements)))
