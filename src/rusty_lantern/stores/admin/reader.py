"""Reading a gateway by its administration door: signed GETs of a user with the capabilities that estate.yaml names.

It has the only full list of a gateway's buckets and users. For each bucket it shows the grants and the policy as the
store itself holds them: a cross-check of what the other doors show; a difference is drift of its own.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypeVar
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import Bucket, Quota, SharedQuota
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.core.model.dossier import Door, Dossier
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.stores.admin.documents import (
    POLICY,
    AclAnswer,
    BucketStats,
    Instance,
    Keys,
    User,
    acl_of,
    guards_of,
    rewritten,
)
from rusty_lantern.stores.admin.people import account_acl, people_of
from rusty_lantern.stores.crew import at_once, wanted_names
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import refusal_of

T = TypeVar("T")
KEYS = ("temporary_url_key", "synchronization_key")
"""What a Swift door alone may show of a bucket that this door found."""
NO_QUOTA_SHOWN = (
    "neither it nor its owner has one; whether one holds for the whole gateway, no door shows: declare it (stated:)"
)
ELSEWHERE = "the S3 door does not show this bucket to its credential; only the administration door shows it"


@dataclass
class AdminDoor:
    """One administration door."""

    client: Client
    moment: datetime

    async def ask(self, path: str, query: tuple[tuple[str, str], ...], wanted: type[T]) -> T:
        """One answer, as its type has it. Raises `RequestFailed`."""
        root = urlsplit(self.client.store.at).path.rstrip("/")
        reply = await self.client.ask(path=f"{root}/{path}", query=query, reshape=lambda body: rewritten(body, wanted))
        if reply.status != 200:
            raise refusal_of(reply)
        if not reply.body:
            raise RequestFailed("failed", "the answer is not the document that was asked for", "unreadable answer")
        return msgspec.json.decode(reply.body, type=wanted)

    async def names(self) -> list[str]:
        """The names of every bucket of every owner, as anybody may ask for them: `TENANT:NAME` in a tenant."""
        return [name.replace("/", ":", 1) for name in await self.ask("bucket", (), list[str])]

    async def buckets(self) -> list[BucketStats]:
        """Every bucket of every owner."""
        return await self.ask("bucket", (("stats", "true"),), list[BucketStats])

    async def users(self) -> list[User]:
        """Every user."""
        names: list[str] = []
        marker = ""
        while True:
            query = (("list", ""), ("max-entries", "1000"), *((("marker", marker),) if marker else ()))
            page = await self.ask("user", query, Keys)
            names += page.keys
            if str(page.truncated).lower() != "true" or not page.marker or page.marker == marker:
                break
            marker = page.marker
        return await at_once([self.ask("user", (("uid", name),), User) for name in names])

    async def people(self) -> Answer[list[User]]:
        """Every user, or why they are not known."""
        evidence = Evidence("GET /admin/user?list", "200", self.moment)
        try:
            return Answer("known", await self.users(), "", evidence)
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(evidence.question, error.answer, self.moment))

    async def held(self, bucket: BucketStats) -> tuple[AclAnswer | RequestFailed, Instance | RequestFailed]:
        """A bucket's grants, and its attributes, as the store holds them; each may be refused."""
        name = f"{bucket.tenant}/{bucket.bucket}" if bucket.tenant else bucket.bucket
        answers: list[Any] = []
        for path, query, wanted in (
            ("bucket", (("policy", ""), ("bucket", name)), AclAnswer),
            ("metadata/bucket.instance", (("key", f"{name}:{bucket.id}"),), Instance),
        ):
            try:
                answers.append(await self.ask(path, query, wanted))
            except RequestFailed as error:
                answers.append(error)
        return answers[0], answers[1]

    async def kept_of(self, user: str) -> Answer[Instance]:
        """What the store keeps of a user besides."""
        evidence = Evidence(f"GET /admin/metadata/user ({user})", "200", self.moment)
        try:
            return Answer("known", await self.ask("metadata/user", (("key", user),), Instance), "", evidence)
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(evidence.question, error.answer, self.moment))


