"""Everything that decides about one bucket, gathered from the dossier: policy, grants, guards, and doubts.

A *doubt* is an input that could not be read. It does not spoil every verdict: the deciders ask what would be so
if the unread input said the most, and if it said the least, and only where that differs the verdict is unknown.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.rewrite import as_read, in_its_tenant
from rusty_lantern.core.access.dialects.shipped import SHIPPED, Answering, dialect_of
from rusty_lantern.core.access.policy.container_acl import GatewayGuards, statements_of
from rusty_lantern.core.access.policy.document import Fault, Policy, Statement, parse_policy
from rusty_lantern.core.access.policy.principals import Principal, read_principal, user_named
from rusty_lantern.core.access.policy.rule_inputs import BucketInputs, StoreInputs, bucket_inputs, store_inputs
from rusty_lantern.core.access.policy.setting_refusals import of_network, of_payment
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
from rusty_lantern.core.model.acl import Grant, ObjectGrant
from rusty_lantern.core.model.bucket import AccountAcl, Bucket, ContainerAcl, Guards, Right
from rusty_lantern.core.model.dossier import Dossier


class Guard(msgspec.Struct, frozen=True):
    """One standing guard. `sure` is false where it may or may not be set, because it could not be read."""

    on: bool
    sure: bool = True
    source: str = ""


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
    """What objects' own ACLs are known to grant users by name, on an object each."""
    named_on_objects: str = ""
    """Why they may let in a user to more by name; empty where they do not."""
    of_one_identity: bool = False
    """Whether its own permissions are among them: they decide about nobody else."""

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
        return _strongest([self.disable_grants, *([self.ignore_acls] if granted.to != "named" else [])])

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
    doubts: list[tuple[str, str]] = []
    policy = Policy()
    if bucket.policy.value is not None:
        policy = as_the_store_reads(parse_policy(bucket.policy.value), store)
        if dialect_of(store).readings.resources_are_of_the_buckets_account:
            policy = in_its_tenant(policy, bucket.name)
    elif bucket.policy.unread:
        doubts.append(("policy", f"the policy could not be read ({bucket.policy.reason})"))
    if bucket.acl.unread and bucket.ownership.value != "bucket-owner-enforced":
        doubts.append(("acl", f"the ACL could not be read ({bucket.acl.reason})"))
    if bucket.rights.unread:
        doubts.append(("rights", f"the rights could not be read ({bucket.rights.reason})"))
    if unread_door(bucket.container_acl):
        doubts.append(("doors", f"the container ACL could not be read ({bucket.container_acl.reason})"))
    elif unread_door(_account_acl(bucket, store)):
        doubts.append(("doors", f"the account ACL could not be read ({_account_acl(bucket, store).reason})"))
    elif unread := [door for door in store.doors.value or () if not door.read and door.name in ("s3", "swift")]:
        doubts.append(("doors", f"the store's {unread[0].name} door was not read ({unread[0].note})"))
    elif unread_door(store.doors):
        doubts.append(("doors", f"which protocols the store answers is not known ({store.doors.reason})"))
    enforced = Guard(bucket.ownership.value == "bucket-owner-enforced", source="the ownership mode disables ACLs")
    if bucket.ownership.unread and bucket.acl.value:
        enforced = Guard(False, sure=False, source="the ownership mode could not be read")
    if store.account.unread and not store.account_number:
        policy = _of_no_known_account(policy)
    levels = (("bucket", bucket.network), ("store", store.network))
    restrictions = tuple(restriction for level, network in levels for restriction in of_network(level, network))
    restrictions += of_payment(bucket.requester_pays)
    restrictions += _of_other_doors(bucket, store, policy)
    users_have_ids = dialect_of(store).readings.ids_are_user_names or store.acl_reading == "gateway"
    return Rules(
        bucket.name,
        msgspec.structs.replace(policy, statements=policy.statements + restrictions) if restrictions else policy,
        tuple(bucket.acl.value or ()),
        _strongest(_guards(bucket, store, "ignore_acls", "public ACLs ignored")),
        _of_this_software(store, _strongest(_guards(bucket, store, "restrict_policies", "public policy restricted"))),
        tuple(doubts),
        tuple(bucket.rights.value or ()),
        enforced,
        members or {},
        *of_objects(bucket),
        _fixed(bucket, store),
        users_have_ids,
        _tenant(bucket, store),
        *(_naming_users(bucket) if users_have_ids else ()),
    )


def _tenant(bucket: BucketInputs, store: StoreInputs) -> Answer[str] | None:
    """The bucket's tenant, where own permissions apply only to buckets in their user's tenant."""
    if dialect_of(store).readings.own_permissions_stay_in_their_account:
        return bucket.tenant
    if store.acl_reading == "gateway" and store.dialect is None and unread_door(store.software):
        return Answer("failed", None, f"how this store's software reads it: {store.software.reason}")
    return None


def _naming_users(bucket: BucketInputs) -> tuple[tuple[ObjectGrant, ...], str]:
    """What objects' own ACLs grant by name, and why they may grant more, in a store whose ACLs name users. Elsewhere
    they name accounts, whose users need permissions of their own as well."""
    acls = bucket.object_acls.value
    if not _may_have_acls(bucket):
        return (), ""
    grants = tuple(grant for grant in acls.acl if grant.to == "named") if acls else ()
    return grants, "" if acls and acls.names_complete else NAMED_ON_OBJECTS