async def with_admin(
    door: AdminDoor, read: Dossier, only: tuple[tuple[str, ...], ...], roles: list[Identity]
) -> Dossier:
    """The dossier with every bucket and user that the door shows, and with the roles that it does not show. Never
    raises for what the store does."""
    moment, at = door.moment, door.client.store.at
    try:
        listed = await door.buckets()
    except RequestFailed as error:
        return _noted(read, Door("admin", at, note=error.note))
    names = {stats.name: stats for stats in listed}
    wanted = {name: names[name] for name in wanted_names(list(names), *only)}
    held = await at_once(map(door.held, wanted.values()))
    known = {bucket.name: bucket for bucket in read.buckets}
    users = await door.people()
    ids = sorted({stats.owner for stats in wanted.values()} | {user.name for user in users.value or ()})
    kept = dict(zip(ids, await at_once(map(door.kept_of, ids)), strict=True))
    for (name, stats), (acl, instance) in zip(wanted.items(), held, strict=True):
        before = known.get(name)
        merged = _merged(before, name, stats, (users, acl, instance), moment)
        merged = merged if before is not None else _as_offered(merged, read.buckets)
        owners_acl = account_acl(kept[stats.owner])
        own = before is not None and read.account_acl.settled and not owners_acl.settled
        known[name] = merged if own else msgspec.structs.replace(merged, owner_acl=owners_acl)
    people = people_of(users, kept)
    if roles:
        people["identities"] = people["identities"].map(
            lambda listed: [one for one in listed if one.name != "any role"] + roles
        )
    dossier = msgspec.structs.replace(
        read,
        acl_reading=read.acl_reading or "gateway",
        doors=read.doors.map(lambda doors: [_read_here(one) for one in doors]),
        buckets=sorted(known.values(), key=lambda bucket: bucket.name),
        listing=Answer("known", len(names), "", Evidence("GET /admin/bucket?stats=true", "200", moment)),
        temporary_url_key=link_keys(users, read),
        **people,
    )
    return _noted(dossier, Door("admin", at, read=True))


def link_keys(users: Answer[list[User]], read: Dossier) -> Answer[bool]:
    """Whether a user has a key of temporary URLs: it opens every container of that user's. A store of the Swift
    protocol is one account, and says so of itself."""
    if read.protocol == "swift" or users.value is None:
        return read.temporary_url_key
    having = [user.name for user in users.value if user.temp_url_keys]
    if not having and any(user.temp_url_keys is None for user in users.value):
        return read.temporary_url_key
    if not having:
        return Answer("absent", evidence=users.evidence)
    return Answer("known", True, f"of {', '.join(having)}", users.evidence)


def _read_here(door: Door) -> Door:
    """A Swift door that was not read itself: this door shows its ACLs, bucket by bucket."""
    if door.name != "swift" or door.read:
        return door
    return Door("swift", door.at, read=True, note="its ACLs were read at the administration door", found=door.found)


def _noted(read: Dossier, door: Door) -> Dossier:
    return msgspec.structs.replace(read, doors=Answer("known", [*(read.doors.value or ()), door]))


def _merged(
    before: Bucket | None, name: str, stats: BucketStats, held: tuple[Answer[list[User]], Any, Any], moment: datetime
) -> Bucket:
    """A bucket with what the administration door shows of it; what other doors showed stays, and is compared with
    it. `held`: the store's users, and the bucket's ACL and attributes as the store holds them."""
    users, acl, instance = held
    evidence = Evidence(f"GET /admin/bucket?stats=true ({name})", "200", moment)
    shown: dict[str, Answer[Any]] = {
        "owner": Answer("known", stats.owner, "", evidence),
        "tenant": Answer("known", stats.tenant, "", evidence) if stats.tenant else Answer("absent", evidence=evidence),
        "tier": Answer("known", stats.placement_rule, "", evidence),
        "quota": quota_of(stats, users, evidence),
        "counters": _counters(stats, evidence),
        **held_acl(acl, name, moment),
        **held_record(instance, name, moment),
    }
    if stats.creation_time:
        shown["created"] = Answer("known", stats.creation_time, "", evidence)
    if before is None:
        lost: Answer[Any] = Answer("denied", None, ELSEWHERE)
        fields = S3.of_bucket() | dict.fromkeys(S3.tells, lost) | dict.fromkeys(KEYS, lost)
        return Bucket(name=name, **fields | shown)
    differing = [field for field in ("policy", "container_acl") if _differs(getattr(before, field), shown.get(field))]
    kept = {field: answer for field, answer in shown.items() if not getattr(before, field).settled}
    in_blocks = sum(one.size_actual for one in stats.usage.values())
    counters = before.counters.map(lambda counted: msgspec.structs.replace(counted, in_blocks=in_blocks))
    kept.setdefault("counters", counters)
    check: Answer[list[str]] = (
        Answer("known", differing, "", evidence)
        if shown["acl"].settled
        else Answer("failed", None, shown["acl"].note, evidence)
    )
    return msgspec.structs.replace(before, **kept | {"tier": shown["tier"], "differs_by_door": check})


def _as_offered(bucket: Bucket, shown: Sequence[Bucket]) -> Bucket:
    """A bucket that the S3 door does not show: what that door offers none of those that it shows, it offers of none."""
    offered_none = {
        field: getattr(shown[0], field)
        for field in S3.tells
        if shown
        and getattr(bucket, field).note == ELSEWHERE
        and all(getattr(b, field).state == "unsupported" for b in shown)
    }
    return msgspec.structs.replace(bucket, **offered_none)


def _differs(one: Answer[Any], other: Answer[Any] | None) -> bool:
    if other is None or not one.settled or not other.settled:
        return False
    return bool(_plain(one.value) != _plain(other.value))


def _plain(value: Any) -> Any:
    """A value as it is compared: a policy by what it says, an ACL by its entries in any order."""
    if isinstance(value, str):
        try:
            return json.loads(value)
        except ValueError:
            return value
    if value is None or not (value.read or value.write):
        return None
    return tuple(tuple(sorted(filter(None, side.split(",")))) for side in (value.read, value.write))


def quota_of(stats: BucketStats, users: Answer[list[User]], evidence: Evidence) -> Answer[Quota]:
    """The quotas in force on a bucket: its own, or else the one that its owner has for each bucket; and the one that
    the owner has for all of them together (tried on 16.2). One that holds for the whole gateway is shown nowhere."""
    if users.value is None:
        return Answer(users.state, None, f"the quotas of its owner: {users.note}", users.evidence)
    owner = next((user for user in users.value if user.name == stats.owner), None)
    if owner is None or owner.account_id or owner.bucket_quota is None or owner.user_quota is None:
        return Answer("failed", None, "the quotas of its owner are not shown", evidence)
    each = stats.bucket_quota if stats.bucket_quota.enabled else owner.bucket_quota
    together = owner.user_quota
    if each.shut or together.shut:
        return Answer("failed", None, "a quota of 0 is in force: nothing more can be stored", evidence)
    limits = SharedQuota(together.bytes, together.objects, in_blocks=not together.check_on_raw)
    shared = [limits] if limits.bytes or limits.objects else []
    if not (each.enabled or shared):
        return Answer("hidden", None, NO_QUOTA_SHOWN, evidence)
    return Answer("known", Quota(each.bytes, each.objects, not each.check_on_raw, shared), "", evidence)


def _counters(stats: BucketStats, evidence: Evidence) -> Answer[Usage]:
    counted = stats.usage.values()
    total = Usage(
        sum(one.num_objects for one in counted),
        sum(one.size for one in counted),
        by="counters",
        in_blocks=sum(one.size_actual for one in counted),
    )
    return Answer("known", total, "", evidence)


def held_acl(acl: Any, name: str, moment: datetime) -> dict[str, Answer[Any]]:
    """The ACLs of both doors, as a bucket's own answer has them."""
    question = f"GET /admin/bucket?policy ({name})"
    if isinstance(acl, RequestFailed):
        lost: Answer[Any] = Answer(acl.state, None, acl.note, Evidence(question, acl.answer, moment))
        return {"acl": lost, "container_acl": lost}
    evidence = Evidence(question, "200", moment)
    try:
        grants, container = acl_of(acl)
    except ValueError as error:
        unclear: Answer[Any] = Answer("failed", None, str(error), evidence)
        return {"acl": unclear, "container_acl": unclear}
    shown = container.read or container.write
    return {
        "acl": Answer("known", grants, "", evidence),
        "container_acl": Answer("known" if shown else "absent", container if shown else None, "", evidence),
    }


def held_record(instance: Any, name: str, moment: datetime) -> dict[str, Answer[Any]]:
    """What a bucket's own record holds: its policy, its guards, and whether its owner is suspended."""
    question = f"GET /admin/metadata/bucket.instance ({name})"
    if isinstance(instance, RequestFailed):
        lost: Answer[Any] = Answer(instance.state, None, instance.note, Evidence(question, instance.answer, moment))
        return {"policy": lost, "public_access_guards": lost, "enabled": lost}
    evidence = Evidence(question, "200", moment)
    suspended = instance.suspended
    enabled: Answer[bool] = Answer("known", not suspended, "its owner is suspended" if suspended else "", evidence)
    return {
        "enabled": Answer("failed", None, "its record is not shown", evidence) if suspended is None else enabled,
        "policy": _kept(lambda: instance.value(POLICY).decode(), evidence),
        "public_access_guards": _kept(lambda: guards_of(instance), evidence),
    }


def _kept(read: Callable[[], Any], evidence: Evidence) -> Answer[Any]:
    """What an attribute says; absent where there is none, failed where it cannot be read."""
    try:
        value = read()
    except ValueError as error:
        return Answer("failed", None, str(error), evidence)
    return Answer("known", value, "", evidence) if value else Answer("absent", evidence=evidence)