NAMED_ON_OBJECTS = "objects' own ACLs may name users, and not all were read"


def as_the_store_reads(policy: Policy, store: Answering) -> Policy:
    """The policy in the store's own dialect. Where what answers for the store could not be read, what not every dialect
    makes of it is in doubt."""
    if not unread_door(store.software) or store.dialect is not None:
        return as_read(policy, dialect_of(store))
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


def _of_this_software(store: StoreInputs, guard: Guard) -> Guard:
    """The guard on public policies as the store's software takes it: a gateway keeps it, and release 16.2 lets a
    standing policy count all the same (measured); whether another release does is not known."""
    kept = dialect_of(store).readings.public_policies_count_under_their_guard or store.acl_reading == "gateway"
    if not kept or (guard.sure and not guard.on):
        return guard
    return Guard(False, sure=False, source="gateways of this kind may not apply the guard on public policies")


def unread_door(answer: Answer[Any]) -> bool:
    """Whether there may be an ACL behind another door. A dossier without one has none."""
    return answer.unread and answer.note != NOT_IN_DOSSIER


def _account_acl(bucket: BucketInputs, store: StoreInputs) -> Answer[AccountAcl]:
    """The ACL of the account that the bucket is in."""
    own = bucket.owner_acl
    return store.account_acl if own.state == "unsupported" or own.note == NOT_IN_DOSSIER else own


def _of_other_doors(bucket: BucketInputs, store: StoreInputs, policy: Policy) -> tuple[Statement, ...]:
    """What container and account ACLs allow; the two ways to look at a Referer are not weighed against each other."""
    acl, account = bucket.container_acl.value, _account_acl(bucket, store).value
    if acl is None and account is None and store.acl_reading != "gateway":
        return ()
    ignored = _strongest(_guards(bucket, store, "ignore_acls", ""))
    refused = _strongest(_guards(bucket, store, "refuse_new_acls", ""))
    guards = GatewayGuards(*(guard.on if guard.sure else None for guard in (ignored, refused)))
    statements = statements_of(acl or ContainerAcl(), account, store.acl_reading, guards)
    if not any(condition.key == "aws:referer" for s in policy.statements for condition in s.conditions):
        return statements
    fault = Fault("/Condition", "the policy and the container ACL both look at the Referer")
    return tuple(msgspec.structs.replace(s, faults=(*s.faults, fault)) if s.conditions else s for s in statements)


def of_objects(bucket: BucketInputs) -> tuple[tuple[ObjectGrant, ...], str]:
    """What objects' own ACLs grant the public, and why they may grant more."""
    acls = bucket.object_acls
    if not _may_have_acls(bucket):
        return (), ""
    if acls.value is None:
        return (), "" if acls.settled else f"objects may have their own ACLs: {acls.reason}"
    acl = tuple(acls.value.public)
    if not acls.value.complete:
        return acl, "objects may have their own ACLs, of which not all were read"
    return acl, ""


def _may_have_acls(bucket: BucketInputs) -> bool:
    """Whether there may be objects whose own ACLs count."""
    by_bucket = bucket.ownership.value == "bucket-owner-enforced" or bucket.granted_by.value == "bucket"
    by_each = bucket.granted_by.value == "object" or unread_door(bucket.granted_by)
    without = bucket.acl.state in ("absent", "unsupported") and not by_each
    return not (by_bucket or bucket.holds_nothing or without)


def _fixed(bucket: BucketInputs, store: StoreInputs) -> tuple[tuple[str, str], ...]:
    account, region = store.account_number or store.account.value or "", bucket.region.value or ""
    values = (("aws:resourceaccount", account), ("s3:resourceaccount", account), ("aws:requestedregion", region))
    return tuple((key, value) for key, value in values if value)


_OF_AN_ACCOUNT = ("aws:principalaccount", "aws:principalarn", "aws:resourceaccount", "aws:sourceaccount")


def _of_no_known_account(policy: Policy) -> Policy:
    """A policy where it is not known which account is the bucket's own: conditions on accounts may say anything."""
    fault = Fault("/Condition", "it depends on the account that the bucket is in, which was not read")

    def doubted(statement: Statement) -> Statement:
        if not any(condition.key in _OF_AN_ACCOUNT for condition in statement.conditions):
            return statement
        kept = tuple(c for c in statement.conditions if c.key not in _OF_AN_ACCOUNT)
        return msgspec.structs.replace(statement, conditions=kept, faults=(*statement.faults, fault))

    return msgspec.structs.replace(policy, statements=tuple(map(doubted, policy.statements)))


def _guards(bucket: BucketInputs, store: StoreInputs, name: str, words: str) -> list[Guard]:
    """A guard holds if it is set at either level; the account's overrides the bucket's own switch."""
    levels: list[tuple[str, Answer[Guards]]] = [
        ("account", store.public_access_guards),
        ("bucket", bucket.public_access_guards),
    ]
    guards = []
    for level, answer in levels:
        if answer.value is not None:
            guards.append(Guard(getattr(answer.value, name), source=f"{words} by the {level}'s public-access guard"))
        elif answer.unread:
            guards.append(Guard(False, sure=False, source=f"the {level}'s public-access guards could not be read"))
    return guards


def _strongest(public_access_guards: list[Guard]) -> Guard:
    return next(
        (guard for guard in public_access_guards if guard.on),
        next((guard for guard in public_access_guards if not guard.sure), Guard(False)),
    )
